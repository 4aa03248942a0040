"""What a person writes for a source, turned into tables to read."""

from __future__ import annotations

import glob
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from fnmatch import fnmatchcase
from pathlib import Path
from urllib.parse import unquote

from plait.core.account.errors import SourceError, UsageError
from plait.core.account.limits import LimitError
from plait.core.account.names import distinct_name, nearest, plain_name, shown
from plait.formats.archives.packed import (
    ARCHIVE,
    COMPRESSED,
    check_unpacked,
    inner_ending,
    members,
)
from plait.formats.places.address import Address, is_address, masked
from plait.formats.places.endings import HISTORY, READABLE
from plait.formats.places.given import Given
from plait.formats.places.reader import Tables, said_of
from plait.formats.places.source import STANDARD_INPUT, PassedOver, Source, without_number
from plait.formats.readers import reader_of
from plait.formats.remote.opening import local


def find_sources(
    words: Iterable[str],
    given: Given | None = None,
    faulty: bool = False,
    queries: Mapping[str, str] | None = None,
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
    queries : mapping of str to str, optional
        What the databases of sources that are given these names are asked for.

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
                "a source name is empty",
                remedy="name a file or folder; use . for the current folder",
            )
        try:
            name, path = name_and_path(word)
            how, query = given or Given(), (queries or {}).get(name or "")
            sources = list(_expand(path, replace(how, query=query) if query else how, faulty))
        except (OSError, ValueError) as error:
            said = getattr(error, "strerror", None) or error
            raise SourceError(f"cannot read the file: {said}", shown(masked(word)[:200])) from None
        found += [
            one if name is None else replace(one, name=_name(name, one, sources)) for one in sources
        ]
    return uniquely_named(found)


def _name(name: str, source: Source, sources: Sequence[Source]) -> str:
    """The name given; with the sheet's or member's own behind it where there are several."""
    several = len(sources) > 1 and (source.part or source.member)
    return f"{name}/{source.name}" if several else name


def name_and_path(word: str) -> tuple[str | None, str]:
    """What a word calls its source, if it does, and the path: a file may have a ``=`` in its name.

    >>> name_and_path("spring=2031.csv"), name_and_path("./month=05.csv")
    (('spring', '2031.csv'), (None, './month=05.csv'))
    """
    name, sign, path = word.partition("=")
    if not sign or not name or "/" in name or Path(word).exists():
        return None, word
    return name, path


def _expand(word: str, given: Given, faulty: bool) -> Iterator[Source]:
    if word == STANDARD_INPUT:
        yield Source("input", word, given=given)
        return
    if is_address(word):
        yield from _at_address_or_fault(word, given) if faulty else _at_address(word, given, faulty)
        return
    if given.query:
        raise UsageError(
            "a query is asked of a database, and this is none", word, "postgresql://…, mysql://…"
        )
    path, part = _split_part(word)
    over = _passed_over(Path(path)) if Path(path).is_dir() else None
    files = _files(path)
    _check_number(len(files), "files", path, given)
    for file in files:
        source = Source(_stem(file), file, given=given)
        for one in _tables_or_fault(source, part) if faulty else _tables(source, part):
            yield replace(one, passed_over=over) if over else one
            over = None


def _tables_or_fault(source: Source, part: str) -> list[Source]:
    """The tables of a file, or itself with the reason why it has none."""
    try:
        return list(_tables(source, part))
    except SourceError as error:
        return [replace(source, fault=error)]
    except OSError as error:
        return [replace(source, fault=said_of(error, source))]


def _at_address_or_fault(word: str, given: Given) -> list[Source]:
    """The tables that an address means, or itself with the reason why there are none."""
    try:
        return list(_at_address(word, given, True))
    except SourceError as error:
        address = Address(word.partition("#")[0])
        name = _database_name(address)
        return [Source(name, address.shown, given=given, fault=error, address=address)]


def _at_address(word: str, given: Given, faulty: bool) -> Iterator[Source]:
    """The tables that an address means."""
    from plait.formats.remote.fetching import matching, size_of

    whole, _, part = word.partition("#")
    address = Address(whole)
    if not address.leads_to_file:
        source = Source(_database_name(address), address.shown, given=given, address=address)
        yield from _parts(source, unquote(part))
        return
    found = matching(address)
    if found != [address]:
        found = [one for one in found if _known_ending(one.path)]
        if not found:
            raise SourceError("no file matches", address.shown, "check the folder and the pattern")
        found.sort(key=lambda one: natural_order(Path(one.path)))
    _check_number(len(found), "files", address.shown, given)
    for one in found:
        size = size_of(one, given.timeout)
        source = Source(_stem(one.path), one.shown, given=given, address=one, bytes=size)
        yield from _tables_or_fault(source, part) if faulty else _tables(source, part)


def _database_name(address: Address) -> str:
    """What the database behind an address is called."""
    return plain_name(Path(address.parts().path).name or address.parts().host or address.scheme)


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
                "this folder has no file in a supported format",
                path,
                f"it needs files of {endings()}",
            )
    elif place.exists():
        files = [place]
    elif glob.has_magic(path):
        files = [Path(file) for file in glob.glob(path, recursive=True)]  # noqa: PTH207
        files = [file for file in files if file.is_file()]
        if not files:
            raise SourceError("no file matches", path, "check the folder and the pattern")
    else:
        raise SourceError("file not found", path, _near_file(place))
    return [str(file) for file in sorted(files, key=natural_order)]


