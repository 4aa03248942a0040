"""Files that are handed over together: all of them the new ones, or all as they were.

Each is written beside its target under a hidden name, and flushed to the disk. When all are
complete they take their places together (``journal``), also when the process is killed in
the middle of that. When anything goes wrong before, an interrupt included, none of them is
there.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from pathlib import Path
from types import TracebackType
from typing import Protocol, TypeVar, cast

from plait.core.base.errors import OutputError
from plait.io.delivery.journal import (
    CommitPoint,
    FileSwap,
    PartialCommitError,
    commit_swaps,
    recover_journals,
)
from plait.io.delivery.proof import find_unrelated_files, format_proof, proof_path, read_proof
from plait.io.places.partial_files import (
    OLD,
    PART,
    create_partial_file,
    defer_interrupts,
    flush_on_close,
    lock_folders,
    nearest_existing_folder,
    new_delivery_token,
    partial_name,
    remove_stale_partials,
)
from plait.io.places.target import (
    check_file_target,
    give_rights,
    not_writable_error,
    partial_commit_error,
    resolve_target,
)

handed_over: list[Path | NamedOutput] = []
"""What this process has handed over so far: whoever is cut short must say what is true."""


def _source_file(source: str | Path) -> Path:
    """The file of a source: what is before ``#``, unless that is part of its name."""
    path = Path(source)
    return path if _exists(path) else Path(str(source).partition("#")[0])


def _exists(path: Path) -> bool:
    try:
        return path.exists()
    except (OSError, ValueError):  # a name that no file can have
        return False


class OutputTransaction(CommitPoint, Protocol):
    """A change in a database that is there, which takes effect whole or not at all."""

    def rollback(self) -> None:
        """Leave everything as it was."""


class NamedOutput(Protocol):
    """What an output is called that is no file."""

    @property
    def stem(self) -> str:
        """What a result is called that goes there."""


Open = TypeVar("Open", bound=OutputTransaction)


