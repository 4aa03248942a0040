"""What a person writes for a source, turned into files and read."""

from __future__ import annotations

import glob
import re
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from plait.core.errors import SourceError, UsageError
from plait.core.names import distinct_name, nearest
from plait.core.table import Table
from plait.formats.delimited import read_delimited
from plait.formats.header import read_header, usable_names

DELIMITERS = {".csv": ",", ".txt": ",", ".tsv": "\t", ".tab": "\t"}
STANDARD_INPUT = "-"

Tick = Callable[[int], None]


@dataclass(frozen=True)
class Source:
    """One file to read, and the name of its table."""

    name: str
    path: str

    @property
    def size(self) -> int:
        """Bytes, 0 when that is not known."""
        path = Path(self.path)
        return path.stat().st_size if path.is_file() else 0


def find_sources(words: Iterable[str]) -> list[Source]:
    """The files that the words mean, in order, each with a name of its own.

    Parameters
    ----------
    words : iterable of str
        Each a path, a glob, a folder (its delimited files, ``2`` before
        ``10``), ``name=path``, or ``-`` for standard input.

    Raises
    ------
    SourceError
        When there is no such file, or none that can be read in a folder or glob.
    """
    found: list[Source] = []
    for word in words:
        name, path = _named(word)
        sources = _expand(path)
        for source in sources:
            wanted = source.name if name is None else name
            found.append(replace(source, name=wanted))
    return uniquely_named(found)


def _named(word: str) -> tuple[str | None, str]:
    name, sign, path = word.partition("=")
    if not sign or not name or "/" in name or Path(word).exists():
        return None, word
    return name, path


def _expand(path: str) -> list[Source]:
    if path == STANDARD_INPUT:
        return [Source("input", path)]
    place = Path(path)
    if place.is_dir():
        files = [file for file in place.iterdir() if _readable(file)]
        if not files:
            raise SourceError(
                "no file in this folder can be read", path, f"it needs {_endings()} files"
            )
    elif place.exists():
        files = [place]
    elif glob.has_magic(path):
        files = [Path(file) for file in glob.glob(path, recursive=True)]  # noqa: PTH207
        files = [file for file in files if file.is_file()]
        if not files:
            raise SourceError("no file matches", path, "check the folder and the pattern")
    else:
        raise SourceError("there is no such file", path, _near_file(place))
    return [Source(file.stem, str(file)) for file in sorted(files, key=natural_order)]


def natural_order(path: Path) -> list[tuple[int, int | str]]:
    """Sorts ``month2`` before ``month10``.

    >>> [p.name for p in sorted(map(Path, ["m10.csv", "m2.csv"]), key=natural_order)]
    ['m2.csv', 'm10.csv']
    """
    parts = re.split(r"(\d+)", str(path).casefold())
    return [(0, int(part)) if part.isdecimal() else (1, part) for part in parts]


def _readable(file: Path) -> bool:
    return file.is_file() and file.suffix.lower() in DELIMITERS and not file.name.startswith(".")


def _endings() -> str:
    return ", ".join(DELIMITERS)


def _near_file(place: Path) -> str:
    if not place.parent.is_dir():
        return f"there is no folder {place.parent} either"
    return nearest(place.name, [file.name for file in place.parent.iterdir()]) or "check the path"


def uniquely_named(sources: Sequence[Source]) -> list[Source]:
    """Give sources of the same name their folder's name too, then numbers."""
    names = [source.name for source in sources]
    named: list[Source] = []
    for source in sources:
        name = source.name
        if names.count(name) > 1 and Path(source.path).parent.name:
            name = f"{Path(source.path).parent.name}/{name}"
        name = distinct_name(name, [one.name for one in named])
        named.append(replace(source, name=name))
    return named


def read_source(source: Source, tick: Tick = lambda _: None) -> Table:
    """Read one source, by the ending of its path.

    Raises
    ------
    SourceError
        When it cannot be opened or read, or no format has its ending.
    """
    if source.path == STANDARD_INPUT:
        return read_delimited(sys.stdin.buffer, source.name, source.path, ",", tick)
    path = Path(source.path)
    delimiter = DELIMITERS.get(path.suffix.lower())
    if delimiter is None:
        raise SourceError(
            f"no format has the ending {path.suffix!r}", source.path, f"one of {_endings()}"
        )
    try:
        with path.open("rb", buffering=0) as stream:
            return read_delimited(stream, source.name, source.path, delimiter, tick)
    except IsADirectoryError:
        raise SourceError("this is a folder", source.path, "name a file") from None
    except OSError as error:
        raise SourceError(f"it cannot be read: {error.strerror}", source.path) from None


def one_source(word: str) -> Source:
    """The single file that a word means.

    Raises
    ------
    UsageError
        When it means several.
    """
    found = find_sources([word])
    if len(found) > 1:
        raise UsageError(
            f"{word} means {len(found)} files where one is wanted",
            remedy="stack them first: plait stack",
        )
    return found[0]


def read_columns(source: Source) -> list[str]:
    """The column names of a delimited file, from its first bytes alone."""
    path = Path(source.path)
    with path.open("rb") as stream:
        head = stream.read(1 << 16)
    header = read_header(head, DELIMITERS.get(path.suffix.lower(), ","), source.path)
    return usable_names(header.names, source.path)[0]
