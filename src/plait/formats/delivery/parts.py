"""Files and folders that are being written: what they are called, and whether anybody still does.

A part stands beside its target under a name of its own. Whoever writes it holds a lock on
it, which the system takes back when the process ends, however it ends: a part that nobody
holds was left by a run that was killed, on this machine or on another that shares the
folder.
"""

from __future__ import annotations

import os
import re
import secrets
import shutil
import stat
import time
from collections.abc import Iterable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from plait.core.account.errors import OutputError
from plait.formats.delivery.locks import CAN_LOCK_OUTPUTS, NO_FOLLOW, NO_WAIT, OPEN_FLAGS, try_lock

PART, OLD, JOURNAL = ".plait-part", ".plait-old", ".plait-journal"
_PART = re.compile(r"\..*\.(?P<token>[0-9a-f]{8})-\d+\.plait-part", re.DOTALL)
_NAME_BYTES = 200
_PATIENCE_SECONDS, _STEP_SECONDS = 60.0, 0.02


def new_token() -> str:
    """What the names of all parts of one delivery have in common."""
    return secrets.token_hex(4)


def beside(target: Path, token: str, number: int, ending: str, folder: Path | None = None) -> Path:
    """A hidden name beside a target, or in another folder; none is longer than systems allow.

    >>> beside(Path("out/season.csv"), "0123abcd", 2, PART)
    PosixPath('out/.season.csv.0123abcd-2.plait-part')
    """
    name = os.fsencode(target.name)[:_NAME_BYTES].decode(errors="ignore")
    return (folder or target.parent) / f".{name}.{token}-{number}{ending}"


def standing_above(folder: Path) -> Path:
    """The folder itself, or the nearest above it that is there."""
    while not folder.exists() and folder != folder.parent:
        folder = folder.parent
    return folder


def new_file(path: Path, mode: int = 0o600) -> int:
    """Make a part that is a file, and hold it: the descriptor that holds it.

    Only its owner may read it: what is half written is nobody else's.

    Raises
    ------
    OSError
    """
    while True:
        file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | OPEN_FLAGS, mode)
        if _held(file, path):
            return file
        os.close(file)  # somebody took it for one that was left


def new_folder(path: Path, mode: int = 0o700) -> int:
    """Make a part that is a folder, and hold it: the descriptor that holds it.

    Only its owner may enter it.

    Returns
    -------
    int
        -1 where the system opens no folders.

    Raises
    ------
    OSError
    """
    while True:
        path.mkdir(mode)
        if not CAN_LOCK_OUTPUTS:
            return -1
        folder = os.open(path, os.O_RDONLY | OPEN_FLAGS)
        if _held(folder, path):
            return folder
        os.close(folder)


def release(descriptor: int) -> None:
    """Give back what ``new_folder`` holds, and do nothing for -1."""
    if descriptor >= 0:
        os.close(descriptor)


def usual_mode(part: Path) -> int:
    """The mode of what anybody makes where a part stands: a folder if that is one, else a file.

    Folders may have rules of their own beside the process's mask, and the mask cannot be asked
    for without being changed, for all threads: so something empty is made, and looked at.

    Raises
    ------
    OSError
    """
    probe = beside(part, new_token(), 0, PART)
    make, mode = (new_folder, 0o777) if part.is_dir() else (new_file, 0o666)
    held = make(probe, mode)
    try:
        return stat.S_IMODE(probe.stat().st_mode)
    finally:
        release(held)
        remove(probe)


def _held(number: int, path: Path) -> bool:
    """Lock what was just made; whether it is still what stands under the name."""
    if CAN_LOCK_OUTPUTS:
        try_lock(number)
    try:
        return os.path.samestat(os.fstat(number), path.stat())
    except FileNotFoundError:
        return False


@contextmanager
def alone_in(folders: Iterable[Path]) -> Iterator[None]:
    """Hold folders, so that no other run hands anything over into them meanwhile.

    Raises
    ------
    OutputError
        When another run holds one for a minute.
    """
    with ExitStack() as held:
        for folder in sorted(set(folders)):
            try:
                number = os.open(folder, os.O_RDONLY | OPEN_FLAGS)
            except OSError:
                continue  # a folder that may not be read can be written to
            held.callback(os.close, number)
            _wait_for(number, folder)
        yield


def _wait_for(number: int, folder: Path) -> None:
    end = time.monotonic() + _PATIENCE_SECONDS
    while not try_lock(number):
        if time.monotonic() > end:
            raise OutputError(
                "another run is handing over into this folder, and does not end",
                str(folder),
                "check what that process is doing, or name another folder; nothing was handed over",
            )
        time.sleep(_STEP_SECONDS)


def sweep(folder: Path) -> None:
    """Take away the parts that killed runs left in a folder, and nothing else.

    Parts that a journal speaks of stay: whoever reads the journal deals with them. Where parts
    have no locks, nothing tells those that were left from those of a run that goes on: all stay.
    """
    if not CAN_LOCK_OUTPUTS:
        return
    with suppress(OSError):
        names = [name for name in os.listdir(folder) if name.endswith(PART)]  # noqa: PTH208
        for name in names:
            match = _PART.fullmatch(name)
            if match and not (folder / f".{match['token']}{JOURNAL}").exists():
                _take_away(folder / name)


def _take_away(part: Path) -> None:
    """Remove a part unless somebody holds it."""
    with suppress(OSError):
        number = os.open(part, os.O_RDONLY | NO_FOLLOW | NO_WAIT | OPEN_FLAGS)
        try:
            mode = os.fstat(number).st_mode
            if (stat.S_ISREG(mode) or stat.S_ISDIR(mode)) and try_lock(number):
                remove(part)
        finally:
            os.close(number)


def remove(path: Path) -> None:
    """Remove a file, or a folder with all that is in it."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)
