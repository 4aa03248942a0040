"""What ``compare`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import IGNORE

COMPARE = Verb(
    name="compare",
    function="plait.core.verbs.compare:compare",
    doing="comparing",
    takes=Takes.TWO,
    inputs="the old table and the new one",
    meaning="What changed between two tables: a list of rows new and gone, and cells changed.",
    description="Set an old and a new table against each other by key: rows new, gone and changed, "
    "cells changed in each column and by how much, columns new, gone, renamed, of another type.",
    examples=(
        "plait compare handover-earlier handover",
        "plait compare may.csv june.csv --key yard,hive --out changes.csv",
        "plait compare may.csv june.csv --key yard,hive --within kg=0.01",
    ),
    options=(
        Option(
            "key",
            Form.KEY_OF_TWO,
            "the columns by which a record is known; OLD=NEW where they changed their names. "
            "Without it the plan's, or else the likeliest candidate key",
            shown="COLUMN,…",
        ),
        Option(
            "columns",
            Form.COLUMNS,
            "the columns to compare; without it all",
            shown="COLUMN,…",
        ),
        Option(
            "within",
            Form.PAIRS,
            "how far numbers of a column may be apart and count as the same",
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
