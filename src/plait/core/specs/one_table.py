"""The options of the operations on one table: mend, settle, group, widen, lengthen."""

from __future__ import annotations

from dataclasses import replace

from plait.core.specs.option import InputArity, OperationSpec, Option, OptionKind
from plait.core.specs.shared import COMPARING, LOOSER, TYPING

_MISSING, _TYPE, _UNFIT = TYPING
_OPTIONS = (
    Option("header", OptionKind.NAMES, "new names for all columns", placeholder="NAME,…"),
    Option("rename", OptionKind.PAIRS, "rename columns", placeholder="OLD=NEW"),
    _MISSING,
    Option(
        "trim",
        OptionKind.ALL_OR_SOME,
        "remove spaces at both ends of cells, in all columns or only in these",
        placeholder="COLUMN,…",
    ),
    Option(
        "split",
        OptionKind.LINES,
        "split the cells of a column into several new columns",
        placeholder="'COLUMN:DELIMITERS into A,B'",
    ),
    Option(
        "replace_value",
        OptionKind.LINES,
        "replace whole cells; an empty OLD or NEW means a missing cell",
        placeholder="COLUMN:OLD=NEW",
    ),
    Option(
        "fill",
        OptionKind.PAIRS,
        "fill the missing cells of a column with a value, or with the cell above (down)",
        placeholder="COLUMN=VALUE|down",
    ),
    _TYPE,
    _UNFIT,
    Option(
        "compute",
        OptionKind.EXPRESSIONS,
        "compute a column with an SQL expression over the others; on a command "
        "line, --compute before --type uses the cells as they were before types "
        "were set",
        placeholder="COLUMN=EXPRESSION",
    ),
    Option(
        "where",
        OptionKind.TEXT,
        "keep the rows that meet an SQL condition, and set the others aside",
        placeholder="CONDITION",
    ),
    Option(
        "sort",
        OptionKind.NAMES,
        "the columns to sort by; 'COLUMN desc' sorts the largest first",
        placeholder="COLUMN,…",
    ),
    Option("drop", OptionKind.NAMES, "the columns to remove", placeholder="COLUMN,…"),
    Option(
        "keep",
        OptionKind.NAMES,
        "the columns to keep; all others are removed",
        placeholder="COLUMN,…",
    ),
    Option("order", OptionKind.NAMES, "the columns to move to the front", placeholder="COLUMN,…"),
)
MEND = OperationSpec(
    name="mend",
    function="plait.core.operations.mend:mend",
    progress_text="mending",
    arity=InputArity.ONE,
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
    options=tuple(replace(o, group="changes, applied in this order") for o in _OPTIONS),
    python_inputs=("source",),
    positional_count=0,
    doctest="""\
>>> visits = {"kg": [12.5, 9.0]}
>>> mend(visits, compute={"half": "kg / 2"}, where="kg > 9").table.to_dict()
{'kg': [12.5], 'half': [6.25]}""",
)

SETTLE = OperationSpec(
    name="settle",
    function="plait.core.operations.settle:settle_tables",
    progress_text="settling",
    arity=InputArity.ALL,
    inputs="a source or result; several are stacked first",
    meaning="Reduce the rows of each key to one.",
    description=(
        "Reduce the rows of each key to one, with a rule for each column. Several "
        "sources are stacked first. Without rules, all cells of a column must "
        "agree; otherwise the key is in conflict and its rows are set aside."
    ),
    examples=(
        "plait settle register.csv --key yard,hive --out hives.csv",
        "plait settle register.csv --key yard,hive --rule breed=newest-by:entered --out hives.csv",
        "plait settle register.csv --key yard,hive --keep-rule first --out hives.csv",
    ),
    options=(
        Option(
            "key",
            OptionKind.KEY,
            "the columns that identify a record",
            placeholder="COLUMN,…",
            required=True,
        ),
        Option(
            "rule",
            OptionKind.PAIRS,
            "the rule for a column: agree, first, last, min, max, sum, mean, longest, "
            "commonest, newest-by:COLUMN or oldest-by:COLUMN; missing cells are ignored",
            placeholder="COLUMN=RULE",
            parameter="rules",
        ),
        Option(
            "otherwise",
            OptionKind.TEXT,
            "the rule for all other columns",
            "agree",
            placeholder="RULE",
        ),
        Option(
            "keep_rule",
            OptionKind.TEXT,
            "keep one whole row of each key instead: first, last, fullest, "
            "newest-by:COLUMN or oldest-by:COLUMN",
            placeholder="RULE",
        ),
        *COMPARING,
    ),
    python_inputs=("source",),
    positional_count=1,
    doctest="""\
>>> hives = {"hive": ["1", "1"], "breed": ["Carnica", "Buckfast"]}
>>> settle(hives, "hive", rule={"breed": "last"}).table.to_dict()
{'hive': ['1'], 'breed': ['Buckfast']}""",
)

