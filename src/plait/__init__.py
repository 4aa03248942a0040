"""Plait: stack extracts, join tables on their keys, and account for every row.

The calls below take the same words and options as the command line::

    import plait

    visits = plait.stack(["inspections/*.csv"], label={"month": "{stem}"})
    season = plait.join(visits.table, "hives.csv", key="yard,hive")
    print(season.match.left_unmatched)
    plait.write(season.table, "season.csv")
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plait._version import __version__
from plait.core.errors import ExpectationError, OutputError, PlaitError, SourceError, UsageError

if TYPE_CHECKING:
    from plait._api import beside, join, keys, mend, read, settle, stack, survey, write
    from plait.core.table import Table

__all__ = [
    "ExpectationError",
    "OutputError",
    "PlaitError",
    "SourceError",
    "Table",
    "UsageError",
    "__version__",
    "beside",
    "join",
    "keys",
    "mend",
    "read",
    "settle",
    "stack",
    "survey",
    "write",
]


_CALLS = ("beside", "join", "keys", "mend", "read", "settle", "stack", "survey", "write")


def __getattr__(name: str) -> Any:
    # Loaded when first used, so that `plait --version` need not wait for Arrow.
    if name in (*_CALLS, "Table"):
        import plait._api

        return getattr(plait._api, name)
    raise AttributeError(f"module 'plait' has no attribute {name!r}")
