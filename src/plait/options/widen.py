"""What ``widen`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb

WIDEN = Verb(
    name="widen",
    function="plait.core.verbs.widen:widen",
    doing="widening",
    takes=Takes.ONE,
    inputs="a source or result",
    meaning="Long to wide.",
    description="Long to wide: a column for each value of one column, a row for each key.",
    examples=(
        "plait widen visits.csv --key Yard,Hive --heads Month --cells 'Honey kg' --rule sum "
        "--out honey.csv",
    ),
    options=(
        Option(
            "heads",
            Form.COLUMN,
            "the column whose values head the new columns",
            shown="COLUMN",
            required=True,
        ),
        Option(
            "cells",
            Form.COLUMNS,
            "the column, or columns, that fill them",
            shown="COLUMN,…",
            required=True,
        ),
        Option(
            "key",
            Form.COLUMNS,
            "the columns that identify a row; without it all others",
            shown="COLUMN,…",
        ),
        Option(
            "rule",
            Form.TEXT,
            "when several rows fall into one cell: agree, first, last, min, max, sum, mean, "
            "longest, commonest; where it is agree, rows that differ are set aside",
            "agree",
            shown="RULE",
        ),
    ),
    given=("source",),
    by_place=2,
    session="""\
>>> honey = {"hive": ["1", "1"], "month": ["04", "05"], "kg": ["3", "9"]}
>>> widen(honey, "month", "kg").table.to_dict()
{'hive': ['1'], '04': ['3'], '05': ['9']}""",
)
