"""What ``join`` can be asked for."""

from __future__ import annotations

from plait.core.keys.match import CARDINALITIES, JOIN_KINDS
from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import COMPARING, origin

JOIN = Verb(
    name="join",
    function="plait.core.verbs.join:join_all",
    doing="joining",
    takes=Takes.EACH,
    inputs="sources and results, the left one first",
    meaning="Columns beside columns, on a key.",
    description="Put the columns of tables beside one another where their keys are equal. Each "
    "further table joins on to the result so far.",
    examples=("plait join visits.csv hives.csv --key yard,hive --out season.csv",),
    options=(
        Option(
            "key",
            Form.KEYS,
            "the columns that identify a record; LEFT=RIGHT where the names differ. One key for "
            "all joins, or one for each further table. Without it: the columns both have",
            shown="COLUMN,…",
            argument="keys",
        ),
        Option(
            "kind", Form.CHOICE, "which unmatched rows the result keeps", "left", tuple(JOIN_KINDS)
        ),
        Option(
            "cardinality",
            Form.CHOICE,
            "what the match must be, left to right; many-to-many must be said to be done",
            choices=CARDINALITIES,
        ),
        Option(
            "take",
            Form.COLUMNS,
            "columns to take from the further tables, beside the key; without it all",
            shown="COLUMN,…",
        ),
        Option(
            "rename", Form.PAIRS, "old name to new one, of columns of the result", shown="OLD=NEW"
        ),
        Option(
            "prefer",
            Form.CHOICE,
            "whose cells to take where both have a column; the other's fill its empty ones. "
            "Without it both columns are kept if they differ",
            choices=("left", "right"),
        ),
        Option(
            "nearest",
            Form.TEXT,
            "of the rows with an equal key, take the one whose number, date or time is nearest",
            shown="COLUMN:before|after|either",
        ),
        Option(
            "within",
            Form.TEXT,
            "how far the nearest may be: 7d, 2h, 30min, or a number",
            shown="DISTANCE",
        ),
        Option("max_rows", Form.WHOLE, "stop if the result would have more rows", shown="N"),
        *COMPARING,
        origin("the names of the sources each row came from, joined by +"),
    ),
    given=("left", "right"),
    by_place=0,
    session="""\
>>> visits = {"hive": ["1", "2"], "kg": ["12.50", "9"]}
>>> hives = {"hive": ["1"], "breed": ["Buckfast"]}
>>> join(visits, hives, key="hive").table.to_dict()
{'hive': ['1', '2'], 'kg': ['12.50', '9'], 'breed': ['Buckfast', None]}""",
)
