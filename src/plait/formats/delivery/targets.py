"""Where an output may be written, seen before any work is done for it."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from plait.core.account.errors import OutputError
from plait.formats.delivery.parts import usual_mode


def place_of(target: Path, replace: bool) -> Path:
    """Where a file goes that is to be written under a name: through a link within its folder.

    Raises
    ------
    OutputError
        For a link that leads elsewhere, or nowhere.
    """
    if not target.is_symlink():
        return target
    aim = target.resolve()
    if aim.parent != target.parent.resolve():
        raise OutputError(
            f"this is a link to {aim}, in another folder", str(target), f"name that file: {aim}"
        )
    if not aim.exists() and not replace:
        raise OutputError(
            f"this is a link to {aim.name}, which does not exist",
            str(target),
            f"name that file, {aim}, or overwrite it: --replace",
        )
    return aim


def check_file(target: Path, sources: Iterable[Path], replace: bool, adds: bool) -> None:
    """See that a file may be written under a name.

    Raises
    ------
    OutputError
    """
    where = str(target)
    try:
        possible = b"\0" not in os.fsencode(target)
    except ValueError:
        possible = False
    if not possible:
        raise OutputError("not a valid file name", repr(where))
    if any(target.exists() and target.samefile(source) for source in sources):
        raise OutputError(
            "this file is a source; sources are never overwritten", where, "write to another file"
        )
    if target.is_dir():
        raise OutputError("this is a folder", where, "name a file in it")
    if target.exists() and not target.is_file():
        raise OutputError(
            f"this is {_kind(target)}, not a file",
            where,
            "leave out --out and redirect standard output instead",
        )
    if target.exists() and not replace and not adds:
        raise OutputError(
            "the file already exists",
            where,
            "choose another name, or overwrite the file: --replace",
        )


def unwritable(target: object, error: OSError | ValueError, verb: str = "written") -> OutputError:
    """That an output could not be written, or made, and nothing was handed over."""
    said = getattr(error, "strerror", None) or error
    return OutputError(
        f"the file cannot be {verb}: {said}",
        str(target),
        "free some space or choose another folder; no output was written",
    )


def unfinished(target: object, error: OSError) -> OutputError:
    """That some outputs took their places and some could not, nor could that be undone."""
    return OutputError(
        f"not all outputs could be moved into place: {error}",
        str(target),
        "the next command that writes to this folder finishes the move",
    )


def _kind(target: Path) -> str:
    mode = target.stat().st_mode
    return "a pipe" if stat.S_ISFIFO(mode) else "a device"


def give_rights(target: Path, part: Path) -> None:
    """Give a part its mode, now that it is whole: that of what stands in its place, or the usual.

    It also gets the owner of what stands there, where that is allowed.
    """
    with suppress(OSError):
        if not target.exists():
            part.chmod(usual_mode(part))
            return
        there, new = target.stat(), part.stat()
        if (there.st_uid, there.st_gid) != (new.st_uid, new.st_gid):
            with suppress(PermissionError):
                os.chown(part, there.st_uid, there.st_gid)
        if stat.S_IMODE(there.st_mode) != stat.S_IMODE(new.st_mode):
            part.chmod(stat.S_IMODE(there.st_mode))
