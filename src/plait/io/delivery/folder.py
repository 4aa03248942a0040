"""A folder that appears whole or not at all; an earlier one stands until the new one does."""

from __future__ import annotations

import ctypes
import os
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from plait.core.base.errors import OutputError
from plait.core.base.wording import Setting, wording
from plait.io.delivery.delivery import OutputTransaction, handed_over
from plait.io.delivery.journal import FileSwap, PartialCommitError, commit_swaps, recover_journals
from plait.io.places.partial_files import (
    OLD,
    PART,
    create_partial_folder,
    defer_interrupts,
    flush_folder,
    flush_on_close,
    lock_folders,
    new_delivery_token,
    partial_name,
    release,
    remove_path,
    remove_stale_partials,
)
from plait.io.places.target import give_rights, not_writable_error, partial_commit_error

_TRIES, _TRY_SECONDS = 100, 0.02
_AT_FDCWD, _RENAME_EXCHANGE = -100, 2


def check_folder(
    target: Path, replace: bool, marks: Sequence[str], sources: Iterable[str] = ()
) -> None:
    """See that a folder can be written, before any work is done for it.

    Parameters
    ----------
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
    try:
        _check_folder(target, replace, marks, sources)
    except (OSError, ValueError) as error:
        said = getattr(error, "strerror", None) or error
        raise OutputError(
            f"cannot create the folder: {said}", str(target), "name another folder"
        ) from None


def _check_folder(
    target: Path, replace: bool, marks: Sequence[str], sources: Iterable[str]
) -> None:
    where = str(target)
    if not target.parent.is_dir():
        raise OutputError(
            "the folder does not exist", str(target.parent), f"mkdir -p {target.parent}"
        )
    recover_folder(target.parent)
    inside = target.resolve()
    for source in sources:
        if Path(source).exists() and Path(source).resolve().is_relative_to(inside):
            raise OutputError(
                f"the source {source} is in this folder", where, "name another folder"
            )
    if not (target.exists() or target.is_symlink()):
        return
    if target.is_symlink() or not target.is_dir():
        raise OutputError("this is not a folder", where, "name another")
    if any(target.iterdir()) and not all((target / mark).exists() for mark in marks):
        raise OutputError(
            "the folder already exists and is not a handover", where, "name another folder"
        )
    if not replace:
        raise OutputError(
            "the folder already exists",
            where,
            wording("name another folder, or overwrite it: ", Setting("replace", True)),
        )


@contextmanager
def replace_folder_atomically(
    target: Path, changes: Sequence[OutputTransaction] = ()
) -> Iterator[Path]:
    """A folder to write to, which takes the target's name when all is written.

    Parameters
    ----------
    changes : sequence of OutputTransaction
        At the end one or none: a change in a database that takes effect with the folder.

    Raises
    ------
    OutputError
        When it cannot be made or renamed.

    Examples
    --------
    >>> import tempfile
    >>> target = Path(tempfile.mkdtemp()) / "handover"
    >>> with replace_folder_atomically(target) as part:
    ...     size = (part / "a.txt").write_text("whole")
    >>> (target / "a.txt").read_text(), [file.name for file in target.parent.iterdir()]
    ('whole', ['handover'])
    """
    token = new_delivery_token()
    part = partial_name(target, token, 0, PART)
    number, keep = -1, False
    try:
        with defer_interrupts():  # between being made and being known
            number = _create_part(part, target)
        yield part
        flush_folder(part)
        with defer_interrupts(), lock_folders([target.parent]):
            give_rights(target, part)
            _take_place(part, target, token, changes[0] if changes else None)
            handed_over.append(target)
            with suppress(OSError):
                flush_folder(target.parent)
    except PartialCommitError as error:
        keep = True  # the journal speaks of it
        raise partial_commit_error(target, error) from error
    except OSError as error:
        raise not_writable_error(target, error) from error
    finally:
        for change in changes:
            change.rollback()
        release(number)
        if not keep:
            _surely_removed(part)


def _create_part(part: Path, target: Path) -> int:
    try:
        return create_partial_folder(part)
    except OSError as error:
        raise not_writable_error(target, error, "made") from None


def _surely_removed(part: Path) -> None:
    """Remove a folder into which a thread, cut short itself, may still be writing a last file."""
    for _ in range(_TRIES):
        remove_path(part)
        if not part.exists():
            return
        time.sleep(_TRY_SECONDS)


def recover_folder(folder: Path) -> None:
    """Finish, or take away, what runs that were killed have left in a folder."""
    with lock_folders([folder]):
        recover_journals(folder)
    remove_stale_partials(folder)


def write_flushed(path: Path, writer: Callable[[Path], object]) -> None:
    """Have a file written that is on the disk in the end; its folder is made where need be."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("xb") as file, flush_on_close(file.fileno()):
        writer(path)


def _take_place(part: Path, target: Path, token: str, change: OutputTransaction | None) -> None:
    """The new folder under the target's name; the old one, if any, goes."""
    if change:
        commit_swaps([FileSwap(target, partial_name(target, token, 0, OLD), part)], token, change)
    elif not target.exists():
        part.rename(target)
    elif not _exchanged(part, target):
        commit_swaps([FileSwap(target, partial_name(target, token, 0, OLD), part)], token)


def _exchanged(path: Path, other: Path) -> bool:
    """Swap two names at once, where the system can: nobody ever sees neither."""
    try:
        rename = ctypes.CDLL(None, use_errno=True).renameat2
    except (AttributeError, OSError):
        return False
    words = (os.fsencode(path), os.fsencode(other))
    done = rename(_AT_FDCWD, words[0], _AT_FDCWD, words[1], _RENAME_EXCHANGE)
    return bool(done == 0)
