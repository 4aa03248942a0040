"""What a person writes for a source, turned into tables to read."""

from __future__ import annotations

import glob
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase
from pathlib import Path

from plait.core.account.errors import SourceError, UsageError
from plait.core.account.limits import LIMITS, LimitError, Limits
from plait.core.account.names import distinct_name, nearest, plain_name, shown
from plait.formats.archives.packed import (
    ARCHIVE,
    COMPRESSED,
    as_file,
    check_unpacked,
    inner_ending,
    members,
)
from plait.formats.endings import DATABASES, JSON, READABLE, WORKBOOKS
from plait.formats.text.dialect import Dialect

STANDARD_INPUT = "-"


@dataclass(frozen=True)
class Given:
    """What a person says of how a source is written; the rest is found out.

    Parameters
    ----------
    dialect : Dialect
        Of delimited text; ``header_line`` counts for workbooks too.
    ragged : {"error", "set-aside"}
        What is done with rows of too few or too many cells.
    footer : int
        How many rows at the end are set aside.
    limits : Limits
    """

    dialect: Dialect = field(default_factory=Dialect)
    ragged: str = "error"
    footer: int = 0
    limits: Limits = LIMITS


@dataclass(frozen=True)
class PassedOver:
    """Files of a folder that was named which are not read."""

    folder: str
    names: tuple[str, ...]


@dataclass(frozen=True)
class Source:
    """One table to read.

    Parameters
    ----------
    name : str
        What the table is called.
    path : str
        The file.
    member : str
        The file within an archive.
    part : str
        The sheet, or the table of a database.
    given : Given
    passed_over : PassedOver or None
    fault : SourceError or None
        Why there is no table in it to read.
    """

    name: str
    path: str
    member: str = ""
    part: str = ""
    given: Given = field(default_factory=Given)
    passed_over: PassedOver | None = None
    fault: SourceError | None = None

    @property
    def size(self) -> int:
        """Bytes, 0 when that is not known."""
        path = Path(self.path)
        return path.stat().st_size if path.is_file() else 0

    @property
    def ending(self) -> str:
        """The ending that says the format."""
        return inner_ending(_without_number(self.member) or self.path)

    @property
    def where(self) -> str:
        """File, member and part: ``register.xlsx#Hives``."""
        return shown("#".join(filter(None, (self.path, self.member, self.part))))


def _without_number(member: str) -> str:
    """A file's name in an archive without the number that tells it from others of that name.

    >>> _without_number("may.csv (2)")
    'may.csv'
    """
    return re.sub(r" \([0-9]+\)$", "", member)


def find_sources(
    words: Iterable[str], given: Given | None = None, faulty: bool = False
) -> list[Source]:
    """The tables that the words mean, in order, each with a name of its own.

    Parameters
    ----------
    words : iterable of str
        Each a path, a glob, a folder (its files, ``2`` before ``10``),
        ``name=path``, or ``-`` for standard input. Behind a ``#`` a sheet, a
        table of a database or a file in an archive, or a pattern for several:
        ``register.xlsx#Q*``.
    given : Given, optional
        What is known of how they are written.
    faulty : bool
        Whether files that are there and hold no table are sources too, with the reason.

    Returns
    -------
    list of Source
        A workbook, database or archive with several tables of which none is
        named gives them all.

    Raises
    ------
    SourceError
        When there is no such file, sheet or table, or none that can be read in
        a folder or glob.
    """
    found: list[Source] = []
    for word in words:
        if not word:
            raise UsageError(
                "a source without a name", remedy="name a file or folder; . is this one"
            )
        try:
            name, path = _named(word)
            sources = list(_expand(path, given or Given(), faulty))
        except (OSError, ValueError) as error:
            said = getattr(error, "strerror", None) or error
            raise SourceError(f"it cannot be read: {said}", shown(word[:200])) from None
        found += [
            one if name is None else replace(one, name=_name(name, one, sources)) for one in sources
        ]
    return uniquely_named(found)


