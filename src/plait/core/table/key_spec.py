"""What a key is called on each side: reading it, checking it, finding it when not given."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from plait.core.base.errors import UnknownColumnError, UsageError
from plait.core.base.names import closest_name, fold_heading, suggest_name
from plait.core.base.wording import Setting, Wording, wording
from plait.core.table.table import Table

Key = tuple[tuple[str, str], ...]
Pairs = Mapping[str, str] | Iterable[str]
Several = Mapping[str, str | Sequence[str]] | Iterable[str]
KeySpec = str | Sequence[str] | Mapping[str, str]

_PART = re.compile(r'\s*("(?:[^"]|"")*"|[^"=]*?)\s*(?:=\s*("(?:[^"]|"")*"|[^"=]*?)\s*)?$')
_QUOTED = re.compile(r'"(?:[^"]|"")*"')


def parse_names(spec: str | Iterable[str]) -> tuple[str, ...]:
    """Column names from ``a,b`` or a sequence; quotes hold a name with a comma together.

    >>> parse_names('yard, "Moisture, %"')
    ('yard', 'Moisture, %')
    """
    if not isinstance(spec, str):
        return tuple(spec)
    return tuple(_unquoted(part) for part in _split(spec))


def parse_key_columns(spec: KeySpec) -> Key:
    """Pairs of a left and a right column name.

    Parameters
    ----------
    spec : str, sequence of str or mapping
        ``"yard,hive"``, or ``"country=Country,year=Year"`` where the names
        differ, left = right; a sequence of such parts; or a mapping.

    Examples
    --------
    >>> parse_key_columns("country=Country,year")
    (('country', 'Country'), ('year', 'year'))
    """
    if isinstance(spec, Mapping):
        return tuple(spec.items())
    parts = _split(spec) if isinstance(spec, str) else list(spec)
    pairs = tuple(_pair(part) for part in parts)
    if not pairs or any(not name for pair in pairs for name in pair):
        raise UsageError(
            f"key {spec!r} names no column",
            remedy=wording("write ", Setting("key", ("yard", "hive"))),
        )
    return pairs


def parse_assignments(specs: Pairs, option: str) -> dict[str, str]:
    """``NAME=VALUE`` texts as a mapping; a name in double quotes may hold a ``=``.

    Raises
    ------
    UsageError
        When there is no name or no ``=``.

    Examples
    --------
    >>> parse_assignments(["id=text", '"a=b"=date:%d.%m.%Y'], "type")
    {'id': 'text', 'a=b': 'date:%d.%m.%Y'}
    """
    if isinstance(specs, Mapping):
        return dict(specs)
    made = {}
    for spec in [specs] if isinstance(specs, str) else specs:
        quoted = _QUOTED.match(spec)
        sign = spec.find("=", quoted.end() if quoted else 0)
        if sign < 1:
            raise UsageError(
                wording(Setting(option, spec), " has no = sign"),
                remedy=wording("write ", Setting(option, "VALUE", "NAME")),
            )
        name = _unquoted(spec[:sign])
        if name in made:
            raise UsageError(
                wording(Setting(option), f" names {name} twice"), remedy="keep one of the two"
            )
        made[name] = spec[sign + 1 :]
    return made


def parse_multi_assignments(specs: Several, option: str) -> dict[str, tuple[str, ...]]:
    """``NAME=VALUE,VALUE`` texts as a mapping; a name may come again with more values.

    >>> parse_multi_assignments(["yard=Yrad", "yard=yard no,Yard"], "same")
    {'yard': ('Yrad', 'yard no', 'Yard')}
    """
    if isinstance(specs, Mapping):
        return {name: parse_names(value) for name, value in specs.items()}
    made: dict[str, tuple[str, ...]] = {}
    for spec in [specs] if isinstance(specs, str) else specs:
        for name, value in parse_assignments([spec], option).items():
            made[name] = (*made.get(name, ()), *parse_names(value))
    return made


def _split(spec: str) -> list[str]:
    """Split at commas outside double quotes, keeping the quotes."""
    return re.findall(r'(?:"(?:[^"]|"")*"|[^,"])+', spec)


def _pair(part: str) -> tuple[str, str]:
    match = _PART.match(part)
    if not match:
        return part, part
    left = _unquoted(match[1])
    return left, left if match[2] is None else _unquoted(match[2])


def _unquoted(part: str) -> str:
    part = part.strip()
    if len(part) > 1 and part[0] == part[-1] == '"':
        return next(csv.reader([part]))[0]
    return part


def check_key_columns(key: Key, left: Table, right: Table) -> Key:
    """The key, once every column of it is known to be there.

    Raises
    ------
    UsageError
        Names the column, the table, and the nearest name that it has.
    """
    for here, there in key:
        check_column(here, left)
        check_column(there, right)
    return key


def check_column(name: str, table: Table) -> None:
    """See that a table has a column of that name."""
    if name not in table.column_names:
        raise UnknownColumnError(
            f"no column {name!r} in {table.name}",
            remedy=suggest_name(name, table.column_names)
            or f"its columns are {', '.join(table.column_names)}",
        )


def common_columns(left: Table, right: Table) -> Key:
    """The columns that both tables have, as the key when none was given.

    Raises
    ------
    UsageError
        When there is none; a pair of like names is offered.
    """
    theirs = set(right.column_names)
    shared = tuple((name, name) for name in left.column_names if name in theirs)
    if shared:
        return shared
    raise UsageError(
        f"{left.name} and {right.name} have no column in common to join on",
        remedy=_likely_key(left, right),
    )


def _likely_key(left: Table, right: Table) -> Wording:
    by_form = {fold_heading(name): name for name in right.column_names}
    for name in left.column_names:
        other = by_form.get(fold_heading(name)) or closest_name(name, right.column_names)
        if other:
            return wording("name the key columns: ", key_setting(((name, other),)))
    return wording("name the key columns: ", key_setting((("LEFT", "RIGHT"),)))


def quote_name(name: str) -> str:
    """A column name as it can be pasted into ``--key``.

    >>> quote_name("Moisture, %"), quote_name("hive")
    ('"Moisture, %"', 'hive')
    """
    if re.search(r'[,="]|^\s|\s$', name):
        return '"' + name.replace('"', '""') + '"'
    return name


def format_key_option(key: Key) -> str:
    """The key as it would be written after ``--key``.

    >>> format_key_option((("country", "Country"), ("year", "year")))
    'country=Country,year'
    """
    return ",".join(_key_parts(key))


def _key_parts(key: Key) -> Iterator[str]:
    for left, right in key:
        yield quote_name(left) if left == right else f"{quote_name(left)}={quote_name(right)}"


def key_setting(key: Key) -> Setting:
    """The key as a setting of a join."""
    return Setting("key", tuple(_key_parts(key)))
