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
from plait.core.base.errors import (
    ExpectationError,
    OutputError,
    PlaitError,
    SourceError,
    UsageError,
)

if TYPE_CHECKING:
    from plait.api.files import read, survey, write
    from plait.api.jobs import check, draft, run
    from plait.api.operations import (
        beside,
        compare,
        group,
        join,
        keys,
        lengthen,
        mend,
        settle,
        stack,
        widen,
    )
    from plait.core.operations.result import Result
    from plait.core.table.table import Table
    from plait.io.job import working
    from plait.plan.trace import trace

__all__ = [
    "ExpectationError",
    "OutputError",
    "PlaitError",
    "Result",
    "SourceError",
    "Table",
    "UsageError",
    "__version__",
    "beside",
    "check",
    "compare",
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
    "working",
    "write",
]

_PLACES = {
    "plait.api.files": ("read", "survey", "write"),
    "plait.api.jobs": ("check", "draft", "run"),
    "plait.api.operations": (
        *("beside", "compare", "group", "join", "keys", "lengthen"),
        *("mend", "settle", "stack", "widen"),
    ),
    "plait.core.table.table": ("Table",),
    "plait.core.operations.result": ("Result",),
    "plait.io.job": ("working",),
    "plait.plan.trace": ("trace",),
}
_CALLS = {name: place for place, names in _PLACES.items() for name in names}


def __getattr__(name: str) -> Any:
    # Loaded when first used, so that `plait --version` need not wait for Arrow.
    if name in _CALLS:
        return getattr(import_module(_CALLS[name]), name)
    raise AttributeError(f"module 'plait' has no attribute {name!r}")


def __dir__() -> list[str]:
    return __all__
