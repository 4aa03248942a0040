"""The options of the operations on several tables: stack, join, beside, keys, compare."""

from __future__ import annotations

from plait.core.keys.match import CARDINALITIES, JOIN_KINDS
from plait.core.specs.one_table import GROUP, LENGTHEN, MEND, SETTLE, WIDEN
from plait.core.specs.option import InputArity, OperationSpec, Option, OptionKind
from plait.core.specs.shared import COMPARING, LABEL, LOOSER, source_column_option

STACK = OperationSpec(
    name="stack",
    function="plait.core.operations.stack:stack",
    progress_text="stacking",
    arity=InputArity.ALL,
    inputs="sources and results, in order",
    meaning="Append rows of several sources, matching columns by name.",
    description=(
        "Append the rows of several files, matching columns by name. The first file "
        "sets the order of the columns. Where a file lacks a column, its rows have "
        "no value in it."
    ),
    examples=("plait stack 'inspections/*.csv' --label month={stem} --out visits.csv",),
    options=(
        LABEL,
        Option(
            "distinct",
            OptionKind.FLAG,
            "leave out rows that repeat an earlier row in every column of the sources",
        ),
        Option(
            "number", OptionKind.COLUMN, "add a column that numbers the rows", placeholder="COLUMN"
        ),
        Option(
            "same",
            OptionKind.SEVERAL,
            "stack the columns OLD under the heading NEW",
            placeholder="NEW=OLD,…",
        ),
        Option(
            "fold_headers",
            OptionKind.FLAG,
            "treat headings as equal if they differ only in case, spaces or punctuation",
        ),
        Option(
            "by",
            OptionKind.CHOICE,
            "match columns by name, or by position",
            "name",
            ("name", "position"),
        ),
        source_column_option("the source of each row"),
    ),
    python_inputs=("sources",),
    positional_count=5,
    doctest="""\
>>> may = {"hive": ["1"]}
>>> june = {"hive": ["2"], "kg": ["9"]}
>>> stack([may, june]).table.to_dict()
{'hive': ['1', '2'], 'kg': [None, '9']}""",
)

JOIN = OperationSpec(
    name="join",
    function="plait.core.operations.join:join_tables",
    progress_text="joining",
    arity=InputArity.EACH,
    inputs="sources and results, the left one first",
    meaning="Add the columns of other tables, matching rows on a key.",
    description=(
        "Combine the columns of two or more tables, matching rows on a key. Each "
        "further table is joined to the result so far."
    ),
    examples=("plait join visits.csv hives.csv --key yard,hive --out season.csv",),
    options=(
        Option(
            "key",
            OptionKind.KEYS,
            "the columns that identify a record; LEFT=RIGHT where the names differ. One "
            "key for all joins, or one for each further table (default: the columns "
            "both tables have)",
            placeholder="COLUMN,…",
            parameter="keys",
        ),
        Option(
            "kind",
            OptionKind.CHOICE,
            "the join type: which rows without a match stay in the result",
            "left",
            tuple(JOIN_KINDS),
        ),
        Option(
            "cardinality",
            OptionKind.CHOICE,
            "the relation that the keys must have, left to right; if they do not, "
            "nothing is joined. A many-to-many join runs only if you choose it here",
            choices=CARDINALITIES,
        ),
        Option(
            "take",
            OptionKind.COLUMNS,
            "the columns to take from the further tables, in addition to the key (default: all)",
            placeholder="COLUMN,…",
        ),
        Option("rename", OptionKind.PAIRS, "rename columns of the result", placeholder="OLD=NEW"),
        Option(
            "prefer",
            OptionKind.CHOICE,
            "where both tables have a column, use the cells of this side and fill its "
            "empty cells from the other (default: keep both columns if they differ)",
            choices=("left", "right"),
        ),
        Option(
            "nearest",
            OptionKind.TEXT,
            "among rows with the same key, match the one whose number, date or time is nearest",
            placeholder="COLUMN:before|after|either",
        ),
        Option(
            "within",
            OptionKind.TEXT,
            "the greatest distance allowed to the nearest row: 7d, 2h, 30min or a number",
            placeholder="DISTANCE",
        ),
        Option(
            "max_rows",
            OptionKind.WHOLE,
            "stop if the result would have more rows than this",
            placeholder="N",
        ),
        *COMPARING,
        source_column_option("the names of the sources each row came from, joined by +"),
    ),
    python_inputs=("left", "right"),
    positional_count=0,
    doctest="""\
>>> visits = {"hive": ["1", "2"], "kg": ["12.50", "9"]}
>>> hives = {"hive": ["1"], "breed": ["Buckfast"]}
>>> join(visits, hives, key="hive").table.to_dict()
{'hive': ['1', '2'], 'kg': ['12.50', '9'], 'breed': ['Buckfast', None]}""",
    daily=("key", "kind", "cardinality", "take", "prefer", "ignore"),
)

