"""What ``stack`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import LABEL, origin

STACK = Verb(
    name="stack",
    function="plait.core.verbs.stack:stack",
    doing="stacking",
    takes=Takes.ALL,
    inputs="sources and results, in order",
    meaning="Rows under rows.",
    description="Put the rows of several files under one another, by column name. The first file "
    "sets the order of the columns; a column that is missing from a file has no value on its rows.",
    examples=("plait stack 'inspections/*.csv' --label month={stem} --out visits.csv",),
    options=(
        LABEL,
        Option(
            "distinct",
            Form.FLAG,
            "leave out rows that equal an earlier one in every column of the sources",
        ),
        Option("number", Form.COLUMN, "a column to add that numbers the rows", shown="COLUMN"),
        Option(
            "same",
            Form.SEVERAL,
            "new heading to old: the columns OLD are taken for the column NEW",
            shown="NEW=OLD,…",
        ),
        Option(
            "fold_headers",
            Form.FLAG,
            "take headers that differ in case, spaces and punctuation only for the same",
        ),
        Option(
            "by",
            Form.CHOICE,
            "take columns of one name for the same, or the first for the first",
            "name",
            ("name", "position"),
        ),
        origin("the source of each row"),
    ),
    given=("sources",),
    by_place=5,
    session="""\
>>> may = {"hive": ["1"]}
>>> june = {"hive": ["2"], "kg": ["9"]}
>>> stack([may, june]).table.to_dict()
{'hive': ['1', '2'], 'kg': [None, '9']}""",
)
