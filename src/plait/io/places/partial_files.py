"""Files that are being written: partial until the last byte is on disk.

A part stands beside its target under a name of its own. Whoever writes it holds a lock on
it, which the system takes back when the process ends, however it ends: a part that nobody
holds was left by a run that was killed, on this machine or on another that shares the
folder.
"""

from __future__ import annotations

import hashlib
import os
import re
import secrets
import shutil
import signal
import stat
import tempfile
import threading
import time
from collections.abc import Iterable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import Any

from plait.core.base.errors import OutputError
from plait.core.base.wording import Setting, wording
from plait.io.places.safe_files import CAN_LOCK_OUTPUTS, NO_FOLLOW, NO_WAIT, OPEN_FLAGS, try_lock

PART, OLD, JOURNAL = ".plait-part", ".plait-old", ".plait-journal"
_PART = re.compile(r"\..*\.(?P<token>[0-9a-f]{8})-\d+\.plait-part", re.DOTALL)
_NAME_BYTES = 200
_PATIENCE_SECONDS, _STEP_SECONDS = 60.0, 0.02

_FLUSH_SECONDS = 0.2

_NAMES = ("SIGINT", "SIGTERM", "SIGHUP")


def new_delivery_token() -> str:
    """What the names of all parts of one delivery have in common."""
    return secrets.token_hex(4)


def partial_name(
    target: Path, token: str, number: int, ending: str, folder: Path | None = None
) -> Path:
    """A hidden name beside a target, or in another folder; none is longer than systems allow.

    >>> partial_name(Path("out/season.csv"), "0123abcd", 2, PART)
    PosixPath('out/.season.csv.0123abcd-2.plait-part')
    """
    name = os.fsencode(target.name)[:_NAME_BYTES].decode(errors="ignore")
    return (folder or target.parent) / f".{name}.{token}-{number}{ending}"


def nearest_existing_folder(folder: Path) -> Path:
    """The folder itself, or the nearest above it that is there."""
    while not folder.exists() and folder != folder.parent:
        folder = folder.parent
    return folder


def create_partial_file(path: Path, mode: int = 0o600) -> int:
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


def create_partial_folder(path: Path, mode: int = 0o700) -> int:
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
    """Give back what ``create_partial_folder`` holds, and do nothing for -1."""
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
    probe = partial_name(part, new_delivery_token(), 0, PART)
    make, mode = (create_partial_folder, 0o777) if part.is_dir() else (create_partial_file, 0o666)
    held = make(probe, mode)
    try:
        return stat.S_IMODE(probe.stat().st_mode)
    finally:
        release(held)
        remove_path(probe)


def _held(number: int, path: Path) -> bool:
    """Lock what was just made; whether it is still what stands under the name."""
    if CAN_LOCK_OUTPUTS:
        try_lock(number)
    try:
        return os.path.samestat(os.fstat(number), path.stat())
    except FileNotFoundError:
        return False


@contextmanager
def lock_folders(folders: Iterable[Path]) -> Iterator[None]:
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


def remove_stale_partials(folder: Path) -> None:
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
                remove_path(part)
        finally:
            os.close(number)


def remove_path(path: Path) -> None:
    """Remove a file, or a folder with all that is in it."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


@contextmanager
def flush_on_close(file: int) -> Iterator[None]:
    """See that what is written to a file is on the disk in the end, and on its way all along."""
    done = threading.Event()

    def flush_along() -> None:
        with suppress(OSError):  # the last flush tells
            while not done.wait(_FLUSH_SECONDS):
                os.fsync(file)

    along = threading.Thread(target=flush_along, daemon=True)
    along.start()
    try:
        yield
        os.fsync(file)
    finally:
        done.set()
        along.join()


def flush_folder(folder: Path) -> None:
    """See that the names in a folder are on the disk, where the system does that for folders."""
    try:
        number = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(number)
    finally:
        os.close(number)


@contextmanager
def defer_interrupts() -> Iterator[None]:
    """Let interrupts, and requests to end, come only after what is done within.

    Raises
    ------
    KeyboardInterrupt
        Afterwards, when one came meanwhile and nothing else went wrong.
    """
    if threading.current_thread() is not threading.main_thread():
        yield  # handlers run in the main thread only
        return
    came: list[int] = []
    before = _handled(lambda number, _: came.append(number))
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
    if came:
        raise KeyboardInterrupt


def _handled(handler: Any) -> dict[int, Any]:
    """Put a handler in the place of those of Python; the ones that were there.

    What is ignored stays ignored, and what ends a process at once is taken over too.
    """
    before: dict[int, Any] = {}
    for name in _NAMES:
        number = getattr(signal, name, None)
        if number is None:
            continue
        there = signal.getsignal(number)
        if there is not signal.SIG_IGN and there is not None:
            before[number] = signal.signal(number, handler)
    return before


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
            remedy=wording(
                "make room in /tmp, or name another folder: TMPDIR=DIR, ", Setting("scratch", "DIR")
            ),
        ) from None


@contextmanager
def scratch_folder(root: Path | None = None) -> Iterator[Path]:
    """A folder for as long as it is needed; those that killed runs left go too.

    It is made in the system's temporary folder, or in another.

    Examples
    --------
    >>> with scratch_folder() as folder:
    ...     size = (folder / "a.txt").write_text("for now")
    >>> folder.exists()
    False
    """
    root = root or temporary_folder()
    remove_stale_partials(root)
    folder = partial_name(root / "plait", new_delivery_token(), 0, PART)
    number = -1
    try:
        with defer_interrupts():  # between being made and being known
            number = create_partial_folder(folder)
        yield folder
    finally:
        remove_path(folder)
        release(number)


def sha256(path: str | Path) -> str:
    """The SHA-256 of a file, in hexadecimal digits.

    >>> import tempfile
    >>> file = Path(tempfile.mkdtemp()) / "a.txt"
    >>> size = file.write_text("whole")
    >>> sha256(file)[:8]
    '5d5766cf'
    """
    with Path(path).open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def sha256_of_files(paths: Iterable[str]) -> Mapping[str, Future[str]]:
    """The checksums of files, each worked out once, while others go on.

    Returns
    -------
    mapping of str to Future
        ``result()`` waits for one.
    """
    pool = ThreadPoolExecutor(1)
    made = {path: pool.submit(sha256, path) for path in dict.fromkeys(paths)}
    pool.shutdown(wait=False)
    return made
