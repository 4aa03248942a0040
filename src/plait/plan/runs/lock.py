"""One run of a plan at a time: the next one waits for its turn."""

from __future__ import annotations

import json
import os
import stat
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from plait.core.base.errors import OutputError
from plait.io.places.partial_files import temporary_folder
from plait.io.places.safe_files import NO_FOLLOW, NO_WAIT, OPEN_FLAGS, try_lock

ENDING = ".plait-turn"
_STEP_SECONDS = 0.1

Waiting = Callable[[str], None]


def lock_path(plan: Path) -> Path:
    """The file that a run of a plan holds.

    >>> lock_path(Path("jobs/season.toml"))
    PosixPath('jobs/.season.toml.plait-turn')
    """
    return plan.with_name(f".{plan.name}{ENDING}")


@contextmanager
def run_lock(plan: Path, who: str, wait: bool, waiting: Waiting = lambda _: None) -> Iterator[None]:
    """Be the only run of a plan.

    Parameters
    ----------
    who : str
        What others are told who is at it.
    wait : bool
        Wait for another run to end, and do not give up.
    waiting : callable
        Told once who is being waited for.

    Raises
    ------
    OutputError
        When another run is at it and this one is not to wait.

    Notes
    -----
    The lock is the system's (``flock``): it goes with the process, however that ends. The
    file goes when the turn does; who waited for it looks whether it is still the one that
    has the name. Where a folder cannot be written to, or has no locks, all runs are alone.
    """
    temporary_folder()  # without one no lock can be taken, and nothing be worked out
    path = lock_path(plan)
    number = _taken(path, wait, waiting)
    if number is None:
        yield
        return
    try:
        with suppress(OSError):
            os.truncate(number, 0)
            os.write(number, json.dumps({"who": who, "process": os.getpid()}).encode())
        yield
    finally:
        with suppress(OSError):
            path.unlink(missing_ok=True)
        os.close(number)


def is_run_locked(plan: Path) -> bool:
    """Whether a run of a plan is at it now."""
    try:
        number = os.open(lock_path(plan), os.O_RDWR | NO_FOLLOW | NO_WAIT | OPEN_FLAGS)
    except OSError:
        return False
    try:
        if not stat.S_ISREG(os.fstat(number).st_mode):
            return False
        return not try_lock(number)
    finally:
        os.close(number)


def _taken(path: Path, wait: bool, waiting: Waiting) -> int | None:
    """The descriptor that holds the turn; ``None`` where there can be none."""
    told = False
    while True:
        try:
            flags = os.O_RDWR | os.O_CREAT | NO_FOLLOW | NO_WAIT | OPEN_FLAGS
            number = os.open(path, flags, 0o666)
        except OSError:
            return None
        if not stat.S_ISREG(os.fstat(number).st_mode):
            os.close(number)  # somebody put a pipe there
            return None
        if not try_lock(number):
            who = _who(number)
            os.close(number)
            if not wait:
                raise OutputError(
                    f"another run of this plan is in progress: {who}",
                    str(path.parent / path.name[1 : -len(ENDING)]),
                    "wait for it to finish, or run without --no-wait; nothing was handed over",
                ) from None
            if not told:
                waiting(who)
                told = True
            time.sleep(_STEP_SECONDS)
            continue
        if _has_the_name(number, path):
            return number
        os.close(number)


def _has_the_name(number: int, path: Path) -> bool:
    try:
        return os.path.samestat(os.fstat(number), path.stat())
    except OSError:
        return False


def _who(number: int) -> str:
    try:
        said = json.loads(os.read(number, 4096))
        return f"{said['who']}, process {said['process']}"
    except (OSError, ValueError, KeyError, TypeError):
        return "unknown"
