"""Files that appear whole or not at all.

Each is written to a temporary name beside its target and flushed to the disk;
when all are complete they are renamed. When anything goes wrong before that,
an interrupt included, none of them is there.
"""

from __future__ import annotations

import os
import secrets
import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from types import TracebackType
from typing import Protocol

from plait.core.account.errors import OutputError

_FLUSH_SECONDS = 0.2


@contextmanager
def flushing(file: int) -> Iterator[None]:
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


def _file_of(source: str | Path) -> Path:
    """The file of a source: what is before ``#``, unless that is part of its name."""
    whole = Path(source)
    return whole if whole.exists() else Path(str(source).partition("#")[0])


class Transaction(Protocol):
    """A change to something that is there, which takes effect whole or not at all."""

    def commit(self) -> None:
        """Make it so."""

    def rollback(self) -> None:
        """Leave everything as it was."""


class Delivery:
    """A set of outputs that are handed over together.

    Parameters
    ----------
    sources : iterable of path
        Files that must never be written to.
    replace : bool
        Whether existing files may be written over.

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
        self._sources = [file for file in map(_file_of, sources) if file.exists()]
        self.replace = replace
        self._joined: list[tuple[Path, Transaction]] = []
        self._ready: list[tuple[Path, Path]] = []
        self._folders: list[Path] = []

    def check(self, target: Path, make_folder: bool = False, adds: bool = False) -> Path:
        """See that a target can be written, before any work is done for it.

        ``adds``: it is added to, and not written over.

        Raises
        ------
        OutputError
            When it is a source, is there already, or its folder is not there.
        """
        where = str(target)
        if any(target.exists() and target.samefile(source) for source in self._sources):
            raise OutputError(
                "this is a source, and sources are never written to", where, "write to another file"
            )
        if target.is_dir():
            raise OutputError("this is a folder", where, "name a file in it")
        if target.exists() and not self.replace and not adds:
            raise OutputError(
                "the file is there already",
                where,
                "choose another name, or allow it with --replace",
            )
        if not make_folder and not target.parent.is_dir():
            raise OutputError(
                "the folder is not there", where, f"make it: mkdir -p {target.parent}"
            )
        return target

    def write(self, target: Path, writer: Callable[[Path], object]) -> None:
        """Have ``writer`` write a file that will be renamed to ``target`` in the end."""
        self._make_folder(target.parent)
        temporary = target.with_name(f".{target.name[:80]}.{secrets.token_hex(4)}.part")
        self._ready.append((temporary, target))
        try:
            with temporary.open("xb") as file, flushing(file.fileno()):
                writer(temporary)
        except OSError as error:
            raise OutputError(
                f"it cannot be written: {error.strerror or error}",
                str(target),
                "make room or choose another folder; nothing was handed over",
            ) from error

    def join(self, target: Path, transaction: Transaction) -> None:
        """Have a change that is written already take effect in the end, or never."""
        self._joined.append((target, transaction))

    def _make_folder(self, folder: Path) -> None:
        if not folder.exists():
            try:
                folder.mkdir(parents=True)
            except OSError as error:
                raise OutputError(
                    f"the folder cannot be made: {error.strerror}",
                    str(folder),
                    "choose another folder",
                ) from None
            self._folders.append(folder)

    def __enter__(self) -> Delivery:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if kind is None:
            self._hand_over()
        else:
            self._withdraw()

    def _hand_over(self) -> None:
        try:
            for _, target in self._ready:
                self.check(target)
            while self._ready:
                temporary, target = self._ready[0]
                temporary.replace(target)
                self._ready.pop(0)
            while self._joined:
                _, transaction = self._joined[0]
                transaction.commit()
                self._joined.pop(0)
        except BaseException:
            self._withdraw()
            raise

    def _withdraw(self) -> None:
        for _, transaction in self._joined:
            transaction.rollback()
        for temporary, _ in self._ready:
            temporary.unlink(missing_ok=True)
        for folder in self._folders:
            if not any(folder.iterdir()):
                folder.rmdir()
