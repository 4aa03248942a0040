"""What is said and written down when Plait itself is at fault. Loaded only then."""

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
from plait.cli.terminal import print_line
from plait.io.places.address import mask_secrets

# As sysexits.h has it for an internal error: never 1, which means an expectation was not met.
STATUS = 70


def report_internal_error(error: Exception, words: Sequence[str], stands: str) -> int:
    """Say that it is a fault of the program, what was being done, and where the details are.

    Parameters
    ----------
    words : sequence of str
        The command line.
    stands : str
        What is true of the outputs.

    Returns
    -------
    int
        The exit status.
    """
    kind, what = type(error).__name__, mask_secrets(" ".join(str(error).split()))[:300]
    command = " ".join(words[:1]) or "no command"
    print_line(
        f"plait: internal error, a bug in Plait: {kind}: {what} (in plait {command}); {stands}"
    )
    text = _written(error, words)
    print_line(f"       {text}" if text else "       the details could not be written")
    return STATUS


def _written(error: Exception, words: Sequence[str]) -> str:
    """Write the details for whoever is to mend it; what the person is told of them."""
    details = "".join(traceback.format_exception(error))
    text = (
        f"plait {__version__}, Python {platform.python_version()}, {sys.platform}\n"
        f"$ plait {join(words)}\n\n{details}"
    )
    text = mask_secrets(text)
    try:
        number, name = tempfile.mkstemp(".txt", "plait-fault-")
        os.close(number)
        Path(name).write_text(text, "utf-8", "backslashreplace")
    except OSError:
        return ""
    return f"details are in {name}; it contains the command line and may contain data"
