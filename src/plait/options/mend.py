"""What ``mend`` can be asked for, in the order in which it is done."""

from __future__ import annotations

from dataclasses import replace

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import TYPING

_MISSING, _TYPE, _UNFIT = TYPING
_OPTIONS = (
    Option("header", Form.NAMES, "names for all the columns", shown="NAME,…"),
    Option("rename", Form.PAIRS, "old name to new one", shown="OLD=NEW"),
    _MISSING,
    Option(
        "trim",
        Form.ALL_OR_SOME,
        "take spaces off both ends of cells; of all columns, or of these",
        shown="COLUMN,…",
    ),
    Option(
        "split",
        Form.LINES,
        "put the parts of a field in columns of their own",
        shown="'COLUMN:SIGNS into A,B'",
    ),
    Option(
        "replace_value",
        Form.LINES,
        "replace whole cells; nothing for OLD or NEW: missing",
        shown="COLUMN:OLD=NEW",
    ),
    Option(
        "fill",
        Form.PAIRS,
        "fill missing cells of a column, with a value or the cell above",
        shown="COLUMN=VALUE|down",
    ),
    _TYPE,
    _UNFIT,
    Option(
        "compute",
        Form.EXPRESSIONS,
        "a column from an SQL expression over the others; on a command line before types are set "
        "where it comes before --type",
        shown="COLUMN=EXPRESSION",
    ),
    Option(
        "where",
        Form.TEXT,
        "keep rows on which an SQL condition holds; the others are set aside",
        shown="CONDITION",
    ),
    Option(
        "sort",
        Form.NAMES,
        "columns to sort by; 'COLUMN desc' for greatest first",
        shown="COLUMN,…",
    ),
    Option("drop", Form.NAMES, "columns to leave out", shown="COLUMN,…"),
    Option("keep", Form.NAMES, "the only columns to leave in", shown="COLUMN,…"),
    Option("order", Form.NAMES, "columns to put first", shown="COLUMN,…"),
)
MEND = Verb(
    name="mend",
    function="plait.core.verbs.mend:mend",
    doing="mending",
    takes=Takes.ONE,
    inputs="a source or result",
    meaning="One table put right, in the order of these keys.",
    description="Put one table right: names, missing cells, types, fields that hold several "
    "things, computed columns, which rows and columns to keep. What is asked for is done in the "
    "order in which it is listed here.",
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
