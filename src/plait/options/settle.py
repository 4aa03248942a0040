"""What ``settle`` can be asked for."""

from __future__ import annotations

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import COMPARING

SETTLE = Verb(
    name="settle",
    function="plait.core.verbs.settle:settle_all",
    doing="settling",
    takes=Takes.ALL,
    inputs="a source or result; several are stacked first",
    meaning="Reduce the rows of each key to one.",
    description=(
        "Reduce the rows of each key to one, with a rule for each column. Several "
        "sources are stacked first. Without rules, all cells of a column must "
        "agree; otherwise the key is in conflict and its rows are set aside."
    ),
    examples=(
        "plait settle register.csv --key yard,hive --out hives.csv",
        "plait settle register.csv --key yard,hive --rule breed=newest-by:entered --out hives.csv",
        "plait settle register.csv --key yard,hive --keep-rule first --out hives.csv",
    ),
    options=(
        Option(
            "key",
            Form.KEY,
            "the columns that identify a record",
            shown="COLUMN,…",
            required=True,
        ),
        Option(
            "rule",
            Form.PAIRS,
            "the rule for a column: agree, first, last, min, max, sum, mean, longest, "
            "commonest, newest-by:COLUMN or oldest-by:COLUMN; missing cells are ignored",
            shown="COLUMN=RULE",
            argument="rules",
        ),
        Option("otherwise", Form.TEXT, "the rule for all other columns", "agree", shown="RULE"),
        Option(
            "keep_rule",
            Form.TEXT,
            "keep one whole row of each key instead: first, last, fullest, "
            "newest-by:COLUMN or oldest-by:COLUMN",
            shown="RULE",
        ),
        *COMPARING,
    ),
    given=("source",),
    by_place=1,
    session="""\
>>> hives = {"hive": ["1", "1"], "breed": ["Carnica", "Buckfast"]}
>>> settle(hives, "hive", rules={"breed": "last"}).table.to_dict()
{'hive': ['1'], 'breed': ['Buckfast']}""",
)
