"""What ``beside`` can be asked for: nothing but its tables."""

from __future__ import annotations

from plait.options.option import Takes, Verb

BESIDE = Verb(
    name="beside",
    function="plait.core.verbs.beside:beside",
    doing="placing side by side",
    takes=Takes.EACH,
    inputs="sources and results with the same number of rows",
    meaning="Place tables side by side, pairing rows by position.",
    description=(
        "Place the columns of tables side by side, pairing rows by position. All "
        "tables must have the same number of rows. If they share a key, join them "
        "instead."
    ),
    examples=("plait beside weights.csv photographs.csv --out both.csv",),
    options=(),
    given=("left", "right"),
    by_place=0,
    session="""\
>>> beside({"x": ["1"]}, {"y": ["2"]}).table.to_dict()
{'x': ['1'], 'y': ['2']}""",
)
