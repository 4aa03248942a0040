"""What ``lengthen`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb

LENGTHEN = Verb(
    name="lengthen",
    function="plait.core.verbs.lengthen:lengthen",
    doing="lengthening",
    takes=Takes.ONE,
    inputs="a source or result",
    meaning="Wide to long: one row for each cell of chosen columns.",
    description=(
        "Reshape wide to long: write the cells of several columns one below the "
        "other, each with the heading of its column."
    ),
    examples=(
        "plait lengthen honey.csv --key Yard,Hive --heads Month --cells 'Honey kg' "
        "--without-missing --out long.csv",
    ),
    options=(
        Option(
            "heads",
            Form.TEXT,
            "the name of the new column that holds the headings",
            shown="NEW",
            required=True,
        ),
        Option(
            "cells",
            Form.TEXT,
            "the name of the new column that holds the cells",
            shown="NEW",
            required=True,
        ),
        Option("columns", Form.COLUMNS, "the columns to turn into rows", shown="COLUMN,…"),
        Option(
            "key",
            Form.COLUMNS,
            "the columns to keep; all others are turned into rows (instead of naming those)",
            shown="COLUMN,…",
        ),
        Option("without_missing", Form.FLAG, "leave out rows whose cell is missing"),
    ),
    given=("source",),
    by_place=2,
    session="""\
>>> honey = {"hive": ["1"], "04": ["3"], "05": ["9"]}
>>> lengthen(honey, "month", "kg", key="hive").table.to_dict()
{'hive': ['1', '1'], 'month': ['04', '05'], 'kg': ['3', '9']}""",
)