GROUP = OperationSpec(
    name="group",
    function="plait.core.operations.group:group",
    progress_text="grouping",
    arity=InputArity.ONE,
    inputs="a source or result",
    meaning="Counts, sums and other figures for each group of rows.",
    description=(
        "Compute counts, sums and other figures for each group of rows. The result "
        "has one row per group or, on request, every row with the figures of its "
        "group. Sums of decimals are exact. Rows with no value in a grouping column "
        "form a group of their own."
    ),
    examples=(
        "plait group visits.csv --by Yard --take Visits=count --take 'Honey=sum:Honey kg' "
        "--out yards.csv",
        "plait group visits.csv --by Yard,Seen:month --take 'Mean=mean:Honey kg' --out months.csv",
        "plait group visits.csv --by Yard --take 'Share=share:Honey kg' --onto-rows "
        "--out shares.csv",
    ),
    options=(
        Option(
            "by",
            OptionKind.COLUMNS,
            "the columns to group by; for dates also COLUMN:month, COLUMN:quarter, "
            "COLUMN:week or COLUMN:year (default: all rows form one group)",
            placeholder="COLUMN,…",
        ),
        Option(
            "take",
            OptionKind.PAIRS,
            "the figures to compute, each a new column: count, distinct, sum, mean "
            "(average), middle (median), smallest (min), largest (max), spread (stdev), "
            "first, last, commonest, share; also rank, where every row is kept. "
            "NEW=count counts rows; NEW=share is the group's share of all rows",
            placeholder="NEW=FIGURE:COLUMN",
        ),
        Option("onto_rows", OptionKind.FLAG, "keep every row, and add the figures of its group"),
        Option(
            "places",
            OptionKind.WHOLE,
            "the decimal places of means, shares and spreads (default: four more than the column "
            "for means, ten for shares)",
            placeholder="N",
        ),
        *(replace(option, group="") for option in LOOSER),
    ),
    python_inputs=("source",),
    positional_count=2,
    doctest="""\
>>> visits = {"yard": ["A", "A"], "kg": [7, 5]}
>>> group(visits, "yard", {"honey": "sum:kg"}).table.to_dict()
{'yard': ['A'], 'honey': [12]}""",
)

WIDEN = OperationSpec(
    name="widen",
    function="plait.core.operations.reshape:widen",
    progress_text="widening",
    arity=InputArity.ONE,
    inputs="a source or result",
    meaning="Long to wide: one column for each value of a column.",
    description=(
        "Reshape long to wide: one column for each value of a column, and one row for each key."
    ),
    examples=(
        "plait widen visits.csv --key Yard,Hive --heads Month --cells 'Honey kg' --rule sum "
        "--out honey.csv",
    ),
    options=(
        Option(
            "heads",
            OptionKind.COLUMN,
            "the column whose values become the headings of the new columns; for dates also "
            "COLUMN:month, COLUMN:quarter, COLUMN:week or COLUMN:year",
            placeholder="COLUMN",
            required=True,
        ),
        Option(
            "cells",
            OptionKind.COLUMNS,
            "the column or columns that fill the new columns",
            placeholder="COLUMN,…",
            required=True,
        ),
        Option(
            "key",
            OptionKind.COLUMNS,
            "the columns that identify a row (default: all other columns)",
            placeholder="COLUMN,…",
        ),
        Option(
            "rule",
            OptionKind.TEXT,
            "how to combine several rows that belong in one cell: agree, first, last, "
            "min, max, sum, mean, longest or commonest; with agree, rows that differ "
            "are set aside",
            "agree",
            placeholder="RULE",
        ),
    ),
    python_inputs=("source",),
    positional_count=2,
    doctest="""\
>>> honey = {"hive": ["1", "1"], "month": ["04", "05"], "kg": ["3", "9"]}
>>> widen(honey, "month", "kg").table.to_dict()
{'hive': ['1'], '04': ['3'], '05': ['9']}""",
)

LENGTHEN = OperationSpec(
    name="lengthen",
    function="plait.core.operations.reshape:lengthen",
    progress_text="lengthening",
    arity=InputArity.ONE,
    inputs="a source or result",
    meaning="Wide to long: one row for each cell of chosen columns.",
    description=(
        "Reshape wide to long: write the cells of several columns one below the "
        "other, each with the heading of its column."
    ),
    examples=(
        "plait lengthen honey.csv --key Yard,Hive --heads Month --cells 'Honey kg' "
        "--without-missing --out long.csv",
    ),
    options=(
        Option(
            "heads",
            OptionKind.TEXT,
            "the name of the new column that holds the headings",
            placeholder="NEW",
            required=True,
        ),
        Option(
            "cells",
            OptionKind.TEXT,
            "the name of the new column that holds the cells",
            placeholder="NEW",
            required=True,
        ),
        Option(
            "columns", OptionKind.COLUMNS, "the columns to turn into rows", placeholder="COLUMN,…"
        ),
        Option(
            "key",
            OptionKind.COLUMNS,
            "the columns to keep; all others are turned into rows (instead of naming those)",
            placeholder="COLUMN,…",
        ),
        Option("without_missing", OptionKind.FLAG, "leave out rows whose cell is missing"),
    ),
    python_inputs=("source",),
    positional_count=2,
    doctest="""\
>>> honey = {"hive": ["1"], "04": ["3"], "05": ["9"]}
>>> lengthen(honey, "month", "kg", key="hive").table.to_dict()
{'hive': ['1', '1'], 'month': ['04', '05'], 'kg': ['3', '9']}""",
)
