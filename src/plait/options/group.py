"""What ``group`` can be asked for."""

from __future__ import annotations

from dataclasses import replace

from plait.options.option import Form, Option, Takes, Verb
from plait.options.shared import IGNORE

GROUP = Verb(
    name="group",
    function="plait.core.verbs.group:group",
    doing="grouping",
    takes=Takes.ONE,
    inputs="a source or result",
    meaning="Counts, sums and other figures for each group of rows.",
    description=(
        "Compute counts, sums and other figures for each group of rows. The result "
        "has one row per group or, on request, every row with the figures of its "
        "group. Sums of decimals are exact. Rows with no value in a grouping column "
        "form a group of their own."
    ),
    examples=(
        "plait group visits.csv --by Yard --take Visits=count --take 'Honey=sum:Honey kg' "
        "--out yards.csv",
        "plait group visits.csv --by Yard,Seen:month --take 'Mean=mean:Honey kg' --out months.csv",
        "plait group visits.csv --by Yard --take 'Share=share:Honey kg' --onto-rows "
        "--out shares.csv",
    ),
    options=(
        Option(
            "by",
            Form.COLUMNS,
            "the columns to group by; for dates also COLUMN:month, COLUMN:quarter or "
            "COLUMN:year (default: all rows form one group)",
            shown="COLUMN,…",
        ),
        Option(
            "take",
            Form.PAIRS,
            "the figures to compute, each a new column: count, distinct, sum, mean "
            "(average), middle (median), smallest (min), largest (max), spread (stdev), "
            "first, last, commonest, share; also rank, where every row is kept. "
            "NEW=count counts rows; NEW=share is the group's share of all rows",
            shown="NEW=FIGURE:COLUMN",
        ),
        Option("onto_rows", Form.FLAG, "keep every row, and add the figures of its group"),
        replace(IGNORE, group=""),
    ),
    given=("source",),
    by_place=2,
    session="""\
>>> visits = {"yard": ["A", "A"], "kg": [7, 5]}
>>> group(visits, "yard", {"honey": "sum:kg"}).table.to_dict()
{'yard': ['A'], 'honey': [12]}""",
)
