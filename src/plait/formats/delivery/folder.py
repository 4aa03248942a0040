"""A folder that appears whole or not at all; an earlier one stands until the new one does."""

from __future__ import annotations

import ctypes
import os
import re
import secrets
import shutil
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from plait.core.account.errors import OutputError
from plait.formats.delivery.delivery import flushing

_AT_FDCWD, _RENAME_EXCHANGE = -100, 2
_PART = re.compile(r"^\.(?P<name>.+)\.(?P<process>\d+)-[0-9a-f]{8}\.part$")


def check_folder(
    target: Path, replace: bool, marks: Sequence[str], sources: Iterable[str] = ()
) -> None:
    """See that a folder can be written, before any work is done for it.

    Parameters
    ----------
    target : Path
    replace : bool
        Whether one that is there may be replaced.
    marks : sequence of str
        Files that a folder has which may be replaced: anything else is not ours.
    sources : iterable of str
        Files that must not be in it.

    Raises
    ------
    OutputError
        When it is there and may not be replaced, or its own folder is not there.
    """
    where = str(target)
    if not target.parent.is_dir():
        raise OutputError(
            "the folder is not there", str(target.parent), f"mkdir -p {target.parent}"
        )
    inside = target.resolve()
    for source in sources:
        if Path(source).exists() and Path(source).resolve().is_relative_to(inside):
            raise OutputError(f"the source {source} is in it", where, "name another folder")
    if not (target.exists() or target.is_symlink()):
        return
    if target.is_symlink() or not target.is_dir():
        raise OutputError("this is no folder", where, "name another")
    if any(target.iterdir()) and not all((target / mark).exists() for mark in marks):
        raise OutputError(
            "the folder is there already, and is no earlier handover", where, "name another folder"
        )
    if not replace:
        raise OutputError(
            "the folder is there already", where, "name another, or allow it with --replace"
        )


@contextmanager
def whole_folder(target: Path) -> Iterator[Path]:
    """A folder to write to, which takes the target's name when all is written.

    Raises
    ------
    OutputError
        When it cannot be made or renamed.

    Examples
    --------
    >>> import tempfile
    >>> target = Path(tempfile.mkdtemp()) / "handover"
    >>> with whole_folder(target) as part:
    ...     size = (part / "a.txt").write_text("whole")
    >>> (target / "a.txt").read_text(), [file.name for file in target.parent.iterdir()]
    ('whole', ['handover'])
    """
    _sweep(target)
    part = target.with_name(f".{target.name[:80]}.{os.getpid()}-{secrets.token_hex(4)}.part")
    try:
        part.mkdir()
    except OSError as error:
        raise OutputError(f"it cannot be made: {error.strerror}", str(target)) from None
    try:
        yield part
        _flush_folder(part)
        _take_place(part, target)
        _flush_folder(target.parent)
    except OSError as error:
        raise OutputError(
            f"it cannot be written: {error.strerror or error}",
            str(target),
            "make room or choose another folder; nothing was handed over",
        ) from error
    finally:
        shutil.rmtree(part, ignore_errors=True)


def write_flushed(path: Path, writer: Callable[[Path], object]) -> None:
    """Have a file written that is on the disk in the end; its folder is made where need be."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("xb") as file, flushing(file.fileno()):
        writer(path)


def _take_place(part: Path, target: Path) -> None:
    """The new folder under the target's name; the old one, if any, under the new one's."""
    if not target.exists():
        part.rename(target)
        return
    if not _exchanged(part, target):
        old = target.with_name(f"{part.name}.old")
        target.rename(old)
        part.rename(target)
        old.rename(part)


def _exchanged(one: Path, other: Path) -> bool:
    """Swap two names at once, where the system can: nobody ever sees neither."""
    try:
        rename = ctypes.CDLL(None, use_errno=True).renameat2
    except (AttributeError, OSError):
        return False
    words = (os.fsencode(one), os.fsencode(other))
    done = rename(_AT_FDCWD, words[0], _AT_FDCWD, words[1], _RENAME_EXCHANGE)
    return bool(done == 0)


def _flush_folder(folder: Path) -> None:
    try:
        number = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(number)
    finally:
        os.close(number)


def _sweep(target: Path) -> None:
    """Take away what runs that were killed have left."""
    for left in target.parent.glob(".*.part*"):
        match = _PART.match(left.name.removesuffix(".old"))
        if match and match["name"] == target.name[:80] and not _runs(int(match["process"])):
            if left.name.endswith(".old") and not target.exists():
                left.rename(target)  # killed between two renames: the earlier one stands again
            else:
                shutil.rmtree(left, ignore_errors=True)


def _runs(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return process != os.getpid()
