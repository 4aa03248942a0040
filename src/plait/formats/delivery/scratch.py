"""Room for what is needed only for a while, in a temporary folder."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from plait.core.account.errors import OutputError
from plait.formats.delivery.interrupts import interrupts_wait
from plait.formats.delivery.parts import PART, beside, new_folder, new_token, release, remove, sweep


def temporary_folder() -> Path:
    """The system's folder for what is needed for a while only.

    Raises
    ------
    OutputError
        When nothing can be written into any.
    """
    try:
        return Path(tempfile.gettempdir())
    except OSError as error:
        raise OutputError(
            f"no temporary folder can be written to: {error.strerror}",
            remedy="make room in /tmp, or name another folder: TMPDIR=DIR, --scratch DIR",
        ) from None


@contextmanager
def scratch(root: Path | None = None) -> Iterator[Path]:
    """A folder for as long as it is needed; those that killed runs left go too.

    It is made in the system's temporary folder, or in another.

    Examples
    --------
    >>> with scratch() as folder:
    ...     size = (folder / "a.txt").write_text("for now")
    >>> folder.exists()
    False
    """
    root = root or temporary_folder()
    sweep(root)
    folder = beside(root / "plait", new_token(), 0, PART)
    number = -1
    try:
        with interrupts_wait():  # between being made and being known
            number = new_folder(folder)
        yield folder
    finally:
        remove(folder)
        release(number)
