"""What ``beside`` can be asked for: nothing but its tables."""

from __future__ import annotations

from plait.options.option import Takes, Verb

BESIDE = Verb(
    name="beside",
    function="plait.core.verbs.beside:beside",
    doing="putting beside",
    takes=Takes.EACH,
    inputs="sources and results of equal length",
    meaning="Columns beside columns, by row order.",
    description="Put the columns of tables beside one another by the order of their rows. Refused "
    "when they have different numbers of rows; if they have a key in common, join them.",
    examples=("plait beside weights.csv photographs.csv --out both.csv",),
    options=(),
    given=("left", "right"),
    by_place=0,
    session="""\
>>> beside({"x": ["1"]}, {"y": ["2"]}).table.to_dict()
{'x': ['1'], 'y': ['2']}""",
)
