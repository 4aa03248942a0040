"""The room that a job works in, as a person asks for it: so much memory, and a scratch folder."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from plait.core.account.errors import UsageError
from plait.core.store.limit import half_of_free, memory_of
from plait.core.store.room import Room, working_in
from plait.formats.delivery.scratch import scratch


@contextmanager
def working(memory: str | None = None, folder: Path | None = None) -> Iterator[Room]:
    """Have all that is done within keep to a limit on memory; what does not fit goes to files.

    Parameters
    ----------
    memory : str, optional
        ``"2GB"``. Without it half of what is free.
    folder : path, optional
        Where scratch files go. Without it the system's temporary folder. They are
        removed at the end, those of a run that was killed by the next one.

    Raises
    ------
    UsageError
        For an amount that is none, or a folder that is not there.
    ScratchError
        When what does not fit in memory does not fit there either.

    Examples
    --------
    >>> with working("2GB") as room:
    ...     room.limit
    2147483648
    """
    if folder is not None and not folder.is_dir():
        raise UsageError("there is no such folder for scratch files", str(folder))
    limit = memory_of(memory) if memory else half_of_free()
    with ExitStack() as made:
        asked = bool(memory or folder)
        room = Room(limit, lambda: made.enter_context(scratch(folder)), asked=asked)
        with working_in(room):
            yield room
