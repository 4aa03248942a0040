"""What ``mend`` can be asked for, in the order in which it is done."""

from __future__ import annotations

from dataclasses import replace

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import TYPING

_MISSING, _TYPE, _UNFIT = TYPING
_OPTIONS = (
    Option("header", Form.NAMES, "new names for all columns", shown="NAME,…"),
    Option("rename", Form.PAIRS, "rename columns", shown="OLD=NEW"),
    _MISSING,
    Option(
        "trim",
        Form.ALL_OR_SOME,
        "remove spaces at both ends of cells, in all columns or only in these",
        shown="COLUMN,…",
    ),
    Option(
        "split",
        Form.LINES,
        "split the cells of a column into several new columns",
        shown="'COLUMN:SIGNS into A,B'",
    ),
    Option(
        "replace_value",
        Form.LINES,
        "replace whole cells; an empty OLD or NEW means a missing cell",
        shown="COLUMN:OLD=NEW",
    ),
    Option(
        "fill",
        Form.PAIRS,
        "fill the missing cells of a column with a value, or with the cell above (down)",
        shown="COLUMN=VALUE|down",
    ),
    _TYPE,
    _UNFIT,
    Option(
        "compute",
        Form.EXPRESSIONS,
        "compute a column with an SQL expression over the others; on a command "
        "line, --compute before --type uses the cells as they were before types "
        "were set",
        shown="COLUMN=EXPRESSION",
    ),
    Option(
        "where",
        Form.TEXT,
        "keep the rows that meet an SQL condition, and set the others aside",
        shown="CONDITION",
    ),
    Option(
        "sort",
        Form.NAMES,
        "the columns to sort by; 'COLUMN desc' sorts the largest first",
        shown="COLUMN,…",
    ),
    Option("drop", Form.NAMES, "the columns to remove", shown="COLUMN,…"),
    Option("keep", Form.NAMES, "the columns to keep; all others are removed", shown="COLUMN,…"),
    Option("order", Form.NAMES, "the columns to move to the front", shown="COLUMN,…"),
)
MEND = Verb(
    name="mend",
    function="plait.core.verbs.mend:mend",
    doing="mending",
    takes=Takes.ONE,
    inputs="a source or result",
    meaning="Clean up one table, in the order of these keys.",
    description=(
        "Clean up one table: column names, missing cells, types, fields that hold "
        "several values, computed columns, and which rows and columns to keep. The "
        "changes are made in the order in which the options are listed here."
    ),
    examples=(
        "plait mend visits.csv --rename 'Hive no.=Hive' --compute 'Half=kg / 2' --where 'kg > 0' "
        "--out mended.csv",
    ),
    options=tuple(replace(one, group="mending") for one in _OPTIONS),
    given=("source",),
    by_place=0,
    session="""\
>>> visits = {"kg": [12.5, 9.0]}
>>> mend(visits, compute={"half": "kg / 2"}, where="kg > 9").table.to_dict()
{'kg': [12.5], 'half': [6.25]}""",
)
