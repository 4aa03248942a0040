"""Keys: audit a key in one table, and set the keys of several against each other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from plait.core.account.errors import UsageError, asked
from plait.core.account.finding import Finding, counted
from plait.core.account.names import distinct_name
from plait.core.codes.coding import Coding
from plait.core.codes.counting import Counts, by_code, first_rows
from plait.core.codes.uniqueness import Uniqueness, what_would_be_unique
from plait.core.keys.crosswalk import code_across, spelt_columns
from plait.core.keys.duplicates import Duplicates, find_conflicts
from plait.core.keys.keysets import Holding, KeyPair, holdings, key_pairs, masks, wanted_mask
from plait.core.keys.match import Matching, match_keys
from plait.core.table.keyspec import Key, KeySpec, check_column, parse_key, shared_key
from plait.core.table.table import Table, from_columns
from plait.core.types.forms import base
from plait.core.types.kinds import marked_missing
from plait.core.unmatched.keyfindings import audit_findings, key_findings, sides_of
from plait.core.unmatched.whynot import WhyNot, suggestion_table, why_not


@dataclass(frozen=True)
class KeyTable:
    """A key in one table; ``repeat_keys`` have equal rows only, ``conflict_keys`` do not.

    ``conflict_columns`` says for each column in how many keys its cells differ.
    """

    name: str
    rows: int
    distinct_keys: int
    missing_key_rows: int
    duplicate_keys: int
    duplicate_rows: int
    repeat_keys: int
    conflict_keys: int
    conflict_columns: Mapping[str, int]

    @property
    def is_unique(self) -> bool:
        """Whether no key is on several rows."""
        return not self.duplicate_keys


@dataclass(frozen=True, eq=False)
class Audited:
    """What was found about a key.

    Parameters
    ----------
    key : tuple of tuples of str
        For each table its key columns.
    tables : tuple of KeyTable
    pairs : tuple of KeyPair
        Each two of several tables.
    holdings : tuple of Holding
        How many keys each combination of tables holds.
    why : WhyNot or None
        Of two tables, why keys do not match.
    uniqueness : Uniqueness or None
        Of one table whose key is not unique, what would be.
    findings : tuple of Finding
    coding : Coding
        The keys of all tables.
    sources : tuple of Table
    """

    key: tuple[tuple[str, ...], ...]
    tables: tuple[KeyTable, ...]
    pairs: tuple[KeyPair, ...]
    holdings: tuple[Holding, ...]
    why: WhyNot | None
    uniqueness: Uniqueness | None
    findings: tuple[Finding, ...]
    coding: Coding
    sources: tuple[Table, ...]

    def __repr__(self) -> str:
        lines = [
            f"{one.name}: {counted(one.rows, 'row')}, {counted(one.distinct_keys, 'key')} on "
            f"{', '.join(key)}, {one.duplicate_keys:,} on several rows, "
            f"{counted(one.missing_key_rows, 'row')} without"
            for one, key in zip(self.tables, self.key, strict=True)
        ]
        lines += [
            f"{one.left} and {one.right}: {counted(one.keys_in_both, 'key')} in both, "
            f"{one.keys_only_left:,} only in {one.left}, "
            f"{one.keys_only_right:,} only in {one.right}"
            for one in self.pairs
        ]
        return "\n".join([*lines, f"findings: {len(self.findings)}"])


def keys(
    tables: Sequence[Table],
    specs: Sequence[KeySpec] = (),
    ignore: Iterable[str] = (),
    pairs: Table | None = None,
    missing_match: bool = False,
) -> Audited:
    """Audit a key: whether it is unique, and whether the keys of several tables match.

    Parameters
    ----------
    tables : sequence of Table
    specs : sequence of key
        One for all tables (LEFT=RIGHT where two name it otherwise), or one for
        each. Without it the columns that all of them have.
    ignore : iterable of str
        What does not count when keys are compared.
    pairs : Table, optional
        A crosswalk: left keys that count as right ones.
    missing_match : bool
        Take missing keys for equal to one another.

    Returns
    -------
    Audited

    Raises
    ------
    UsageError
        For a column that is not there, or no column in common.

    Examples
    --------
    >>> visits = from_columns("visits", {"hive": ["1", "2", "2"]})
    >>> hives = from_columns("hives", {"hive": ["1", "02"]})
    >>> found = keys([visits, hives], ["hive"])
    >>> found.pairs[0].keys_in_both, found.pairs[0].rows_only_left, found.why.best.ways
    (1, 2, ('leading-zeros',))
    """
    columns = key_columns(tables, specs)
    coding = code_across(tables, columns, pairs, ignore, missing_match)
    counts = [coding.counts(number) for number in range(len(tables))]
    audits = [
        find_conflicts(table, names, codes, one)
        for table, names, codes, one in zip(tables, columns, coding.codes, counts, strict=True)
    ]
    names = [table.name for table in tables]
    several = len(tables) > 1
    matching = match_keys(coding) if len(tables) == 2 else None
    key = tuple(zip(*columns[:2], strict=True)) if matching else ()
    return Audited(
        columns,
        tuple(map(_audited, tables, counts, audits)),
        tuple(key_pairs(names, counts)) if several else (),
        tuple(holdings(names, counts)) if several else (),
        why_not(tables[0], tables[1], key, matching) if matching else None,
        None if several else what_would_be_unique(tables[0], columns[0], coding, counts[0]),
        (
            *coding.findings,
            *_marker_findings(tables, columns, coding),
            *_findings(tables, columns, coding, matching, [one for one, _ in audits]),
        ),
        coding,
        tuple(tables),
    )


def key_columns(tables: Sequence[Table], specs: Sequence[KeySpec]) -> tuple[tuple[str, ...], ...]:
    """For each table the columns of its key.

    Raises
    ------
    UsageError
    """
    if not tables:
        raise UsageError("no source given")
    parsed = [parse_key(spec) for spec in specs]
    if not parsed:
        return _common(tables)
    if len(parsed) == 1:
        left, right = (tuple(side) for side in zip(*parsed[0], strict=True))
        columns = (left, *[right] * (len(tables) - 1))
    elif len(parsed) == len(tables):
        columns = tuple(tuple(name for name, _ in one) for one in parsed)
    else:
        raise UsageError(
            f"{len(parsed)} keys are given for {len(tables)} sources",
            remedy="give one key for all sources, or one for each",
        )
    if len({len(one) for one in columns}) > 1:
        raise UsageError("the keys have different numbers of columns")
    with asked("key"):
        for table, names in zip(tables, columns, strict=True):
            for name in names:
                check_column(name, table)
    return columns


def _common(tables: Sequence[Table]) -> tuple[tuple[str, ...], ...]:
    if len(tables) == 1:
        raise UsageError(
            "no key given",
            tables[0].name,
            f"--key {tables[0].column_names[0]}; plait survey finds candidates",
        )
    shared = [pair[0] for pair in shared_key(tables[0], tables[1])]
    common = tuple(name for name in shared if all(table.has(name) for table in tables))
    if not common:
        raise UsageError("the sources have no column in common", remedy="name the key: --key")
    return (common,) * len(tables)


def _audited(table: Table, counts: Counts, found: tuple[Duplicates, dict[str, int]]) -> KeyTable:
    duplicates, columns = found
    return KeyTable(
        table.name,
        table.rows,
        int((counts > 0).sum()),
        table.rows - int(counts.sum()),
        duplicates.keys,
        duplicates.rows,
        duplicates.repeats,
        duplicates.conflicts,
        dict(sorted(columns.items(), key=lambda one: -one[1])),
    )


def _findings(
    tables: Sequence[Table],
    columns: Sequence[Sequence[str]],
    coding: Coding,
    matching: Matching | None,
    duplicates: Sequence[Duplicates],
) -> list[Finding]:
    if matching is not None:
        pairs: Key = tuple(zip(*columns, strict=True))
        left, right = tables
        sides = sides_of(left, right, pairs, matching, tuple(duplicates))
        found = key_findings(sides, pairs, matching, matching.account("left"))
        return [one for one in found if one.code != "rows-added"]
    return [
        finding
        for number, (table, names) in enumerate(zip(tables, columns, strict=True))
        for finding in audit_findings(table, names, coding, number, duplicates[number])
    ]


def _marker_findings(
    tables: Sequence[Table], columns: Sequence[Sequence[str]], coding: Coding
) -> Iterator[Finding]:
    """Markers for missing that count as keys, since the column is text."""
    for number, (table, names) in enumerate(zip(tables, columns, strict=True)):
        for name, column in zip(names, coding.columns, strict=True):
            if base(column.kinds[number]) != "text":
                continue
            marked = marked_missing(table.whole(name))
            if not marked:
                continue
            count = sum(marked.values())
            yield Finding(
                "marker-kept",
                "note",
                count,
                f"{counted(count, 'row')} of {table.name} with {', '.join(marked)} in {name} "
                "are treated as keys; kept as text",
                f"to make them missing: --missing {','.join(marked)}",
                f"{table.name}, column {name}",
                terms=tuple(marked),
            )


def key_set(found: Audited, only: str, all_rows: bool = False) -> Table:
    """The keys that are in exactly some of the tables.

    Parameters
    ----------
    found : Audited
    only : str
        ``both``, ``left``, ``right``, or names of sources joined by ``+``.
    all_rows : bool
        Give all rows on those keys of the first of these sources, whole, instead
        of each key once with its rows in every one.

    Returns
    -------
    Table
    """
    names = [table.name for table in found.sources]
    mask = wanted_mask(only, names)
    counts = [found.coding.counts(number) for number in range(len(names))]
    wanted = masks(counts) == mask
    number = next(n for n in range(len(names)) if mask >> n & 1)
    table, codes = found.sources[number], found.coding.codes[number]
    if all_rows:
        return table.at(np.flatnonzero(by_code(wanted, codes, False)))
    first = first_rows(codes, found.coding.size)
    some = np.sort(first[np.flatnonzero(wanted)])
    kept = table.at(some)
    columns = tuple(kept.column(name) for name in found.key[number])
    made = Table("keys", columns, kept.strands, kept.rows)
    for one, name in enumerate(names):
        if mask >> one & 1:
            rows = pa.chunked_array([pa.array(counts[one][codes[some]])])
            made = made.with_made(distinct_name(f"rows {name}", made.column_names), rows)
    return made


def repeated_rows(found: Audited) -> Table:
    """Of one table, the rows of keys that are on several, those of one key together."""
    (table,), (codes,) = found.sources, found.coding.codes
    rows = np.flatnonzero(by_code(found.coding.counts(0), codes, 0) > 1)
    return table.at(rows[np.argsort(codes[rows], kind="stable")])


def suggested_pairs(found: Audited) -> Table:
    """Of two tables, the keys that may be meant for one another, as a crosswalk to edit."""
    key = tuple(zip(*found.key, strict=True))
    names = spelt_columns(key)
    if found.why is None:
        every = [*names[0], *names[1], "score", "why", "use"]
        return from_columns("pairs", {name: [] for name in every})
    made = suggestion_table(found.why.suggestions, names, found.coding, found.why.best)
    return from_columns("pairs", made)
