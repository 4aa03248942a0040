"""Several changes of files that take effect together: all of them, or none.

What is to be done is written down first, in every folder that it concerns, and last in the
leading one: from then on it counts as decided. A run that is killed after that leaves its
journal; the next one into a folder finishes what it says. A journal whose leader is not
there was never decided, and is thrown away. This is a redo log, of one record (C. Mohan et
al., ARIES, ACM TODS 17(1), 1992, has the general case).

Where a database changes too, whether that change was made decides: its file knows.

A journal names files of its own folder, and of folders in it, and no others: one that
somebody else put there can do nothing elsewhere.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath
from typing import Any, Protocol

from plait.core.base.errors import OutputError
from plait.io.delivery.seal import is_ours, sealed
from plait.io.places.partial_files import (
    JOURNAL,
    OLD,
    PART,
    flush_folder,
    nearest_existing_folder,
    remove_path,
)
from plait.io.places.safe_files import read_plain, write_plain
from plait.io.places.target import schema_version

State = tuple[int, int, int]
_SEALED = "journal"
_LONGEST_NAME = 255


class PartialCommitError(OSError):
    """Some of the files are the new ones, some are not, and the journal stays."""


class CommitPoint(Protocol):
    """A change in a database that goes with the files, and is made in one step."""

    def stated(self) -> dict[str, Any]:
        """What tells later whether it was made."""

    def commit(self) -> None:
        """Make it."""


@dataclass(frozen=True)
class FileSwap:
    """A file or folder that takes the place of what has its name, or goes.

    Parameters
    ----------
    old : Path
        Where what was there is kept until all is done.
    part : Path or None
        What takes its place.
    was : tuple of int or None
        What told the earlier one from others; None when there was none.
    new : tuple of int or None
        The same of the part: nothing else is ever taken away again.
    """

    target: Path
    old: Path
    part: Path | None
    was: State | None = None
    new: State | None = None

    @property
    def folder(self) -> Path:
        """The folder that is there, in which its journal stands."""
        return self.old.parent


def file_identity(path: Path) -> State | None:
    """What tells a file from the next one of the same name: inode, time and size."""
    try:
        status = path.lstat()
    except OSError:
        return None
    return status.st_ino, status.st_mtime_ns, status.st_size


def commit_swaps(steps: Sequence[FileSwap], token: str, decider: CommitPoint | None = None) -> None:
    """Do all the steps, or none.

    Raises
    ------
    OSError
        When one cannot be done; those before it were taken back.
    """
    steps = [
        replace(
            step,
            was=file_identity(step.target),
            new=file_identity(step.part) if step.part else None,
        )
        for step in steps
    ]
    if decider and not steps:
        decider.commit()
        return
    if len(steps) == 1 and steps[0].part and not decider and steps[0].part.is_file():
        _make_folder(steps[0])
        steps[0].part.replace(steps[0].target)  # the system does that in one
        with suppress(OSError):
            flush_folder(steps[0].target.parent)
        return
    journals = _write(steps, token, decider)
    done: list[FileSwap] = []
    try:
        for step in steps:
            done.append(step)
            _do(step)
        for folder in {step.target.parent for step in steps if step.target.parent.is_dir()}:
            flush_folder(folder)
        if decider:
            decider.commit()
    except BaseException as error:
        undone = [_taken_back(step) for step in reversed(done)]
        if not all(undone):
            raise PartialCommitError(str(error)) from error
        _forget(reversed(journals))  # the leading one first: without it nothing is decided
        raise
    for step in steps:
        _drop(step.old)
        _remove_empty(step)
    if not any(step.old.exists() for step in steps):
        _forget(journals)  # or the next run removes what could not be removed now


def _write(steps: Sequence[FileSwap], token: str, decider: CommitPoint | None) -> list[Path]:
    """Write the journals down, the leading one last; they come back with that one last."""
    folders = list(dict.fromkeys(step.folder for step in steps))
    journals = [folder / f".{token}{JOURNAL}" for folder in folders]
    lead = journals[0].absolute()
    written: list[Path] = []
    try:
        for number in (*range(1, len(folders)), *range(min(1, len(folders)))):
            payload: dict[str, Any] = {"lead": str(lead), "steps": _stated(folders[number], steps)}
            if not number:
                payload["followers"] = [str(journal.absolute()) for journal in journals[1:]]
                payload["database"] = decider.stated() if decider else None
                payload["seal"] = sealed(_SEALED, _sealed_text(payload)) if decider else ""
            written.append(journals[number])
            _write_down(journals[number], json.dumps(payload))
    except BaseException:
        _forget(written)
        raise
    return written


def _write_down(journal: Path, text: str) -> None:
    """Write a journal that is there whole or not at all."""
    making = journal.with_name(journal.name + "-new")
    try:
        write_plain(making, text.encode("utf-8", "surrogateescape"))
        making.rename(journal)
    finally:
        with suppress(OSError):
            making.unlink(missing_ok=True)
    flush_folder(journal.parent)


def _stated(folder: Path, steps: Iterable[FileSwap]) -> list[dict[str, Any]]:
    return [
        {
            "target": os.path.relpath(step.target, folder),
            "old": step.old.name,
            "part": step.part.name if step.part else None,
            "was": step.was,
            "new": step.new,
        }
        for step in steps
        if step.folder == folder
    ]


def _do(step: FileSwap) -> None:
    """Carry out a step, from where it stands."""
    _make_folder(step)
    if step.was and not step.old.exists():
        _keep(step)
    if step.part:
        step.part.rename(step.target)


def _make_folder(step: FileSwap) -> None:
    if step.part:
        step.target.parent.mkdir(parents=True, exist_ok=True)


def _keep(step: FileSwap) -> None:
    """Keep what is there: under a second name too, so that nobody ever finds nothing."""
    if step.part and not step.target.is_dir():
        with suppress(OSError):
            os.link(step.target, step.old)
            return
    step.target.rename(step.old)


def _taken_back(step: FileSwap) -> bool:
    """Undo a step, however far it came, so that it could be done again; whether that worked."""
    try:
        if step.part and not step.part.exists() and file_identity(step.target) == step.new:
            _give_back(step, step.part)
        if step.old.exists() and not step.target.exists():
            step.old.rename(step.target)
        remove_path(step.old)
        _remove_empty(step)
    except OSError:
        return False
    return True


def _give_back(step: FileSwap, part: Path) -> None:
    """Give the new one its hidden name again, and the earlier one, if any, its place."""
    if step.was and not step.target.is_dir():
        with suppress(OSError):
            os.link(step.target, part)  # nobody finds nothing, here neither
            step.old.replace(step.target)
            return
    step.target.rename(part)


def _remove_empty(step: FileSwap) -> None:
    """Take away the folders above a target that hold nothing any more."""
    folder = step.target.parent
    with suppress(OSError):
        while folder not in (step.folder, folder.parent):
            folder.rmdir()
            folder = folder.parent


def _drop(old: Path) -> None:
    """Remove what is not needed any more; what cannot be is left for the next run."""
    with suppress(OSError):
        remove_path(old)


def _forget(journals: Iterable[Path]) -> None:
    for journal in journals:
        with suppress(OSError):
            journal.unlink(missing_ok=True)


def recover_journals(folder: Path) -> list[Path]:
    """Finish, or throw away, what runs that were killed have begun in a folder.

    The folder has to be held (``lock_folders``).

    Returns
    -------
    list of Path
        The files that were put in their place.
    """
    try:
        names = sorted(name for name in os.listdir(folder) if JOURNAL in name)  # noqa: PTH208
    except OSError:
        return []
    made: list[Path] = []
    for name in names:
        if name.endswith(JOURNAL):
            made += _recovered(folder / name)
        elif name.endswith(f"{JOURNAL}-new"):
            _forget([folder / name])
    return made


def _recovered(journal: Path) -> list[Path]:
    said = _read(journal)
    if said is None:
        return []  # none of ours: it is left alone
    leads = Path(said["lead"]) == journal.absolute()
    leading = said if leads else _read(Path(said["lead"]).parent / journal.name)
    decided = leading is not None and _database_agrees(leading, journal)
    made: list[Path] = []
    for follower in said.get("followers", ()) if leads else ():
        made += _carried_out(Path(str(follower)).parent / journal.name, decided)
    return _carried_out(journal, decided) + made


def _carried_out(journal: Path, decided: bool) -> list[Path]:
    """Do what a journal says, or undo it; the files that were put in their place."""
    said, made = _read(journal), []
    for one in said["steps"] if said else ():
        step = _step(journal.parent, one)
        if step is None:
            continue
        if not decided:
            _taken_back(step)
            _drop_all(step)
        elif _finished(step):
            made.append(step.target)
    _forget([journal])
    return made


def _finished(step: FileSwap) -> bool:
    """Do a step that may have been done; whether there was anything to do.

    Where somebody has put something else under the name since, that stays.
    """
    state = file_identity(step.target)
    as_it_was = state == step.was or (state is None and step.old.exists())
    to_do = step.part.exists() if step.part else state is not None
    made = to_do and as_it_was
    with suppress(OSError):
        if made:
            _do(step)
        _drop_all(step)
        _remove_empty(step)
    return made and step.part is not None


def _drop_all(step: FileSwap) -> None:
    _drop(step.old)
    if step.part:
        _drop(step.part)


def _read(journal: Path) -> dict[str, Any] | None:
    """What a journal says; None where it is none."""
    try:
        said = json.loads(read_plain(journal).decode("utf-8", "surrogateescape"))
        ours = journal.name.endswith(JOURNAL) and isinstance(said["lead"], str)
        lists = isinstance(said["steps"], list) and isinstance(said.get("followers", []), list)
        return said if ours and lists else None
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return None


def _step(folder: Path, said: Any) -> FileSwap | None:
    """A step as a journal has it, if it is about files that the journal may speak of."""
    try:
        target, old, part = said["target"], said["old"], said["part"]
        inside = PurePosixPath(target)
        plain = [one for one in (old, part) if one is not None]
        if inside.is_absolute() or ".." in inside.parts or any("/" in p for p in plain):
            return None
        if any("\0" in one for one in (target, *plain)):
            return None
        if not old.endswith(OLD) or not (part is None or part.endswith(PART)):
            return None
        above = nearest_existing_folder((folder / inside).parent)
        if not above.resolve().is_relative_to(folder.resolve()):
            return None  # a link leads out of the folder
        if any(len(os.fsencode(one)) > _LONGEST_NAME for one in (*plain, *inside.parts)):
            return None
        states = (_state(said["was"]), _state(said["new"]))
        return FileSwap(folder / inside, folder / old, folder / part if part else None, *states)
    except (KeyError, TypeError, ValueError, AttributeError, OSError):
        return None


def _state(said: Any) -> State | None:
    """What tells a file from others, as a journal has it."""
    if said is None:
        return None
    inode, modified, size = map(int, said)
    return inode, modified, size


asking: list[Callable[[dict[str, Any]], bool | None]] = []
"""What tells whether a change in a database of a server was made; the formats add it."""


def _sealed_text(said: Any) -> str:
    """What of a leading journal is sealed: where it stands, and the database that it names."""
    return json.dumps([said.get("lead"), said.get("database")], sort_keys=True)


def _database_agrees(leading: Mapping[str, Any], journal: Path) -> bool:
    """Whether the change in the database, if there was to be one, was made.

    Raises
    ------
    OutputError
        For a journal that this user did not write: no database that it names is asked.
    """
    said = leading.get("database")
    if not isinstance(said, dict):
        return not said
    if not is_ours(_SEALED, _sealed_text(leading), leading.get("seal")):
        raise OutputError(
            "another user's run was killed here, and only the database that it wrote to knows "
            "whether it took effect",
            str(journal),
            "ask that user to run it again, or delete this file to treat that run as not done",
        )
    for ask in asking:
        answer = ask(said)
        if answer is not None:
            return answer
    version, after = schema_version(said.get("path")), said.get("after")
    return version is not None and isinstance(after, int) and version >= after
