"""Sources of one shape, brought together as families."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence, Set
from dataclasses import dataclass
from pathlib import PurePath

from plait.core.account.names import distinct_name, folded, plain_name, respelt
from plait.core.table.table import Table

_ALIKE, _MOSTLY = 0.6, 0.75


@dataclass(frozen=True)
class Family:
    """Sources with mostly the same headers: a name for them, and their places in the list."""

    name: str
    members: tuple[int, ...]


def families(tables: Sequence[Table]) -> list[Family]:
    """Bring sources with mostly the same headers together.

    Headers count as the same that differ in case, spaces and punctuation only, or
    in a slip of the pen; a source joins the first family with a member of which it
    shares enough headers (``mostly_alike``) and beside which it belongs.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> may = from_columns("may", {"Hive": [], "kg": []}, "visits/may.csv")
    >>> june = from_columns("june", {"hive ": [], "kg": []}, "visits/june.csv")
    >>> families([may, june, from_columns("hives", {"breed": []})])
    [Family(name='visits', members=(0, 1)), Family(name='hives', members=(2,))]
    """
    found: list[tuple[list[frozenset[str]], list[int]]] = []
    neighbours = _Neighbours(tables)
    for number, table in enumerate(tables):
        headers = frozenset(headers_of(table))
        for known, members in found:
            near = neighbours.near(table, tables[members[0]])
            if near and (headers in known or any(mostly_alike(headers, one) for one in known)):
                members.append(number)
                if headers not in known:
                    known.append(headers)
                break
        else:
            found.append(([headers], [number]))
    named = _names([[tables[number] for number in members] for _, members in found])
    return [Family(name, tuple(members)) for name, (_, members) in zip(named, found, strict=True)]


def headers_of(table: Table) -> set[str]:
    """The headers of a table without case, spaces and punctuation."""
    return {folded(name) or name for name in table.column_names}


def mostly_alike(one: Set[str], other: Set[str]) -> bool:
    """Whether two sets of headers are of one shape: as files of it drift apart.

    They share six in ten (Jaccard, 1901) where one only has more than the other, and
    three in four where each has something of its own: lists of hives and of queens may
    well have all but their first column alike.

    >>> mostly_alike({"a", "b", "c"}, {"a", "b"}), mostly_alike({"a", "b"}, {"a", "c"})
    (True, False)
    >>> mostly_alike({"hive", "name", "since"}, {"queen", "name", "since"})
    False
    >>> mostly_alike({"yard", "moisture"}, {"yard", "moistre"})
    True
    """
    mine, theirs = one - other, other - one
    if len(one & other) + min(len(mine), len(theirs)) < _ALIKE * max(len(one), len(other)):
        return False  # however many of the others are slips of the pen
    slips = sum(any(respelt(name, there) for there in theirs) for name in mine)
    slips = min(slips, len(theirs))
    shared = len(one & other) + slips
    own = len(mine) > slips and len(theirs) > slips
    return shared >= (_MOSTLY if own else _ALIKE) * (len(one | other) - slips)


class _Neighbours:
    """Which sources of like headers belong beside one another.

    They do where one folder, or one workbook, has such sources only, or where their names
    differ as those of a series do. Customers and suppliers that stand among orders and items
    may well have the same headings, and are two things.
    """

    def __init__(self, tables: Sequence[Table]) -> None:
        self._sheets = Counter(_file(table) for table in tables)
        self._mixed: set[PurePath] = set()
        first: dict[PurePath, set[str]] = {}
        for table in tables:
            headers, place = headers_of(table), self._place(table)
            if not mostly_alike(headers, first.setdefault(place, headers)):
                self._mixed.add(place)

    def _place(self, table: Table) -> PurePath:
        """The workbook, where several of its sheets are there, else the folder."""
        file = _file(table)
        return file if self._sheets[file] > 1 else file.parent

    def near(self, table: Table, other: Table) -> bool:
        """Whether two of them do."""
        here, there = self._place(table), self._place(other)
        if _file(table).parent != _file(other).parent:
            return _file(table).name == _file(other).name
        if _series(table.name) == _series(other.name):
            return True
        if here != there:
            return table.path.partition("#")[2] == other.path.partition("#")[2]
        return here not in self._mixed


def _file(table: Table) -> PurePath:
    return PurePath(table.path.partition("#")[0])


_MONTH = (
    "jan(uary)?|feb(ruary)?|mar(ch)?|apr(il)?|may|june?|july?|aug(ust)?|sept?(ember)?"
    "|oct(ober)?|nov(ember)?|dec(ember)?"
)
_COUNTER = re.compile(rf"[\W_0-9]+|(?<![^\W\d_])({_MONTH}|[a-z]|q[1-4])(?![^\W\d_])", re.I)


def _series(name: str) -> str:
    """What stays of a name without numbers, months and single letters.

    >>> _series("visits_2031-05"), _series("Visits June"), _series("north")
    ('visits', 'visits', 'north')
    """
    return _COUNTER.sub("", PurePath(name).name).lower()


def _names(several: Sequence[Sequence[Table]]) -> list[str]:
    """A name for each family, none twice: what all its files have in common, or their folder."""
    wanted = [_name(tables) for tables in several]
    taken: set[str] = {tables[0].name for tables in several if len(tables) == 1}
    names = []
    for name, tables in zip(wanted, several, strict=True):
        if len(tables) > 1:
            if wanted.count(name) > 1:
                name = _common_words(tables) or name
            name = distinct_name(name, taken)
            taken.add(name)
        names.append(name)
    return names


def _name(tables: Sequence[Table]) -> str:
    """The one table's name; of several the folder or file they have in common, or what names."""
    if len(tables) == 1:
        return tables[0].name
    files = {PurePath(table.path.partition("#")[0]) for table in tables}
    if len(files) == 1:
        return plain_name(files.pop().stem)
    folders = {file.parent.name for file in files}
    if len(folders) == 1 and (folder := folders.pop()):
        return plain_name(folder)
    return _common_words(tables) or f"{tables[0].name} and {len(tables) - 1} more"


def _common_words(tables: Sequence[Table]) -> str:
    """The words, without numbers, that all the names have: ``weigh-in`` of ``weigh-in_2031-05``.

    >>> from plait.core.table.table import from_columns
    >>> _common_words([from_columns(name, {}) for name in ("visits 2030", "visits 2031")])
    'visits'
    """
    split = [re.split(r"[\W_0-9]+", PurePath(table.name).name) for table in tables]
    common = [word for word in split[0] if word and all(word in words for words in split[1:])]
    return plain_name("-".join(common)) if common else ""
