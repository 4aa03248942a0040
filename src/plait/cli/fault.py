"""The last resort: an error that nobody foresaw is a fault in Plait, and is told as one."""

from __future__ import annotations

import os
import platform
import sys
import tempfile
import traceback
from collections.abc import Sequence
from pathlib import Path
from shlex import join

from plait._version import __version__
from plait.formats.places.address import masked

STATUS = 70
"""As ``sysexits.h`` has it for an internal error: never 1, which means an expectation failed."""


def tell_fault(error: Exception, words: Sequence[str], stands: str) -> int:
    """Say that it is a fault of the program, what was being done, and where the details are.

    Parameters
    ----------
    error : Exception
    words : sequence of str
        The command line.
    stands : str
        What is true of the outputs.

    Returns
    -------
    int
        The exit status.
    """
    from plait.cli.views.show import say

    kind, what = type(error).__name__, masked(" ".join(str(error).split()))[:300]
    command = " ".join(words[:1]) or "no command"
    say(f"plait: internal error, a bug in Plait: {kind}: {what} (in plait {command}); {stands}")
    place = _written(error, words)
    say(f"       {place}" if place else "       the details could not be written")
    return STATUS


def _written(error: Exception, words: Sequence[str]) -> str:
    """Write the details for whoever is to mend it; what the person is told of them."""
    details = "".join(traceback.format_exception(error))
    text = (
        f"plait {__version__}, Python {platform.python_version()}, {sys.platform}\n"
        f"$ plait {join(words)}\n\n{details}"
    )
    text = masked(text)
    try:
        number, name = tempfile.mkstemp(".txt", "plait-fault-")
        os.close(number)
        Path(name).write_text(text, "utf-8", "backslashreplace")
    except OSError:
        return ""
    return f"details are in {name}; it contains the command line and may contain data"
