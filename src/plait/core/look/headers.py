"""Headers over several extracts: which lack a column, which spell it otherwise."""

from __future__ import annotations

import shlex
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import combinations

from plait.core.account.errors import UsageError
from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, agreeing, counted
from plait.core.account.names import folded, respelt
from plait.core.table.keyspec import Several, check_column, quoted, several_values
from plait.core.table.table import Table

_MOST_NAMED = 3


def same_names(tables: Sequence[Table], same: Several) -> list[Table]:
    """Rename columns so that each old name becomes the new one.

    Parameters
    ----------
    tables : sequence of Table
    same : mapping of str to str or sequence of str, or texts ``NEW=OLD,OLD``
        New name to old names.

    Raises
    ------
    UsageError
        When no table has an old name, one table has two that become one, or an
        old name would become two new ones.
    """
    names: dict[str, str] = {}
    for new, olds in several_values(same, "--same").items():
        for old in olds:
            _check_old(tables, new, old)
            if names.get(old, new) != new:
                raise UsageError(f"{old!r} cannot become both {names[old]!r} and {new!r}")
            names[old] = new
    for table in tables:
        _check_apart(table, names)
    return [table.renamed(names) for table in tables]


def _check_old(tables: Sequence[Table], new: str, old: str) -> None:
    having = [table for table in tables if old in table.column_names]
    if not having:
        every = list(dict.fromkeys(name for table in tables for name in table.column_names))
        check_column(old, Table("any of the sources", _columns_of(tables, every), (), 0))
    for table in having:
        if new in table.column_names and new != old:
            raise UsageError(
                f"{table.name} has both {new!r} and {old!r}: they cannot be one column",
                remedy=f"leave out --same {quoted(new)}={quoted(old)}",
            )


def _check_apart(table: Table, names: Mapping[str, str]) -> None:
    """See that no two columns of a table become one."""
    taken: dict[str, str] = {}
    for name in table.column_names:
        new = names.get(name, name)
        if new in taken:
            raise UsageError(
                f"{table.name} has both {taken[new]!r} and {name!r}: they cannot be one column",
                remedy=f"leave one of them out of --same {quoted(new)}=…",
            )
        taken[new] = name


def _columns_of(tables: Sequence[Table], names: Sequence[str]) -> tuple:  # type: ignore[type-arg]
    return tuple(
        next(table.column(name) for table in tables if name in table.column_names) for name in names
    )


def fold_names(tables: Sequence[Table]) -> list[Table]:
    """Give headers that differ in case, spaces and punctuation only the first one's spelling.

    Two headers of one table that fold to the same are left as they are.
    """
    first: dict[str, str] = {}
    for table in tables:
        for name in table.column_names:
            first.setdefault(folded(name) or name, name)
    return [table.renamed(_foldable(table, first)) for table in tables]


def _foldable(table: Table, first: Mapping[str, str]) -> dict[str, str]:
    forms = [folded(name) or name for name in table.column_names]
    times = Counter(forms)
    return {
        name: first[form]
        for name, form in zip(table.column_names, forms, strict=True)
        if times[form] == 1
    }


