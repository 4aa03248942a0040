"""Words of a command line or plan as sources, with what was said of them."""

from __future__ import annotations

import glob
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from fnmatch import fnmatchcase
from pathlib import Path
from urllib.parse import unquote

from plait.core.base.errors import SourceError, UsageError
from plait.core.base.limits import LIMITS, LimitExceededError, parse_limits
from plait.core.base.names import printable_path, suggest_name, to_table_name, unused_names
from plait.core.base.wording import Setting, wording
from plait.io.delimited.dialect import checked_encoding
from plait.io.places.address import Address, is_address, mask_secrets
from plait.io.places.archives import (
    ARCHIVE,
    COMPRESSED,
    check_unpacked_size,
    list_members,
    uncompressed_ending,
)
from plait.io.places.fetch import local_path
from plait.io.places.source import (
    HISTORY,
    READABLE,
    STANDARD_INPUT,
    Dialect,
    ReadOptions,
    SkippedFiles,
    Source,
    TableListing,
    parse_delimiter,
    strip_member_number,
    unreadable_error,
)
from plait.io.read import find_reader

RAGGED = ("error", "set-aside")
MERGED = ("keep", "fill")
_READING = ("SELECT", "WITH", "VALUES", "TABLE", "SHOW")


def find_sources(
    words: Iterable[str],
    read_options: ReadOptions | None = None,
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
    read_options : ReadOptions, optional
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
    for number, word in enumerate(words):
        if not word:
            raise UsageError(
                "a source name is empty",
                remedy="name a file or folder; use . for the current folder",
            )
        try:
            name, path = name_and_path(word)
            how, query = read_options or ReadOptions(), (queries or {}).get(name or "")
            sources = list(_expand(path, replace(how, query=query) if query else how, faulty))
        except (OSError, ValueError) as error:
            said = getattr(error, "strerror", None) or error
            raise SourceError(
                f"cannot read the file: {said}", printable_path(mask_secrets(word)[:200])
            ) from None
        found += [
            replace(
                source,
                name=source.name if name is None else _name(name, source, sources),
                word=number,
            )
            for source in sources
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


def _expand(word: str, read_options: ReadOptions, faulty: bool) -> Iterator[Source]:
    if word == STANDARD_INPUT:
        yield Source("input", word, options=read_options)
        return
    if is_address(word):
        yield from (
            _at_address_or_fault(word, read_options)
            if faulty
            else _at_address(word, read_options, faulty)
        )
        return
    if read_options.query:
        raise UsageError(
            "a query is asked of a database, and this is none", word, "postgresql://…, mysql://…"
        )
    path, part = _split_part(word)
    over = _passed_over(Path(path)) if Path(path).is_dir() else None
    files = _files(path)
    _check_number(len(files), "files", path, read_options)
    for file in files:
        source = Source(_stem(file), file, options=read_options)
        for table in _tables_or_fault(source, part) if faulty else _tables(source, part):
            yield replace(table, passed_over=over) if over else table
            over = None


def _tables_or_fault(source: Source, part: str) -> list[Source]:
    """The tables of a file, or itself with the reason why it has none."""
    try:
        return list(_tables(source, part))
    except SourceError as error:
        return [replace(source, error=error)]
    except OSError as error:
        return [replace(source, error=unreadable_error(error, source))]


def _at_address_or_fault(word: str, read_options: ReadOptions) -> list[Source]:
    """The tables that an address means, or itself with the reason why there are none."""
    try:
        return list(_at_address(word, read_options, True))
    except SourceError as error:
        address = Address(word.partition("#")[0])
        name = _database_name(address)
        return [Source(name, address.shown, options=read_options, error=error, address=address)]


def _at_address(word: str, read_options: ReadOptions, faulty: bool) -> Iterator[Source]:
    """The tables that an address means."""
    from plait.io.places.fetch import expand_remote_pattern, remote_size

    whole, _, part = word.partition("#")
    address = Address(whole)
    if not address.leads_to_file:
        source = Source(
            _database_name(address), address.shown, options=read_options, address=address
        )
        yield from _parts(source, unquote(part))
        return
    found = expand_remote_pattern(address)
    if found != [address]:
        found = [f for f in found if _known_ending(f.path)]
        if not found:
            raise SourceError("no file matches", address.shown, "check the folder and the pattern")
        found.sort(key=lambda one: natural_sort_key(Path(one.path)))
    _check_number(len(found), "files", address.shown, read_options)
    for one in found:
        size = remote_size(one, read_options.timeout)
        source = Source(_stem(one.path), one.shown, options=read_options, address=one, bytes=size)
        yield from _tables_or_fault(source, part) if faulty else _tables(source, part)


def _database_name(address: Address) -> str:
    """What the database behind an address is called."""
    return to_table_name(Path(address.parts().path).name or address.parts().host or address.scheme)


def _check_number(number: int, what: str, where: str, read_options: ReadOptions) -> None:
    """See that there are not more files or tables than may be."""
    most = read_options.limits.members
    if number > most:
        raise LimitExceededError("members", f"there are {number:,} {what}, over {most:,}", where)


def _passed_over(folder: Path) -> SkippedFiles | None:
    """What a folder holds that is not read, if there is any."""
    names = [
        file.name + ("/" if file.is_dir() else "")
        for file in folder.iterdir()
        if not is_data_file(file) and not file.name.startswith((".", "~$"))
    ]
    return SkippedFiles(str(folder), tuple(sorted(names))) if names else None


def _split_part(word: str) -> tuple[str, str]:
    """The path, and what is behind ``#``, unless that is part of the file's name."""
    if Path(word).exists() or "#" not in word:
        return word, ""
    path, _, part = word.partition("#")
    return path, part


def _files(path: str) -> list[str]:
    place = Path(path)
    if place.is_dir():
        files = [file for file in place.iterdir() if is_data_file(file)]
        if not files:
            raise SourceError(
                "this folder has no file in a supported format",
                path,
                f"it needs files of {readable_endings()}",
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
    return [str(file) for file in sorted(files, key=natural_sort_key)]


def natural_sort_key(path: Path) -> list[tuple[int, int | str]]:
    """Sorts ``month2`` before ``month10``.

    >>> [p.name for p in sorted(map(Path, ["m10.csv", "m2.csv"]), key=natural_sort_key)]
    ['m2.csv', 'm10.csv']
    """
    parts = re.split(r"(\d+)", str(path).casefold())
    return [(0, int(part)) if part.isdecimal() else (1, part) for part in parts]


# What systems put into folders beside people's files; some of them end like a database.
_COMPANIONS = ("thumbs.db", "ehthumbs.db", "ehthumbs_vista.db", "desktop.ini")


def is_data_file(file: Path) -> bool:
    """Whether a file of a folder is one that a person would want read, by its name."""
    name = file.name
    beside = name.startswith((".", "~$")) or name.lower() in _COMPANIONS or name.endswith(HISTORY)
    return _known_ending(name) and not beside and file.is_file()


def _known_ending(name: str) -> bool:
    return uncompressed_ending(name) in (*READABLE, ARCHIVE)


def readable_endings() -> str:
    """The endings that can be read, for messages."""
    return " ".join((*READABLE, ARCHIVE)) + f", also with {' '.join(COMPRESSED)}"


def _near_file(path: Path) -> str:
    if not path.parent.is_dir():
        return f"folder {path.parent} does not exist either"
    return (
        suggest_name(path.name, [file.name for file in path.parent.iterdir()]) or "check the path"
    )


def _tables(source: Source, part: str) -> Iterator[Source]:
    """The tables of a file that the part names; all of them where it names none."""
    ending = source.ending
    if ending == ARCHIVE:
        yield from _members(source, part)
    elif ending not in READABLE:
        text = f"{ending!r} is not a supported file format"
        raise SourceError(text, source.path, f"one of {readable_endings()}")
    else:
        yield from _parts(source, part)


def _stem(path: str) -> str:
    """The file's name without its endings."""
    plain = Path(path)
    stem = Path(plain.stem).stem if plain.suffix.lower() in COMPRESSED else plain.stem
    return to_table_name(stem)


def _members(source: Source, part: str) -> Iterator[Source]:
    path, limits = str(local_path(source)), source.options.limits
    wanted, _, inner = part.partition("#")
    found = [
        name
        for name, member in list_members(path, source.path).items()
        if uncompressed_ending(member) in READABLE
    ]
    names = sorted(found, key=lambda name: natural_sort_key(Path(name)))
    chosen = _chosen(names, wanted, source.path, "file in the archive")
    _check_number(len(chosen), "files", source.path, source.options)
    check_unpacked_size(path, chosen, limits, source.path)
    for name in chosen:
        one = replace(source, name=_stem(strip_member_number(name)), member=name)
        yield from _parts(one, inner)


def _parts(source: Source, part: str) -> Iterator[Source]:
    """The sheets or tables of a file."""
    table_listing = find_reader(source).tables(source)
    if table_listing is None and part and source.options.query:
        raise UsageError(
            "a query replaces the table: name only the database",
            source.where,
            f"leave out #{part}",
        )
    if table_listing is None and part:
        raise SourceError(f"a {source.ending} file has no parts to name", f"{source.where}#{part}")
    for one in _select_tables(table_listing, part, source) if table_listing else [""]:
        named = (table_listing and len(table_listing.names) > 1 and one) or part
        called = one.rpartition(".")[2] if source.in_database else one
        name = to_table_name(called) if one and named else source.name
        yield replace(source, part=one, name=name)


def _select_tables(table_listing: TableListing, part: str, source: Source) -> list[str]:
    """The tables that are meant by what is behind ``#``."""
    if part in table_listing.hidden or (part and table_listing.others):
        return [part]
    meant = [
        name for other, name in table_listing.also.items() if part and fnmatchcase(other, part)
    ]
    if meant and part not in table_listing.names:
        return list(dict.fromkeys(meant))
    chosen = _chosen(
        table_listing.names, part, source.where, table_listing.called, table_listing.hidden
    )
    _check_number(len(chosen), f"{table_listing.called}s", source.where, source.options)
    return chosen


def _chosen(
    names: Sequence[str], part: str, where: str, what: str, hidden: Sequence[str] = ()
) -> list[str]:
    """The names that a pattern means; an exact name goes first."""
    text = f"; hidden: {', '.join(hidden)}" if hidden else ""
    if not names:
        raise SourceError(f"no {what} in it to read", where, f"nothing shown{text}")
    if not part:
        return list(names)
    chosen = [part] if part in names else [name for name in names if fnmatchcase(name, part)]
    if not chosen:
        raise SourceError(
            f"no {what} {part!r}",
            where,
            suggest_name(part, [*names, *hidden]) or f"there are {', '.join(names)}{text}",
        )
    return chosen


def uniquely_named(sources: Sequence[Source]) -> list[Source]:
    """Give sources of the same name their file's or folder's name too, then numbers."""
    names = Counter(source.name for source in sources)
    wishes = []
    for source in sources:
        above = _above(source) if names[source.name] > 1 else ""
        wishes.append(f"{to_table_name(above)}/{source.name}" if above else source.name)
    return [
        replace(source, name=name)
        for source, name in zip(sources, unused_names(wishes), strict=True)
    ]


def _above(source: Source) -> str:
    """What a source is in: the schema of a table, the file of a sheet, the folder of a file."""
    if source.in_database and "." in source.part:
        return source.part.rpartition(".")[0]
    return Path(source.path).stem if source.part else Path(source.path).parent.name


def find_one_source(
    word: str, read_options: ReadOptions | None = None, queries: Mapping[str, str] | None = None
) -> Source:
    """The single table that a word means.

    Raises
    ------
    UsageError
        When it means several.
    """
    sources = find_sources([word], read_options, queries=queries)
    if len(sources) == 1:
        return sources[0]
    word = mask_secrets(word)
    parts = [source.part or source.member for source in sources]
    if all(parts):
        raise UsageError(
            f"{word} holds {len(sources)} tables, but one is needed: {', '.join(parts)}",
            remedy=f"name one: {word.partition('#')[0]}#{parts[0]}",
        )
    raise UsageError(
        f"{word} names {len(sources)} files, but this command takes one table",
        remedy="stack them first: plait stack",
    )


def make_read_options(
    encoding: str | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    escape: str | None = None,
    header_line: int | str | None = None,
    ragged: str = "error",
    footer: int = 0,
    query: str | None = None,
    timeout: int | None = None,
    limit: Mapping[str, str] | Iterable[str] = (),
    merged: str = "keep",
    as_shown: bool = False,
) -> ReadOptions:
    """How a source is written, as a person says it; what is not said is found out.

    Parameters
    ----------
    delimiter : str, optional
        One sign, or ``comma``, ``semicolon``, ``tab``, ``pipe``.
    quote, escape : str, optional
        One sign each.
    header_line : int or str, optional
        From 1; of headings in several rows the first and the last, ``2-3``.
    footer : int
        How many rows at the end are set aside.
    query : str, optional
        What a database is asked for in place of a table.
    timeout : int, optional
        Seconds that a database or an address may take.
    limit : mapping of str to str, or iterable of NAME=VALUE
        What may be larger than usual, or must be smaller.
    merged : {"keep", "fill"}
        What cells hold that are merged downwards with the first.
    as_shown : bool
        Take numbers of a workbook with the zeros that are shown in front of them.

    Raises
    ------
    UsageError
        For a name or sign that is none.

    Examples
    --------
    >>> make_read_options(delimiter="semicolon").dialect.delimiter
    ';'
    """
    for name, sign in (("quote", quote), ("escape", escape)):
        if sign is not None and not (len(sign) == 1 and sign.isascii()):
            raise UsageError(f"--{name} must be one character, not {sign!r}")
    if ragged not in RAGGED:
        raise UsageError(
            wording(Setting("ragged"), f" is {' or '.join(RAGGED)}, not {ragged!r}"),
            remedy=suggest_name(ragged, RAGGED),
        )
    if merged not in MERGED:
        raise UsageError(
            wording(Setting("merged"), f" is {' or '.join(MERGED)}, not {merged!r}"),
            remedy=suggest_name(merged, MERGED),
        )
    if footer < 0:
        raise UsageError("lines are counted from 1")
    dialect = Dialect(
        None if encoding is None else checked_encoding(encoding),
        None if delimiter is None else parse_delimiter(delimiter),
        quote,
        escape,
        *_header_rows(header_line),
    )
    if query is not None:
        _check_query(query)
    if timeout == 0:
        raise UsageError(wording(Setting("timeout"), " is a number of seconds from 1"))
    limits = parse_limits(_mapping(limit)) if limit else LIMITS
    return ReadOptions(dialect, ragged, footer, limits, query or "", timeout, merged, as_shown)


def _check_query(text: str) -> None:
    """See that a query is one that reads, as far as its first word tells."""
    word = (text.replace("(", " ").split() or [""])[0]
    if word.upper() not in _READING:
        raise UsageError(
            f"a query begins with SELECT, not {word!r}",
            remedy=wording("for one of several sources: ", Setting("query", "SELECT …", "NAME")),
        )


def _header_rows(header_line: int | str | None) -> tuple[int | None, int | None]:
    """The line on which the header begins, and how many rows it has."""
    if header_line is None:
        return None, None
    first, _, last = str(header_line).partition("-")
    if not first.isdecimal() or not (last or first).isdecimal():
        raise UsageError(
            wording(Setting("header_line"), f" is a line, or two as 2-3, not {header_line!r}")
        )
    begin, end = int(first), int(last or first)
    if not 1 <= begin <= end:
        raise UsageError("lines are counted from 1")
    return begin, end - begin + 1


def _mapping(said: Mapping[str, str] | Iterable[str]) -> dict[str, str]:
    if isinstance(said, Mapping):
        return dict(said)
    pairs = [s.partition("=") for s in ([said] if isinstance(said, str) else said)]
    wrong = next((name for name, sign, _ in pairs if not sign), None)
    if wrong is not None:
        raise UsageError(
            wording(Setting("limit"), f" is NAME=N, not {wrong!r}"),
            remedy=wording("such as ", Setting("limit", "4GB", "unpacked")),
        )
    return {name: value for name, _, value in pairs}