def _name(name: str, source: Source, sources: Sequence[Source]) -> str:
    """The name given; with the sheet's or member's own behind it where there are several."""
    several = len(sources) > 1 and (source.part or source.member)
    return f"{name}/{source.name}" if several else name


def _named(word: str) -> tuple[str | None, str]:
    name, sign, path = word.partition("=")
    if not sign or not name or "/" in name or Path(word).exists():
        return None, word
    return name, path


def _expand(word: str, given: Given, faulty: bool) -> Iterator[Source]:
    if word == STANDARD_INPUT:
        yield Source("input", word, given=given)
        return
    path, part = _split_part(word)
    over = _passed_over(Path(path)) if Path(path).is_dir() else None
    files = _files(path)
    _check_number(len(files), "files", path, given)
    for file in files:
        for one in _tables_or_fault(file, part, given) if faulty else _tables(file, part, given):
            yield replace(one, passed_over=over) if over else one
            over = None


def _tables_or_fault(path: str, part: str, given: Given) -> list[Source]:
    """The tables of a file, or itself with the reason why it has none."""
    try:
        return list(_tables(path, part, given))
    except SourceError as error:
        return [Source(_stem(path), path, given=given, fault=error)]
    except OSError as error:
        fault = SourceError(f"it cannot be read: {error.strerror or error}", shown(path))
        return [Source(_stem(path), path, given=given, fault=fault)]


def _check_number(number: int, what: str, where: str, given: Given) -> None:
    """See that there are not more files or tables than may be."""
    most = given.limits.members
    if number > most:
        raise LimitError("members", f"there are {number:,} {what}, over {most:,}", where)


def _passed_over(folder: Path) -> PassedOver | None:
    """What a folder holds that is not read, if there is any."""
    others = [
        file.name + ("/" if file.is_dir() else "")
        for file in folder.iterdir()
        if not _readable(file) and not file.name.startswith((".", "~$"))
    ]
    return PassedOver(str(folder), tuple(sorted(others))) if others else None


def _split_part(word: str) -> tuple[str, str]:
    """The path, and what is behind ``#``, unless that is part of the file's name."""
    if Path(word).exists() or "#" not in word:
        return word, ""
    path, _, part = word.partition("#")
    return path, part


