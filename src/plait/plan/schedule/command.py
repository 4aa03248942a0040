"""Programs of the system that set what runs by itself."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence

from plait.core.account.errors import OutputError

_SECONDS = 60


def carry_out(words: Sequence[str], remedy: str | None = None) -> None:
    """Run a program to its end.

    Raises
    ------
    OutputError
        When it cannot be run, or fails.
    """
    said = " ".join(words[:3])
    try:
        ended = subprocess.run(words, capture_output=True, text=True, timeout=_SECONDS)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise OutputError(f"{said} cannot be run: {error}", remedy=remedy) from None
    if ended.returncode:
        why = " ".join(ended.stderr.split())
        raise OutputError(f"{said} failed: {why}", remedy=remedy)
