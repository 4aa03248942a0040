"""Where an output goes: checked before anything is written."""

from __future__ import annotations

import os
import sqlite3
import stat
from collections.abc import Iterable, Mapping
from contextlib import closing, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote

from plait.core.base.errors import OutputError, UsageError
from plait.core.base.wording import Setting, wording
from plait.core.table.table import Table
from plait.io.places.address import Address, is_address
from plait.io.places.partial_files import usual_mode


def resolve_target(target: Path, replace: bool) -> Path:
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
            wording(f"name that file, {aim}, or overwrite it: ", Setting("replace", True)),
        )
    return aim


def check_file_target(target: Path, sources: Iterable[Path], replace: bool, adds: bool) -> None:
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
            wording("leave out ", Setting("out"), " and redirect standard output instead"),
        )
    if target.exists() and not replace and not adds:
        raise OutputError(
            "the file already exists",
            where,
            wording("choose another name, or overwrite the file: ", Setting("replace", True)),
        )


def not_writable_error(
    target: object, error: OSError | ValueError, spec: str = "written"
) -> OutputError:
    """That an output could not be written, or made, and nothing was handed over."""
    said = getattr(error, "strerror", None) or error
    return OutputError(
        f"the file cannot be {spec}: {said}",
        str(target),
        "free some space or choose another folder; no output was written",
    )


def partial_commit_error(target: object, error: OSError) -> OutputError:
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


def schema_version(path: Any) -> int | None:
    """The number that SQLite raises with every change of a table's making; None without one.

    A change that was cut short is taken back by SQLite when the file is opened.
    """
    try:
        address = f"file:{quote(str(Path(path).absolute()))}?mode=rw"
        with closing(sqlite3.connect(address, uri=True)) as base:
            (version,) = base.execute("PRAGMA schema_version").fetchone()
    except (sqlite3.Error, TypeError, ValueError):
        return None
    return int(version)


@dataclass(frozen=True)
class TableTarget:
    """A table that a server keeps.

    Parameters
    ----------
    table : str
        With its schema where it is not in the usual one: ``sales.season``.
    """

    address: Address
    table: str

    def __str__(self) -> str:
        return f"{self.address.shown}#{self.table}"

    @property
    def stem(self) -> str:
        """What a result is called that goes there."""
        return self.table.rpartition(".")[2]

    def beside(self, name: str) -> TableTarget:
        """Another table of the same schema."""
        schema, point, _ = self.table.rpartition(".")
        return TableTarget(self.address, f"{schema}{point}{name}")


@dataclass(frozen=True)
class TableWriteOptions:
    """How a table is written into a database.

    Parameters
    ----------
    append : bool
        Whether its rows are added to those of a table that is there.
    key : tuple of str
        Columns that are known to be unique together.
    comments : mapping of str to str
        What columns mean.
    title : str
        What the table is.
    within : mapping of str to Table
        Further tables of the same new file.
    """

    append: bool = False
    key: tuple[str, ...] = ()
    comments: Mapping[str, str] = field(default_factory=dict)
    title: str = ""
    within: Mapping[str, Table] = field(default_factory=dict)


def parse_table_target(word: str) -> TableTarget | None:
    """The table that an address names; ``None`` for what is no address.

    Raises
    ------
    UsageError
        For an address that names no table, or of something that is only read.

    Examples
    --------
    >>> str(parse_table_target("postgresql://ines:x@db/co_op#sales.season"))
    'postgresql://ines:***@db/co_op#sales.season'
    """
    if not is_address(word):
        return None
    whole, _, table = word.partition("#")
    address = Address(whole)
    if address.scheme not in ("postgresql", "mysql"):
        raise UsageError(
            f"nothing is written to {address.scheme}://",
            address.shown,
            "to a file, to postgresql://…#TABLE or to mysql://…#TABLE",
        )
    if not table:
        raise UsageError(
            "this address names no table", address.shown, f"write {address.shown}#TABLE"
        )
    return TableTarget(address, unquote(table))
