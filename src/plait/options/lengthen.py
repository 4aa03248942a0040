"""What ``lengthen`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb

LENGTHEN = Verb(
    name="lengthen",
    function="plait.core.verbs.lengthen:lengthen",
    doing="lengthening",
    takes=Takes.ONE,
    inputs="a source or result",
    meaning="Wide to long.",
    description="Wide to long: a row for each cell of some columns, their headings beside it.",
    examples=(
        "plait lengthen honey.csv --key Yard,Hive --heads Month --cells 'Honey kg' "
        "--without-missing --out long.csv",
    ),
    options=(
        Option(
            "heads",
            Form.TEXT,
            "what the column of headings is called",
            shown="NEW",
            required=True,
        ),
        Option(
            "cells", Form.TEXT, "what the column of cells is called", shown="NEW", required=True
        ),
        Option("columns", Form.COLUMNS, "the columns to put under one another", shown="COLUMN,…"),
        Option("key", Form.COLUMNS, "instead: the columns that stay as they are", shown="COLUMN,…"),
        Option("without_missing", Form.FLAG, "leave out rows whose cell is missing"),
    ),
    given=("source",),
    by_place=2,
    session="""\
>>> honey = {"hive": ["1"], "04": ["3"], "05": ["9"]}
>>> lengthen(honey, "month", "kg", key="hive").table.to_dict()
{'hive': ['1', '1'], 'month': ['04', '05'], 'kg': ['3', '9']}""",
)
