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
    meaning="Figures over the rows of each group.",
    description="Work out figures over the rows of each group: one row a group, or the figures "
    "put back on every row. Sums of decimals are exact; rows without a value to group by are a "
    "group of their own.",
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
            "the columns that are equal within a group; of dates also COLUMN:month, "
            "COLUMN:quarter, COLUMN:year. Without it all rows are one group",
            shown="COLUMN,…",
        ),
        Option(
            "take",
            Form.PAIRS,
            "new column to figure: count, distinct, sum, mean, middle, smallest, largest, spread, "
            "first, last, commonest, share (also median, stdev, min, max, average), and put onto "
            "rows also rank; NEW=count counts rows, NEW=share is the share of the rows",
            shown="NEW=FIGURE:COLUMN",
        ),
        Option("onto_rows", Form.FLAG, "keep every row, with the figures of its group"),
        replace(IGNORE, group=""),
    ),
    given=("source",),
    by_place=2,
    session="""\
>>> visits = {"yard": ["A", "A"], "kg": [7, 5]}
>>> group(visits, "yard", {"honey": "sum:kg"}).table.to_dict()
{'yard': ['A'], 'honey': [12]}""",
)
