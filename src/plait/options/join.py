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
    meaning="Add the columns of other tables, matching rows on a key.",
    description=(
        "Combine the columns of two or more tables, matching rows on a key. Each "
        "further table is joined to the result so far."
    ),
    examples=("plait join visits.csv hives.csv --key yard,hive --out season.csv",),
    options=(
        Option(
            "key",
            Form.KEYS,
            "the columns that identify a record; LEFT=RIGHT where the names differ. One "
            "key for all joins, or one for each further table (default: the columns "
            "both tables have)",
            shown="COLUMN,…",
            argument="keys",
        ),
        Option(
            "kind",
            Form.CHOICE,
            "the join type: which rows without a match stay in the result",
            "left",
            tuple(JOIN_KINDS),
        ),
        Option(
            "cardinality",
            Form.CHOICE,
            "the relation that the keys must have, left to right; if they do not, "
            "nothing is joined. A many-to-many join runs only if you choose it here",
            choices=CARDINALITIES,
        ),
        Option(
            "take",
            Form.COLUMNS,
            "the columns to take from the further tables, in addition to the key (default: all)",
            shown="COLUMN,…",
        ),
        Option("rename", Form.PAIRS, "rename columns of the result", shown="OLD=NEW"),
        Option(
            "prefer",
            Form.CHOICE,
            "where both tables have a column, use the cells of this side and fill its "
            "empty cells from the other (default: keep both columns if they differ)",
            choices=("left", "right"),
        ),
        Option(
            "nearest",
            Form.TEXT,
            "among rows with the same key, match the one whose number, date or time is nearest",
            shown="COLUMN:before|after|either",
        ),
        Option(
            "within",
            Form.TEXT,
            "the greatest distance allowed to the nearest row: 7d, 2h, 30min or a number",
            shown="DISTANCE",
        ),
        Option(
            "max_rows", Form.WHOLE, "stop if the result would have more rows than this", shown="N"
        ),
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