def by_position(tables: Sequence[Table]) -> tuple[list[Table], list[Finding]]:
    """Give all tables the headers of the first, in their order.

    Returns
    -------
    tables : list of Table
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
                remedy="leave out --by position, or remove the extra columns with plait mend",
            )
    findings = [
        finding
        for number, name in enumerate(first.column_names)
        for finding in _position_finding(tables, number, name)
    ]
    names = first.column_names
    return [
        table.renamed(dict(zip(table.column_names, names, strict=True))) for table in tables
    ], findings


def _position_finding(tables: Sequence[Table], number: int, name: str) -> Iterator[Finding]:
    other = [table for table in tables if folded(table.column_names[number]) != folded(name)]
    if other:
        examples = (Example(f"{one.column_names[number]!r} in {one.name}") for one in other)
        yield Finding(
            "header-differs",
            "warning",
            len(other),
            f"{counted(len(other), 'source')} with another heading for column "
            f"{number + 1} ({name!r} in {tables[0].name}); columns are matched by "
            "position",
            "if their columns are in another order, leave out --by position",
            f"column {name}",
            tuple(examples)[:MOST_EXAMPLES],
        )


def header_findings(tables: Sequence[Table]) -> Iterator[Finding]:
    """What is to be said about the headers of tables that are stacked by name."""
    every = list(dict.fromkeys(name for table in tables for name in table.column_names))
    lacking = {name: [table for table in tables if not table.has(name)] for name in every}
    variants = _rooted(_variants(every, lacking))
    olds: dict[str, list[str]] = {}
    for new, old in variants:
        olds.setdefault(new, []).append(old)
    for new, others in olds.items():
        yield _variant_finding(new, others, lacking, len(tables))
    told = {name for pair in variants for name in pair}
    for name, without in lacking.items():
        if without and name not in told:
            yield _lacking_finding(name, without, len(tables))
    yield from _order_finding(tables)


def header_variants(tables: Sequence[Table]) -> list[tuple[str, str]]:
    """Headers that look like one another spelt differently: the commoner one, and each other.

    >>> from plait.core.table.table import from_columns
    >>> header_variants([from_columns("a", {"yard": []}), from_columns("b", {"Yard": []})])
    [('yard', 'Yard')]
    """
    every = list(dict.fromkeys(name for table in tables for name in table.column_names))
    lacking = {name: [table for table in tables if not table.has(name)] for name in every}
    return _rooted(_variants(every, lacking))


def _rooted(pairs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    """The pairs so that no old name is a new one of another pair too."""
    root: dict[str, str] = {}
    for new, old in pairs:
        first = root.get(new, new)
        if old not in root and first != old:
            root[old] = first
            root = {name: first if kept == old else kept for name, kept in root.items()}
    return [(new, old) for old, new in root.items()]


def _variants(
    every: Sequence[str], lacking: Mapping[str, Sequence[Table]]
) -> Iterator[tuple[str, str]]:
    """Pairs of like headers of which no table has both: the commoner one, the rarer one."""
    partial = [name for name in every if lacking[name]]
    if len(partial) < 2:
        return
    without = {name: {id(table) for table in lacking[name]} for name in partial}
    forms = {name: folded(name) for name in partial}
    total = set().union(*without.values())
    for one, other in combinations(partial, 2):
        if without[one] | without[other] < total:
            continue
        form, other_form = forms[one], forms[other]
        if form == other_form or respelt(form, other_form):
            yield (one, other) if len(lacking[one]) <= len(lacking[other]) else (other, one)


def _variant_finding(
    new: str, olds: Sequence[str], lacking: Mapping[str, Sequence[Table]], tables: int
) -> Finding:
    remedy = f"--same {_pasted(new, olds)}"
    if all(folded(new) == folded(old) for old in olds):
        remedy += " or --fold-headers"
    named = ", ".join(map(repr, olds))
    look = agreeing(len(olds), "column {} looks", "columns {} look")
    are = agreeing(len(olds), "they are two columns", "each is a column of its own")
    return Finding(
        "header-variant",
        "warning",
        sum(tables - len(lacking[old]) for old in olds),
        f"{look.format(named)} like {new!r} spelt differently; {are} in the result",
        remedy,
        f"column {olds[0]}",
    )


def _pasted(new: str, olds: Sequence[str]) -> str:
    text = f"{quoted(new)}={','.join(map(quoted, olds))}"
    return shlex.quote(text)


def _lacking_finding(name: str, without: Sequence[Table], sources: int) -> Finding:
    rows = sum(table.rows for table in without)
    named = ", ".join(table.name for table in without[:_MOST_NAMED])
    named += f" and {len(without) - _MOST_NAMED} more" if len(without) > _MOST_NAMED else ""
    return Finding(
        "column-lacking",
        "warning",
        rows,
        f"column {name!r} is missing from {len(without):,} of {counted(sources, 'source')} "
        f"({named}): {counted(rows, 'row')} {agreeing(rows, 'has', 'have')} no value",
        "if the column has another name there: --same NEW=OLD",
        f"column {name}",
        tuple(Example(table.name) for table in without[_MOST_NAMED:][:MOST_EXAMPLES]),
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
            f"{counted(len(moved), 'source')} with another column order than "
            f"{tables[0].name}; columns are matched by name",
            examples=tuple(Example(table.name) for table in moved[:MOST_EXAMPLES]),
        )
