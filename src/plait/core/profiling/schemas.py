"""Sources of one shape, and headings that differ between them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass
from itertools import combinations
from pathlib import PurePath

from plait.core.base.errors import UsageError
from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.base.names import (
    fold_heading,
    is_misspelling,
    joint_name,
    to_table_name,
    unused_name,
)
from plait.core.base.wording import Command, Setting, wording
from plait.core.table.key_spec import Several, check_column, parse_multi_assignments
from plait.core.table.table import Table

_MOST_NAMED = 3

_ALIKE, _MOSTLY = 0.6, 0.75


def merge_renamed_columns(tables: Sequence[Table], same: Several) -> list[Table]:
    """Rename columns so that each old name becomes the new one.

    Parameters
    ----------
    same : mapping of str to str or sequence of str, or texts ``NEW=OLD,OLD``
        New name to old names.

    Raises
    ------
    UsageError
        When no table has an old name, one table has two that become one, or an
        old name would become two new ones.
    """
    names: dict[str, str] = {}
    for new, olds in parse_multi_assignments(same, "same").items():
        for old in olds:
            _check_old(tables, new, old)
            if names.get(old, new) != new:
                raise UsageError(f"{old!r} cannot become both {names[old]!r} and {new!r}")
            names[old] = new
    for table in tables:
        _check_apart(table, names)
    return [table.rename(names) for table in tables]


def _check_old(tables: Sequence[Table], new: str, old: str) -> None:
    having = [table for table in tables if old in table.column_names]
    if not having:
        every = list(dict.fromkeys(name for table in tables for name in table.column_names))
        check_column(old, Table("any of the sources", _columns_by_name(tables, every), (), 0))
    for table in having:
        if new in table.column_names and new != old:
            raise UsageError(
                f"{table.name} has both {new!r} and {old!r}: they cannot be one column",
                remedy=wording("leave out ", Setting("same", (old,), new)),
            )


def _check_apart(table: Table, names: Mapping[str, str]) -> None:
    """See that no two columns of a table become one."""
    taken: dict[str, str] = {}
    for name in table.column_names:
        new = names.get(name, name)
        if new in taken:
            raise UsageError(
                f"{table.name} has both {taken[new]!r} and {name!r}: they cannot be one column",
                remedy=wording("leave one of them out of ", Setting("same", ("…",), new)),
            )
        taken[new] = name


def _columns_by_name(tables: Sequence[Table], names: Sequence[str]) -> tuple:  # type: ignore[type-arg]
    return tuple(
        next(table.column(name) for table in tables if name in table.column_names) for name in names
    )


def merge_folded_headings(tables: Sequence[Table]) -> list[Table]:
    """Give headers that differ in case, spaces and punctuation only the first one's spelling.

    Two headers of one table that fold to the same are left as they are.
    """
    first: dict[str, str] = {}
    for table in tables:
        for name in table.column_names:
            first.setdefault(fold_heading(name) or name, name)
    return [table.rename(_foldable(table, first)) for table in tables]


def _foldable(table: Table, first: Mapping[str, str]) -> dict[str, str]:
    forms = [fold_heading(name) or name for name in table.column_names]
    times = Counter(forms)
    return {
        name: first[form]
        for name, form in zip(table.column_names, forms, strict=True)
        if times[form] == 1
    }


def apply_headings_by_position(tables: Sequence[Table]) -> tuple[list[Table], list[Finding]]:
    """Give all tables the headers of the first, in their order.

    Returns
    -------
    findings : list of Finding
        Columns that are called something else in others.

    Raises
    ------
    UsageError
        When they have different numbers of columns.
    """
    first = tables[0]
    for table in tables[1:]:
        if len(table.columns) != len(first.columns):
            raise UsageError(
                f"{table.name} has {len(table.columns)} columns and {first.name} "
                f"{len(first.columns)}: they cannot be stacked by position",
                remedy=wording(
                    "leave out ",
                    Setting("by", "position"),
                    ", or remove the extra columns with ",
                    Command("mend"),
                ),
            )
    findings = [
        finding
        for number, name in enumerate(first.column_names)
        for finding in _position_finding(tables, number, name)
    ]
    names = first.column_names
    return [
        table.rename(dict(zip(table.column_names, names, strict=True))) for table in tables
    ], findings


def _position_finding(tables: Sequence[Table], number: int, name: str) -> Iterator[Finding]:
    other = [
        table for table in tables if fold_heading(table.column_names[number]) != fold_heading(name)
    ]
    if other:
        examples = (FindingExample(f"{o.column_names[number]!r} in {o.name}") for o in other)
        yield Finding(
            "header-differs",
            "warning",
            len(other),
            f"{pluralize(len(other), 'source')} with another heading for column "
            f"{number + 1} ({name!r} in {tables[0].name}); columns are matched by "
            "position",
            wording("if their columns are in another order, leave out ", Setting("by", "position")),
            Location(column=name),
            tuple(examples)[:MOST_EXAMPLES],
        )


def report_heading_differences(tables: Sequence[Table]) -> Iterator[Finding]:
    """What is to be said about the headers of tables that are stacked by name."""
    every = list(dict.fromkeys(name for table in tables for name in table.column_names))
    lacking = {name: [table for table in tables if not table.has_column(name)] for name in every}
    variants = _rooted(_variants(every, lacking))
    olds: dict[str, list[str]] = {}
    for new, old in variants:
        olds.setdefault(new, []).append(old)
    for new, others in olds.items():
        yield _variant_finding(new, others, lacking, len(tables))
    texts = {name for pair in variants for name in pair}
    for name, without in lacking.items():
        if without and name not in texts:
            yield _lacking_finding(name, without, len(tables))
    yield from _order_finding(tables)


def find_heading_variants(tables: Sequence[Table]) -> list[tuple[str, str]]:
    """Headers that look like one another spelt differently: the commoner one, and each other.

    >>> from plait.core.table.table import table_from_columns
    >>> may = table_from_columns("a", {"yard": []})
    >>> find_heading_variants([may, table_from_columns("b", {"Yard": []})])
    [('yard', 'Yard')]
    """
    every = list(dict.fromkeys(name for table in tables for name in table.column_names))
    lacking = {name: [table for table in tables if not table.has_column(name)] for name in every}
    return _rooted(_variants(every, lacking))


def _rooted(pairs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    """The pairs so that no old name is a new one of another pair too."""
    root: dict[str, str] = {}
    for new, old in pairs:
        first = root.get(new, new)
        if old not in root and first != old:
            root[old] = first
            root = {name: first if i == old else i for name, i in root.items()}
    return [(new, old) for old, new in root.items()]


def _variants(
    every: Sequence[str], lacking: Mapping[str, Sequence[Table]]
) -> Iterator[tuple[str, str]]:
    """Pairs of like headers of which no table has both: the commoner one, the rarer one."""
    partial = [name for name in every if lacking[name]]
    if len(partial) < 2:
        return
    without = {name: {id(table) for table in lacking[name]} for name in partial}
    forms = {name: fold_heading(name) for name in partial}
    total = set().union(*without.values())
    for one, other in combinations(partial, 2):
        if without[one] | without[other] < total:
            continue
        form, other_form = forms[one], forms[other]
        if form == other_form or is_misspelling(form, other_form):
            yield (one, other) if len(lacking[one]) <= len(lacking[other]) else (other, one)


def _variant_finding(
    new: str, olds: Sequence[str], lacking: Mapping[str, Sequence[Table]], tables: int
) -> Finding:
    remedy = wording(Setting("same", tuple(olds), new))
    if all(fold_heading(new) == fold_heading(old) for old in olds):
        remedy = wording(remedy, " or ", Setting("fold_headers", True))
    named = ", ".join(map(repr, olds))
    look = agreeing(len(olds), "column {} looks", "columns {} look")
    are = agreeing(len(olds), "they are two columns", "each is a column of its own")
    return Finding(
        "header-variant",
        "warning",
        sum(tables - len(lacking[old]) for old in olds),
        f"{look.format(named)} like {new!r} spelt differently; {are} in the result",
        remedy,
        Location(column=olds[0]),
    )


def _lacking_finding(name: str, without: Sequence[Table], sources: int) -> Finding:
    rows = sum(table.rows for table in without)
    named = ", ".join(table.name for table in without[:_MOST_NAMED])
    named += f" and {len(without) - _MOST_NAMED} more" if len(without) > _MOST_NAMED else ""
    return Finding(
        "column-lacking",
        "warning",
        rows,
        f"column {name!r} is missing from {len(without):,} of {pluralize(sources, 'source')} "
        f"({named}): {pluralize(rows, 'row')} {agreeing(rows, 'has', 'have')} no value",
        wording("if the column has another name there: ", Setting("same", ("OLD",), "NEW")),
        Location(column=name),
        tuple(FindingExample(table.name) for table in without[_MOST_NAMED:][:MOST_EXAMPLES]),
    )


def _order_finding(tables: Sequence[Table]) -> Iterator[Finding]:
    order = tables[0].column_names
    moved = [
        table
        for table in tables[1:]
        if table.column_names != order and sorted(table.column_names) == sorted(order)
    ]
    if moved:
        yield Finding(
            "column-order",
            "note",
            len(moved),
            f"{pluralize(len(moved), 'source')} with another column order than "
            f"{tables[0].name}; columns are matched by name",
            examples=tuple(FindingExample(table.name) for table in moved[:MOST_EXAMPLES]),
        )


@dataclass(frozen=True)
class SchemaGroup:
    """Sources with mostly the same headers: a name for them, and their places in the list."""

    name: str
    members: tuple[int, ...]


def group_by_schema(tables: Sequence[Table]) -> list[SchemaGroup]:
    """Bring sources with mostly the same headers together.

    Headers count as the same that differ in case, spaces and punctuation only, or
    in a slip of the pen; a source joins the first family with a member of which it
    shares enough headers (``schemas_match``) and beside which it belongs.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> may = table_from_columns("may", {"Hive": [], "kg": []}, "visits/may.csv")
    >>> june = table_from_columns("june", {"hive ": [], "kg": []}, "visits/june.csv")
    >>> group_by_schema([may, june, table_from_columns("hives", {"breed": []})])
    [SchemaGroup(name='visits', members=(0, 1)), SchemaGroup(name='hives', members=(2,))]
    """
    found: list[tuple[list[frozenset[str]], list[int]]] = []
    neighbours = _Neighbours(tables)
    for number, table in enumerate(tables):
        headers = frozenset(folded_headings(table))
        for known, members in found:
            near = neighbours.near(table, tables[members[0]])
            if near and (headers in known or any(schemas_match(headers, k) for k in known)):
                members.append(number)
                if headers not in known:
                    known.append(headers)
                break
        else:
            found.append(([headers], [number]))
    named = _names([[tables[number] for number in members] for _, members in found])
    return [
        SchemaGroup(name, tuple(members)) for name, (_, members) in zip(named, found, strict=True)
    ]


def folded_headings(table: Table) -> set[str]:
    """The headers of a table without case, spaces and punctuation."""
    return {fold_heading(name) or name for name in table.column_names}


def schemas_match(one: Set[str], other: Set[str]) -> bool:
    """Whether two sets of headers are of one shape: as files of it drift apart.

    They share six in ten (Jaccard, 1901) where one only has more than the other, and
    three in four where each has something of its own: lists of hives and of queens may
    well have all but their first column alike.

    >>> schemas_match({"a", "b", "c"}, {"a", "b"}), schemas_match({"a", "b"}, {"a", "c"})
    (True, False)
    >>> schemas_match({"hive", "name", "since"}, {"queen", "name", "since"})
    False
    >>> schemas_match({"yard", "moisture"}, {"yard", "moistre"})
    True
    """
    mine, theirs = one - other, other - one
    if len(one & other) + min(len(mine), len(theirs)) < _ALIKE * max(len(one), len(other)):
        return False  # however many of the others are slips of the pen
    slips = sum(any(is_misspelling(name, their) for their in theirs) for name in mine)
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
            headers, place = folded_headings(table), self._container(table)
            if not schemas_match(headers, first.setdefault(place, headers)):
                self._mixed.add(place)

    def _container(self, table: Table) -> PurePath:
        """The workbook, where several of its sheets are there, else the folder."""
        file = _file(table)
        return file if self._sheets[file] > 1 else file.parent

    def near(self, table: Table, other: Table) -> bool:
        """Whether two of them do."""
        here, there = self._container(table), self._container(other)
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


def _names(table_groups: Sequence[Sequence[Table]]) -> list[str]:
    """A name for each family, none twice: what all its files have in common, or their folder."""
    wanted = [name_of_extracts(tables) for tables in table_groups]
    taken: set[str] = {tables[0].name for tables in table_groups if len(tables) == 1}
    names = []
    for name, tables in zip(wanted, table_groups, strict=True):
        if len(tables) > 1:
            if wanted.count(name) > 1:
                name = _common_words(tables) or name
            name = unused_name(name, taken)
            taken.add(name)
        names.append(name)
    return names


def name_of_extracts(tables: Sequence[Table]) -> str:
    """The one table's name; of several their file, else what their names share, or their folder."""
    if len(tables) == 1:
        return tables[0].name
    files = {PurePath(table.path.partition("#")[0]) for table in tables}
    if len(files) == 1:
        return to_table_name(files.pop().stem)
    if words := _common_words(tables):
        return words
    folders = {file.parent.name for file in files}
    if len(folders) == 1 and (folder := folders.pop()):
        return to_table_name(folder)
    return joint_name([table.name for table in tables])


def _common_words(tables: Sequence[Table]) -> str:
    """The words, without numbers, that all the names have: ``weigh-in`` of ``weigh-in_2031-05``.

    >>> from plait.core.table.table import table_from_columns
    >>> _common_words([table_from_columns(name, {}) for name in ("visits 2030", "visits 2031")])
    'visits'
    """
    split = [re.split(r"[\W_0-9]+", PurePath(table.name).name) for table in tables]
    common = [s for s in split[0] if len(s) > 1 and all(s in words for words in split[1:])]
    return to_table_name("-".join(common)) if common else ""