BESIDE = OperationSpec(
    name="beside",
    function="plait.core.operations.beside:beside",
    progress_text="placing side by side",
    arity=InputArity.EACH,
    inputs="sources and results with the same number of rows",
    meaning="Place tables side by side, pairing rows by position.",
    description=(
        "Place the columns of tables side by side, pairing rows by position. All "
        "tables must have the same number of rows. If they share a key, join them "
        "instead."
    ),
    examples=("plait beside weights.csv photographs.csv --out both.csv",),
    options=(),
    python_inputs=("left", "right"),
    positional_count=0,
    doctest="""\
>>> beside({"x": ["1"]}, {"y": ["2"]}).table.to_dict()
{'x': ['1'], 'y': ['2']}""",
)

KEYS = OperationSpec(
    name="keys",
    function="plait.core.operations.keys:audit_keys",
    progress_text="auditing keys",
    arity=InputArity.ALL,
    inputs="sources and results",
    meaning="Audit a key: findings only, no result.",
    description=(
        "Audit a key: is it unique, and which keys are missing, repeated or in "
        "conflict? With several sources, also show which keys are in which. With "
        "two, explain why keys do not match and what would fix it."
    ),
    examples=(
        "plait keys register.xlsx#Hives --key yard,hive",
        "plait keys visits.csv register.csv --key yard,hive --out pairs.csv",
        "plait keys visits.csv register.csv --key yard,hive --only left --out lost.csv",
        "plait keys members.csv payers.csv --key Name --evidence Born,Town --accept 99% "
        "--out pairs.csv",
    ),
    options=(
        Option(
            "key",
            OptionKind.KEYS,
            "the columns that identify a record; LEFT=RIGHT where two sources name them "
            "differently. One key for all sources, or one for each (default: the "
            "columns all sources have)",
            placeholder="COLUMN,…",
            parameter="specs",
        ),
        Option(
            "apart",
            OptionKind.FLAG,
            "take each file of a folder or glob by itself (default: beside another source, "
            "they are one side together)",
        ),
        *COMPARING,
        Option(
            "evidence",
            OptionKind.NAMES,
            "look for the partners of unmatched keys by these columns, with odds; LEFT=RIGHT "
            "where the names differ. For one source: keys that mean the same",
            placeholder="COLUMN,…",
            group="partners by evidence",
        ),
        Option(
            "accept",
            OptionKind.TEXT,
            "use the partners that are at least so sure, as 99%; without it none is used",
            placeholder="PERCENT",
            group="partners by evidence",
        ),
        Option(
            "settled",
            OptionKind.TABLE,
            "pairs accepted or rejected by hand, as the page of keys saves them: they are taken "
            "as known, and the odds of the others follow",
            placeholder="FILE",
            group="partners by evidence",
        ),
    ),
    python_inputs=("sources",),
    positional_count=1,
    doctest="""\
>>> visits, hives = {"hive": ["1", "1", "9"]}, {"hive": ["1"]}
>>> keys([visits, hives], "hive").pairs[0].keys_only_left
1""",
)

COMPARE = OperationSpec(
    name="compare",
    function="plait.core.operations.compare:compare",
    progress_text="comparing",
    arity=InputArity.TWO,
    inputs="the old table and the new table",
    meaning="List what changed between two tables: rows new and gone, cells changed.",
    description=(
        "Compare an old and a new table by key: rows that are new, gone or changed; "
        "how many cells changed in each column, and by how much; columns that are "
        "new, gone, renamed or of a different type."
    ),
    examples=(
        "plait compare handover-earlier handover",
        "plait compare may.csv june.csv --key yard,hive --out changes.csv",
        "plait compare may.csv june.csv --key yard,hive --within kg=0.01",
    ),
    options=(
        Option(
            "key",
            OptionKind.KEY_OF_TWO,
            "the columns that identify a record; OLD=NEW where they were renamed "
            "(default: the plan's key, otherwise the likeliest candidate key)",
            placeholder="COLUMN,…",
        ),
        Option(
            "columns",
            OptionKind.COLUMNS,
            "the columns to compare (default: all)",
            placeholder="COLUMN,…",
        ),
        Option(
            "within",
            OptionKind.PAIRS,
            "how far apart two numbers of a column may be and still count as equal",
            placeholder="COLUMN=DISTANCE",
        ),
        *LOOSER,
    ),
    python_inputs=("old", "new"),
    positional_count=1,
    doctest="""\
>>> old, new = {"hive": ["1", "2"], "kg": ["9", "4"]}, {"hive": ["1", "3"], "kg": ["10", "8"]}
>>> found = compare(old, new, "hive").changes
>>> found.rows_new, found.rows_gone, found.rows_changed
(1, 1, 1)""",
)

OPERATIONS: dict[str, OperationSpec] = {
    one.name: one
    for one in (STACK, MEND, JOIN, SETTLE, BESIDE, GROUP, WIDEN, LENGTHEN, KEYS, COMPARE)
}
