"""What a run says, written to a file that is kept to a size: nobody watches at night."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, redirect_stderr, redirect_stdout, suppress
from pathlib import Path

from plait.core.account.errors import OutputError, PlaitError
from plait.plan.runs.clock import now

MOST_BYTES = 1 << 20


@contextmanager
def logged(path: Path | None, what: str) -> Iterator[None]:
    """Have all that is said go to the end of a file.

    Parameters
    ----------
    path : Path or None
        Without one it goes where it always goes.
    what : str
        Which run it is, for the heading.

    Raises
    ------
    OutputError
        When the file cannot be written.
    """
    if path is None:
        yield
        return
    try:
        shorten(path)
        file = path.open("a", encoding="utf-8", errors="surrogateescape")
    except OSError as error:
        raise OutputError(f"the log cannot be written: {error.strerror}", str(path)) from None
    with file:
        file.write(f"── {now().isoformat(timespec='seconds')}  {what}\n")
        file.flush()
        with redirect_stdout(file), redirect_stderr(file):
            try:
                yield
            except PlaitError as error:
                from plait.cli.views.show import show_error

                show_error(error)
                raise


def shorten(path: Path, most: int = MOST_BYTES) -> None:
    """Keep the later half of a file that has become too large, from the start of a line."""
    with suppress(FileNotFoundError):
        if path.stat().st_size <= most:
            return
        with path.open("rb") as file:
            file.seek(-(most // 2), os.SEEK_END)
            rest = file.read().partition(b"\n")[2]
        part = path.with_name(f".{path.name}.plait-new")
        part.write_bytes(rest)
        part.replace(path)