class Delivery:
    """A set of outputs that are handed over together.

    Parameters
    ----------
    sources : iterable of path
        Files that must never be written to.
    replace : bool
        Whether existing files may be written over.

    Attributes
    ----------
    completed : list of Path
        Files of an earlier run, killed while it handed over, that were put in their place.
    left : list of str
        Files of the folder for set-aside rows that are not of this delivery.

    Examples
    --------
    >>> import tempfile
    >>> folder = Path(tempfile.mkdtemp())
    >>> with Delivery() as delivery:
    ...     delivery.write(folder / "a.txt", lambda path: path.write_text("whole"))
    >>> (folder / "a.txt").read_text()
    'whole'
    """

    def __init__(self, sources: Iterable[str | Path] = (), replace: bool = False) -> None:
        self._sources = [file for file in map(_source_file, sources) if _exists(file)]
        self.replace = replace
        self.completed: list[Path] = []
        self._token = new_delivery_token()
        self._joined: list[tuple[Path | NamedOutput, OutputTransaction]] = []
        self._changes: dict[str, OutputTransaction] = {}
        self._ready: dict[Path, Path] = {}
        self._held: list[int] = []
        self._tidied: set[Path] = set()
        self._lead: Path | None = None
        self._unfinished = False

    def check(self, target: Path, make_folder: bool = False, adds: bool = False) -> Path:
        """See that a target can be written, before any work is done for it.

        ``adds``: it is added to, and not written over; a source may be too.

        Raises
        ------
        OutputError
            When it is a source, is there already, or its folder is not there.
        """
        try:
            self._tidy(nearest_existing_folder(target.parent))
            check_file_target(target, () if adds else self._sources, self.replace, adds)
            resolve_target(target, self.replace)
            if not make_folder and not target.parent.is_dir():
                raise OutputError(
                    "the folder does not exist", str(target), f"create it: mkdir -p {target.parent}"
                )
        except (OSError, ValueError) as error:
            raise not_writable_error(target, error) from None
        return target

    def reads(self, target: Path) -> bool:
        """Whether a file that is there is one of the sources."""
        return any(target.samefile(source) for source in self._sources)

    def write(self, target: Path, writer: Callable[[Path], object]) -> None:
        """Have ``writer`` write a file that takes the place of ``target`` in the end.

        Raises
        ------
        OutputError
            When it cannot be written, or another output has that name.
        """
        try:
            path = resolve_target(target, self.replace)
            if path in self._ready:
                raise OutputError(
                    "two outputs would go to this file", str(target), "give each its own name"
                )
            self._write(path, writer)
        except OSError as error:
            raise not_writable_error(target, error) from error

    def _write(self, path: Path, writer: Callable[[Path], object]) -> None:
        part = partial_name(
            path, self._token, len(self._ready), PART, nearest_existing_folder(path.parent)
        )
        with defer_interrupts():  # between being made and being known
            self._held.append(create_partial_file(part))
            self._ready[path] = part
        with flush_on_close(self._held[-1]):
            writer(part)

    def joined(self, target: Path | NamedOutput, base: str, begin: Callable[[], Open]) -> Open:
        """The change in a database that takes effect in the end, or never.

        Parameters
        ----------
        target : path, or what else has a name
            What is told of it.
        base : str
            The database: there is one change for each.
        begin : callable
            Begins it.
        """
        if base not in self._changes:
            self._changes[base] = begin()
            self._joined.append((target, self._changes[base]))
        return cast(Open, self._changes[base])

    def lead(self, result: Path) -> None:
        """Say which output is the result: what was delivered with an earlier one goes with it."""
        self._lead = resolve_target(result, self.replace)

    def left_in(self, folder: Path, targets: Iterable[Path]) -> list[str]:
        """What is in a folder for set-aside rows, and is neither of this delivery nor goes.

        Parameters
        ----------
        targets : iterable of Path
            What will be written.
        """
        if self._lead is None:
            return []
        return find_unrelated_files(folder, self._lead, [*targets, *self.going(targets)])

    def going(self, targets: Iterable[Path] = ()) -> list[Path]:
        """What was delivered with the earlier result, and is not written anew.

        Parameters
        ----------
        targets : iterable of Path
            What will be written, beside what has been already.
        """
        if self._lead is None or not self.replace:
            return []
        anew = {*self._ready, *targets}
        return [path for path in read_proof(self._lead) if path not in anew]

    def _tidy(self, folder: Path) -> None:
        """Finish or take away what killed runs left in a folder."""
        if folder not in self._tidied:
            self._tidied.add(folder)
            with lock_folders([folder]):
                self.completed += recover_journals(folder)
            remove_stale_partials(folder)

    def __enter__(self) -> Delivery:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        try:
            if kind is None:
                self._hand_over()
        finally:
            self._withdraw()

    def _hand_over(self) -> None:
        if not self._ready and not self._joined:
            return
        with defer_interrupts(), lock_folders(self._folders()):
            for target in self._ready:
                check_file_target(target, self._sources, self.replace, adds=False)
            places = [*(target for target, _ in self._joined), *self._ready]
            try:
                steps = self._steps()
                commit_swaps(steps, self._token, self._joined[0][1] if self._joined else None)
            except PartialCommitError as error:
                self._unfinished = True
                raise partial_commit_error(places[0], error) from error
            except OSError as error:
                raise not_writable_error(places[0], error) from error
            handed_over.extend(places)
            self._ready, self._joined, self._changes = {}, [], {}

    def _folders(self) -> set[Path]:
        """Where something changes."""
        parts = {part.parent for part in self._ready.values()}
        return parts | ({self._lead.parent} if self._lead else set())

    def _steps(self) -> list[FileSwap]:
        """What takes which place, and what goes."""
        going = [*self.going(), *self._proof_written()]
        for target, part in self._ready.items():
            give_rights(target, part)
        steps = [
            FileSwap(target, self._old(target, number, part.parent), part)
            for number, (target, part) in enumerate(self._ready.items())
        ]
        above = self._lead.parent if self._lead else None
        return steps + [
            FileSwap(path, self._old(path, number, above), None)
            for number, path in enumerate(going, len(steps))
        ]

    def _old(self, target: Path, number: int, folder: Path | None) -> Path:
        return partial_name(target, self._token, number, OLD, folder)

    def _proof_written(self) -> list[Path]:
        """Name what is delivered with the result, for whoever replaces it; the file if it goes."""
        if self._lead is None:
            return []
        proof = proof_path(self._lead)
        beside_it = {path: part for path, part in self._ready.items() if path != self._lead}
        if not beside_it:
            return [proof] if proof.exists() and self.replace else []
        text = format_proof(self._lead, beside_it)
        self._write(proof, lambda part: part.write_text(text, encoding="utf-8"))
        return []

    def _withdraw(self) -> None:
        """Take away what was not handed over."""
        for _, transaction in self._joined:
            transaction.rollback()
        for part in () if self._unfinished else self._ready.values():
            part.unlink(missing_ok=True)
        for number in self._held:
            os.close(number)
        self._ready, self._joined, self._changes, self._held = {}, [], {}, []
