"""What ``keys`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import COMPARING

KEYS = Verb(
    name="keys",
    function="plait.core.verbs.keys:keys",
    doing="auditing keys",
    takes=Takes.ALL,
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
    ),
    options=(
        Option(
            "key",
            Form.KEYS,
            "the columns that identify a record; LEFT=RIGHT where two sources name them "
            "differently. One key for all sources, or one for each (default: the "
            "columns all sources have)",
            shown="COLUMN,…",
            argument="specs",
        ),
        *COMPARING,
    ),
    given=("sources",),
    by_place=1,
    session="""\
>>> visits, hives = {"hive": ["1", "1", "9"]}, {"hive": ["1"]}
>>> keys([visits, hives], "hive").pairs[0].keys_only_left
1""",
)
