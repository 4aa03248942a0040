"""Plait: stack extracts, join tables on their keys, and account for every row.

The calls below take the same words and options as the command line::

    import plait

    visits = plait.stack(["inspections/*.csv"], label={"month": "{stem}"})
    season = plait.join(visits.table, "hives.csv", key="yard,hive")
    print(season.match.left_unmatched)
    plait.write(season.table, "season.csv")
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from plait._version import __version__
from plait.core.account.errors import (
    ExpectationError,
    OutputError,
    PlaitError,
    SourceError,
    UsageError,
)

if TYPE_CHECKING:
    from plait._api import beside, join, keys, mend, read, settle, stack, survey, write
    from plait._planned import check, draft, run
    from plait._reshape import group, lengthen, widen
    from plait.core.table.table import Table
    from plait.plan.trace import trace

__all__ = [
    "ExpectationError",
    "OutputError",
    "PlaitError",
    "SourceError",
    "Table",
    "UsageError",
    "__version__",
    "beside",
    "check",
    "draft",
    "group",
    "join",
    "keys",
    "lengthen",
    "mend",
    "read",
    "run",
    "settle",
    "stack",
    "survey",
    "trace",
    "widen",
    "write",
]

_VERBS = ("beside", "join", "keys", "mend", "read", "settle", "stack", "survey", "write", "Table")
_CALLS = {
    **dict.fromkeys(_VERBS, "plait._api"),
    **dict.fromkeys(("group", "lengthen", "widen"), "plait._reshape"),
    **dict.fromkeys(("check", "draft", "run"), "plait._planned"),
    "trace": "plait.plan.trace",
}


def __getattr__(name: str) -> Any:
    # Loaded when first used, so that `plait --version` need not wait for Arrow.
    if name in _CALLS:
        return getattr(import_module(_CALLS[name]), name)
    raise AttributeError(f"module 'plait' has no attribute {name!r}")
