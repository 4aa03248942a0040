"""What ``compare`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import IGNORE

COMPARE = Verb(
    name="compare",
    function="plait.core.verbs.compare:compare",
    doing="comparing",
    takes=Takes.TWO,
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
            Form.KEY_OF_TWO,
            "the columns that identify a record; OLD=NEW where they were renamed "
            "(default: the plan's key, otherwise the likeliest candidate key)",
            shown="COLUMN,…",
        ),
        Option(
            "columns",
            Form.COLUMNS,
            "the columns to compare (default: all)",
            shown="COLUMN,…",
        ),
        Option(
            "within",
            Form.PAIRS,
            "how far apart two numbers of a column may be and still count as equal",
            shown="COLUMN=DISTANCE",
        ),
        IGNORE,
    ),
    given=("old", "new"),
    by_place=1,
    session="""\
>>> old, new = {"hive": ["1", "2"], "kg": ["9", "4"]}, {"hive": ["1", "3"], "kg": ["10", "8"]}
>>> found = compare(old, new, "hive").changes
>>> found.rows_new, found.rows_gone, found.rows_changed
(1, 1, 1)""",
)