def _files(path: str) -> list[str]:
    place = Path(path)
    if place.is_dir():
        files = [file for file in place.iterdir() if _readable(file)]
        if not files:
            raise SourceError(
                "no file in this folder can be read", path, f"it needs files of {endings()}"
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
    return [str(file) for file in sorted(files, key=natural_order)]


def natural_order(path: Path) -> list[tuple[int, int | str]]:
    """Sorts ``month2`` before ``month10``.

    >>> [p.name for p in sorted(map(Path, ["m10.csv", "m2.csv"]), key=natural_order)]
    ['m2.csv', 'm10.csv']
    """
    parts = re.split(r"(\d+)", str(path).casefold())
    return [(0, int(part)) if part.isdecimal() else (1, part) for part in parts]


def _readable(file: Path) -> bool:
    ending = inner_ending(file.name)
    known = ending in READABLE or ending == ARCHIVE
    return file.is_file() and known and not file.name.startswith((".", "~$"))


def endings() -> str:
    """The endings that can be read, for messages."""
    return " ".join((*READABLE, ARCHIVE)) + f", also with {' '.join(COMPRESSED)}"


def _near_file(place: Path) -> str:
    if not place.parent.is_dir():
        return f"there is no folder {place.parent} either"
    return nearest(place.name, [file.name for file in place.parent.iterdir()]) or "check the path"


def _tables(path: str, part: str, given: Given) -> Iterator[Source]:
    """The tables of a file that the part names; all of them where it names none."""
    ending = inner_ending(path)
    if ending == ARCHIVE:
        yield from _members(path, part, given)
    elif ending not in READABLE:
        raise SourceError(f"no format has the ending {ending!r}", path, f"one of {endings()}")
    else:
        yield from _parts(Source(_stem(path), path, given=given), part)


def _stem(path: str) -> str:
    """The file's name without its endings."""
    plain = Path(path)
    stem = Path(plain.stem).stem if plain.suffix.lower() in COMPRESSED else plain.stem
    return plain_name(stem)


def _members(path: str, part: str, given: Given) -> Iterator[Source]:
    wanted, _, inner = part.partition("#")
    found = [name for name, one in members(path).items() if inner_ending(one) in READABLE]
    names = sorted(found, key=lambda name: natural_order(Path(name)))
    chosen = _chosen(names, wanted, path, "file in the archive")
    _check_number(len(chosen), "files", path, given)
    check_unpacked(path, chosen, given.limits)
    for name in chosen:
        yield from _parts(Source(_stem(_without_number(name)), path, name, given=given), inner)


def _parts(source: Source, part: str) -> Iterator[Source]:
    """The sheets or tables of a file."""
    ending = source.ending
    if ending in WORKBOOKS:
        from plait.formats.workbooks import reading as workbook

        limits = source.given.limits
        with as_file(source.path, source.member, ending, limits) as file:
            shown, hidden = workbook.sheet_names(file, source.where, limits)
        exact = [part] if part in hidden else []
        parts = exact or _chosen(shown, part, source.where, "sheet", hidden)
    elif ending in DATABASES:
        from plait.formats.databases import reading as database

        with as_file(source.path, source.member, ending, source.given.limits) as file:
            tables = database.table_names(file, source.where)
        parts = _chosen(tables, part, source.where, "table")
        _check_number(len(parts), "tables", source.where, source.given)
    elif ending == JSON:
        parts = [part] if part else _arrays(source)
    elif part:
        raise SourceError(f"a {ending} file has no parts to name", f"{source.where}#{part}")
    else:
        parts = [""]
    for one in parts:
        named = len(parts) > 1 or part
        name = plain_name(one) if one and named else source.name
        yield replace(source, part=one, name=name)


def _arrays(source: Source) -> list[str]:
    """The names of the arrays of records in a file of JSON, if it has several."""
    from plait.formats.json.reading import array_names

    limits = source.given.limits
    with (
        as_file(source.path, source.member, source.ending, limits) as file,
        file.open("rb") as text,
    ):
        names = array_names(text, source.where, limits)
    return names if len(names) > 1 else [""]


def _chosen(
    names: Sequence[str], part: str, where: str, what: str, hidden: Sequence[str] = ()
) -> list[str]:
    """The names that a pattern means; an exact name goes first."""
    said = f"; hidden: {', '.join(hidden)}" if hidden else ""
    if not names:
        raise SourceError(f"there is no {what} in it to read", where, f"nothing shown{said}")
    if not part:
        return list(names)
    chosen = [part] if part in names else [name for name in names if fnmatchcase(name, part)]
    if not chosen:
        raise SourceError(
            f"there is no {what} {part!r}",
            where,
            nearest(part, [*names, *hidden]) or f"there are {', '.join(names)}{said}",
        )
    return chosen


def uniquely_named(sources: Sequence[Source]) -> list[Source]:
    """Give sources of the same name their file's or folder's name too, then numbers."""
    names = Counter(source.name for source in sources)
    named: list[Source] = []
    taken: set[str] = set()
    tried: dict[str, int] = {}
    for source in sources:
        name = source.name
        if names[name] > 1:
            above = Path(source.path).stem if source.part else Path(source.path).parent.name
            name = f"{plain_name(above)}/{name}" if above else name
        name = distinct_name(name, taken, tried)
        taken.add(name)
        named.append(replace(source, name=name))
    return named


def one_source(word: str, given: Given | None = None) -> Source:
    """The single table that a word means.

    Raises
    ------
    UsageError
        When it means several.
    """
    found = find_sources([word], given)
    if len(found) == 1:
        return found[0]
    parts = [one.part or one.member for one in found]
    if all(parts):
        raise UsageError(
            f"{word} holds {len(found)} tables where one is wanted: {', '.join(parts)}",
            remedy=f"name one: {word.partition('#')[0]}#{parts[0]}",
        )
    raise UsageError(
        f"{word} means {len(found)} files where one is wanted",
        remedy="stack them first: plait stack",
    )
