"""What can go wrong with scratch files."""

from __future__ import annotations

from plait.core.account.errors import OutputError, PlaitError


class ScratchError(OutputError):
    """What does not fit in memory cannot be put into scratch files either."""


class WorkersError(PlaitError):
    """Those who should work along cannot, or cannot be reached."""

    status = 3


def no_room(folder: object, why: str) -> ScratchError:
    """The error that a scratch folder takes nothing more."""
    return ScratchError(
        f"cannot write scratch files: {why}",
        str(folder),
        "choose a folder on a disk with more space: --scratch DIR; or allow more "
        "memory: --memory SIZE",
    )
