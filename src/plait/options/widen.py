"""What ``widen`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb

WIDEN = Verb(
    name="widen",
    function="plait.core.verbs.widen:widen",
    doing="widening",
    takes=Takes.ONE,
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
            Form.COLUMN,
            "the column whose values become the headings of the new columns",
            shown="COLUMN",
            required=True,
        ),
        Option(
            "cells",
            Form.COLUMNS,
            "the column or columns that fill the new columns",
            shown="COLUMN,…",
            required=True,
        ),
        Option(
            "key",
            Form.COLUMNS,
            "the columns that identify a row (default: all other columns)",
            shown="COLUMN,…",
        ),
        Option(
            "rule",
            Form.TEXT,
            "how to combine several rows that belong in one cell: agree, first, last, "
            "min, max, sum, mean, longest or commonest; with agree, rows that differ "
            "are set aside",
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