def natural_order(path: Path) -> list[tuple[int, int | str]]:
    """Sorts ``month2`` before ``month10``.

    >>> [p.name for p in sorted(map(Path, ["m10.csv", "m2.csv"]), key=natural_order)]
    ['m2.csv', 'm10.csv']
    """
    parts = re.split(r"(\d+)", str(path).casefold())
    return [(0, int(part)) if part.isdecimal() else (1, part) for part in parts]


def _readable(file: Path) -> bool:
    known = _known_ending(file.name)
    ours = file.name.startswith((".", "~$")) or file.name.endswith(HISTORY)
    return file.is_file() and known and not ours


def _known_ending(name: str) -> bool:
    return inner_ending(name) in (*READABLE, ARCHIVE)


def endings() -> str:
    """The endings that can be read, for messages."""
    return " ".join((*READABLE, ARCHIVE)) + f", also with {' '.join(COMPRESSED)}"


def _near_file(place: Path) -> str:
    if not place.parent.is_dir():
        return f"folder {place.parent} does not exist either"
    return nearest(place.name, [file.name for file in place.parent.iterdir()]) or "check the path"


def _tables(source: Source, part: str) -> Iterator[Source]:
    """The tables of a file that the part names; all of them where it names none."""
    ending = source.ending
    if ending == ARCHIVE:
        yield from _members(source, part)
    elif ending not in READABLE:
        what = f"{ending!r} is not a supported file format"
        raise SourceError(what, source.path, f"one of {endings()}")
    else:
        yield from _parts(source, part)


def _stem(path: str) -> str:
    """The file's name without its endings."""
    plain = Path(path)
    stem = Path(plain.stem).stem if plain.suffix.lower() in COMPRESSED else plain.stem
    return plain_name(stem)


def _members(source: Source, part: str) -> Iterator[Source]:
    path, limits = str(local(source)), source.given.limits
    wanted, _, inner = part.partition("#")
    found = [
        name for name, one in members(path, source.path).items() if inner_ending(one) in READABLE
    ]
    names = sorted(found, key=lambda name: natural_order(Path(name)))
    chosen = _chosen(names, wanted, source.path, "file in the archive")
    _check_number(len(chosen), "files", source.path, source.given)
    check_unpacked(path, chosen, limits, source.path)
    for name in chosen:
        one = replace(source, name=_stem(without_number(name)), member=name)
        yield from _parts(one, inner)


def _parts(source: Source, part: str) -> Iterator[Source]:
    """The sheets or tables of a file."""
    found = reader_of(source).tables(source)
    if found is None and part and source.given.query:
        raise UsageError(
            "a query replaces the table: name only the database",
            source.where,
            f"leave out #{part}",
        )
    if found is None and part:
        raise SourceError(f"a {source.ending} file has no parts to name", f"{source.where}#{part}")
    for one in _wanted(found, part, source) if found else [""]:
        named = (found and len(found.names) > 1 and one) or part
        called = one.rpartition(".")[2] if source.in_database else one
        name = plain_name(called) if one and named else source.name
        yield replace(source, part=one, name=name)


def _wanted(found: Tables, part: str, source: Source) -> list[str]:
    """The tables that are meant by what is behind ``#``."""
    if part in found.hidden or (part and found.others):
        return [part]
    meant = [name for other, name in found.also.items() if part and fnmatchcase(other, part)]
    if meant and part not in found.names:
        return list(dict.fromkeys(meant))
    chosen = _chosen(found.names, part, source.where, found.called, found.hidden)
    _check_number(len(chosen), f"{found.called}s", source.where, source.given)
    return chosen


def _chosen(
    names: Sequence[str], part: str, where: str, what: str, hidden: Sequence[str] = ()
) -> list[str]:
    """The names that a pattern means; an exact name goes first."""
    said = f"; hidden: {', '.join(hidden)}" if hidden else ""
    if not names:
        raise SourceError(f"no {what} in it to read", where, f"nothing shown{said}")
    if not part:
        return list(names)
    chosen = [part] if part in names else [name for name in names if fnmatchcase(name, part)]
    if not chosen:
        raise SourceError(
            f"no {what} {part!r}",
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
            above = _above(source)
            name = f"{plain_name(above)}/{name}" if above else name
        name = distinct_name(name, taken, tried)
        taken.add(name)
        named.append(replace(source, name=name))
    return named


def _above(source: Source) -> str:
    """What a source is in: the schema of a table, the file of a sheet, the folder of a file."""
    if source.in_database and "." in source.part:
        return source.part.rpartition(".")[0]
    return Path(source.path).stem if source.part else Path(source.path).parent.name


def one_source(
    word: str, given: Given | None = None, queries: Mapping[str, str] | None = None
) -> Source:
    """The single table that a word means.

    Raises
    ------
    UsageError
        When it means several.
    """
    found = find_sources([word], given, queries=queries)
    if len(found) == 1:
        return found[0]
    word = masked(word)
    parts = [one.part or one.member for one in found]
    if all(parts):
        raise UsageError(
            f"{word} holds {len(found)} tables, but one is needed: {', '.join(parts)}",
            remedy=f"name one: {word.partition('#')[0]}#{parts[0]}",
        )
    raise UsageError(
        f"{word} names {len(found)} files, but this command takes one table",
        remedy="stack them first: plait stack",
    )
