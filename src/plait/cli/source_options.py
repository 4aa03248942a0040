"""Options of reading that are given for all sources, or for one by its name."""

from __future__ import annotations

import argparse
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from plait.cli.arguments import parse_option_value
from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.operations.retype import apply_declared_types, parse_type_assignments
from plait.core.specs.option import Option, OptionKind
from plait.core.specs.shared import READING, TYPING
from plait.core.table.key_spec import check_column
from plait.core.table.table import Table
from plait.io.places.source import ReadOptions, Source
from plait.io.sources import make_read_options

_QUERY = next(r for r in READING if r.name == "query")


@dataclass(frozen=True)
class PerSourceOptions:
    """What a line says of its sources.

    Parameters
    ----------
    everywhere : mapping of str to object
        Option to value.
    alone : mapping of str to mapping
        The same for the sources that have that name.
    """

    everywhere: Mapping[str, Any]
    alone: Mapping[str, Mapping[str, Any]]

    def of(self, called: Collection[str]) -> dict[str, Any]:
        """What is said of a source that is called so: its own before what is said of all."""
        own = [values for name, values in self.alone.items() if name in called]
        merged = dict(self.everywhere)
        for values in own:
            for option, value in values.items():
                before = merged.get(option)
                merged[option] = _both(before, value) if isinstance(before, list) else value
        return merged


def _both(before: Sequence[str], own: Sequence[str]) -> list[str]:
    """What is said of all, and of one: of two values for the same name its own.

    >>> _both(["day=text", "kg=decimal"], ["day=date"])
    ['kg=decimal', 'day=date']
    """
    named = {text.partition("=")[0] for text in own if "=" in text}
    return [*(text for text in before if text.partition("=")[0] not in named), *own]


def parse_read_options(options: argparse.Namespace) -> ReadOptions:
    """How all sources of a line are written, as far as it says.

    Raises
    ------
    UsageError
        For a name or sign that is none.
    """
    return make_read_options(**_parse_per_source(options, READING, None).everywhere)


def parse_queries(options: argparse.Namespace) -> dict[str, str]:
    """What the line asks of databases, by the names of their sources."""
    pairs = (_apart(_QUERY, text, ()) for text in getattr(options, "query", None) or ())
    return {name: text for name, text in pairs if name}


def apply_per_source_options(
    sources: Sequence[Source], options: argparse.Namespace
) -> list[Source]:
    """The sources with what the line says of each of them alone.

    Raises
    ------
    UsageError
        When it names a source that there is not.
    """
    names = [names_for_source(source.name, source.path) for source in sources]
    per_source = _parse_per_source(options, READING, names)
    if not per_source.alone:
        return list(sources)
    return [
        replace(source, options=make_read_options(**per_source.of(mine)))
        for source, mine in zip(sources, names, strict=True)
    ]


def apply_types(tables: Sequence[Table], options: argparse.Namespace) -> list[Table]:
    """The tables with the markers and types that the line says of all, or of each alone.

    Raises
    ------
    UsageError
        When it names a source or a column that there is not.
    """
    names = [names_for_source(table.name, table.path) for table in tables]
    per_source = _parse_per_source(options, TYPING, names)
    if not per_source.alone:
        return apply_declared_types(
            tables, **{"missing": (), "type": (), "unfit": "error", **per_source.everywhere}
        )
    for column in parse_type_assignments(per_source.everywhere.get("type", ())):
        if not any(table.has_column(column) for table in tables):
            check_column(column, tables[0])
    return [_declared(table, per_source, mine) for table, mine in zip(tables, names, strict=True)]


def _declared(table: Table, per_source_options: PerSourceOptions, mine: Collection[str]) -> Table:
    wanted = per_source_options.of(mine)
    everywhere = parse_type_assignments(per_source_options.everywhere.get("type", ()))
    types = parse_type_assignments(wanted.get("type", ()))
    types = {
        name: kind
        for name, kind in types.items()
        if table.has_column(name) or name not in everywhere
    }
    return apply_declared_types(
        [table], wanted.get("missing", ()), types, wanted.get("unfit", "error")
    )[0]


def names_for_source(name: str, path: str) -> set[str]:
    """What a person may call a source: its name, its file with and without ending, its folder."""
    file = Path(path.partition("#")[0])
    return {name, path, file.name, file.stem, file.parent.name} - {""}


def _parse_per_source(
    options: argparse.Namespace,
    described: Sequence[Option],
    names: Sequence[Collection[str]] | None,
) -> PerSourceOptions:
    """What is said of all and of each; without names what is said of all."""
    known = set().union(*names) if names is not None else set()
    everywhere: dict[str, Any] = {}
    alone: dict[str, dict[str, Any]] = {}
    for option in described:
        for text in getattr(options, option.name, None) or ():
            name, value = _apart(option, text, known)
            if names is None and name:
                continue
            if name and name not in known:
                raise _unknown(option, name, known)
            target = alone.setdefault(name, {}) if name else everywhere
            _put(target, option, value)
    return PerSourceOptions(everywhere, alone)


def _apart(option: Option, text: str, known: Collection[str]) -> tuple[str, str]:
    """The source that a value is for, and the value."""
    name, sign, rest = text.partition("=")
    if not sign or not name:
        return "", text
    if option is _QUERY and len(name.split()) > 1 and name not in known:
        return "", text  # the = is one of the query's own
    if option.kind is OptionKind.PAIRS:
        return (name, rest) if "=" in rest and (name in known or not known) else ("", text)
    if option.kind is OptionKind.NAMES and name not in known:
        return "", text
    return name, rest


def _put(target: dict[str, Any], option: Option, text: str) -> None:
    value: Any = True if option.kind is OptionKind.FLAG else parse_option_value(option, text)
    if option.kind in (OptionKind.PAIRS, OptionKind.NAMES):
        more: Iterator[Any] = iter((text,) if option.kind is OptionKind.PAIRS else value)
        target[option.name] = [*target.get(option.name, ()), *more]
    else:
        target[option.name] = value


def _unknown(option: Option, name: str, known: Collection[str]) -> UsageError:
    return UsageError(
        f"{option.flag} names {name!r}, but no source has that name",
        remedy=suggest_name(name, known) or f"the sources are {', '.join(sorted(known))}",
    )
