"""Libraries that come with extras of this program, and what to install where one is not there."""

from __future__ import annotations

from importlib import import_module
from typing import Any

from plait.core.account.errors import UsageError


def needed(module: str, extra: str, where: str) -> Any:
    """A module of a library that comes with an extra.

    Raises
    ------
    UsageError
        Says what to install when it is not there.
    """
    try:
        return import_module(module)
    except ImportError as error:
        what = error.name or module
        raise UsageError(
            f"this needs a library that is not installed: {what.partition('.')[0]}",
            where,
            f"pip install 'plait[{extra}]'",
        ) from None
