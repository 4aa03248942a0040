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
            Form.FLAG,
            "leave out rows that repeat an earlier row in every column of the sources",
        ),
        Option("number", Form.COLUMN, "add a column that numbers the rows", shown="COLUMN"),
        Option(
            "same",
            Form.SEVERAL,
            "stack the columns OLD under the heading NEW",
            shown="NEW=OLD,…",
        ),
        Option(
            "fold_headers",
            Form.FLAG,
            "treat headings as equal if they differ only in case, spaces or punctuation",
        ),
        Option(
            "by",
            Form.CHOICE,
            "match columns by name, or by position",
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
