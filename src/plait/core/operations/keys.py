"""Keys: audit a key in one table, and set the keys of several against each other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.findings import Finding, Location, pluralize
from plait.core.base.names import unused_name
from plait.core.base.wording import Command, Setting, wording
from plait.core.codes.dense_codes import Counts, count_codes, first_row_of_each_code, gather_by_code
from plait.core.codes.key_codes import KeyCodes
from plait.core.codes.normalize import Ignored
from plait.core.keys.crosswalk import crosswalk_column_names, encode_keys_with_crosswalk
from plait.core.keys.duplicates import (
    DuplicateKeys,
    UniquenessGap,
    find_conflicting_columns,
    find_uniqueness_gap,
)
from plait.core.keys.key_sets import (
    KeySetOverlap,
    KeySetRegion,
    key_set_regions,
    membership_masks,
    pairwise_overlaps,
    parse_membership,
    resolve_sides,
)
from plait.core.keys.match import KeyMatch, match_keys
from plait.core.linkage.evidence_spec import parse_evidence_spec
from plait.core.linkage.linkage import Linkage, link_records
from plait.core.linkage.pairs_table import linkage_columns, report_linkage
from plait.core.operations.result import Result
from plait.core.operations.stack import stack
from plait.core.profiling.schemas import name_of_extracts
from plait.core.table.key_spec import (
    Key,
    KeySpec,
    check_column,
    common_columns,
    parse_key_columns,
    quote_name,
)
from plait.core.table.table import Table, table_from_columns
from plait.core.types.column_type import TEXT
from plait.core.types.missing_markers import count_missing_markers
from plait.core.unmatched.diagnosis import (
    UnmatchedDiagnosis,
    diagnose_unmatched,
    suggestion_columns,
)
from plait.core.unmatched.key_findings import join_sides, report_join_keys, report_key_audit


@dataclass(frozen=True)
class TableKeyCounts:
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


@dataclass(frozen=True)
class ExtractKeyCounts:
    """The keys of one of several extracts that are one side together.

    Parameters
    ----------
    side : str
        The name of the extracts together.
    unmatched_keys, unmatched_rows : int or None
        Those without a match on the other side, where there are two sides.
    """

    side: str
    name: str
    rows: int
    distinct_keys: int
    missing_key_rows: int
    unmatched_keys: int | None
    unmatched_rows: int | None


@dataclass(frozen=True, eq=False)
class KeyAudit:
    """What was found about a key.

    Parameters
    ----------
    key : tuple of tuples of str
        For each table its key columns.
    pairs : tuple of KeySetOverlap
        Each two of several tables.
    holdings : tuple of KeySetRegion
        How many keys each combination of tables holds.
    why : UnmatchedDiagnosis or None
        Of two tables, why keys do not match.
    uniqueness : UniquenessGap or None
        Of one table whose key is not unique, what would be.
    coding : KeyCodes
        The keys of all tables.
    extracts : tuple of ExtractKeyCounts
        Of the sides that are several extracts, each of them.
    linkage : Linkage or None
        Where evidence was given, the partners of keys that match nothing; of one table, keys that
        mean the same.
    """

    key: tuple[tuple[str, ...], ...]
    tables: tuple[TableKeyCounts, ...]
    pairs: tuple[KeySetOverlap, ...]
    holdings: tuple[KeySetRegion, ...]
    why: UnmatchedDiagnosis | None
    uniqueness: UniquenessGap | None
    findings: tuple[Finding, ...]
    coding: KeyCodes
    sources: tuple[Table, ...]
    extracts: tuple[ExtractKeyCounts, ...] = ()
    linkage: Linkage | None = None

    @property
    def crosswalk(self) -> Table:
        """The keys that may be meant for one another, to edit and for ``pairs`` of a join."""
        key = tuple(zip(self.key[0], self.key[-1], strict=True))
        names = crosswalk_column_names(key)
        if self.linkage is not None:
            columns = linkage_columns(self.linkage, names, self.coding)
            return table_from_columns("pairs", columns)
        if self.why is None:
            every = [*names[0], *names[1], "score", "why", "use"]
            return table_from_columns("pairs", {name: [] for name in every})
        made = suggestion_columns(self.why.suggestions, names, self.coding, self.why.best)
        return table_from_columns("pairs", made)

    def __repr__(self) -> str:
        lines = [
            f"{table.name}: {pluralize(table.rows, 'row')}, "
            f"{pluralize(table.distinct_keys, 'key')} on "
            f"{', '.join(key)}, {table.duplicate_keys:,} on several rows, "
            f"{pluralize(table.missing_key_rows, 'row')} without"
            for table, key in zip(self.tables, self.key, strict=True)
        ]
        lines += [
            f"{pair.left} and {pair.right}: {pluralize(pair.keys_in_both, 'key')} in both, "
            f"{pair.keys_only_left:,} only in {pair.left}, "
            f"{pair.keys_only_right:,} only in {pair.right}"
            for pair in self.pairs
        ]
        return "\n".join([*lines, f"findings: {len(self.findings)}"])


def audit_keys(
    sides: Sequence[Table | Sequence[Table]],
    specs: Sequence[KeySpec] = (),
    ignore: Iterable[Ignored] = (),
    pairs: Table | None = None,
    missing_match: bool = False,
    apart: bool = False,
    evidence: str | Sequence[str] = (),
    accept: str | float | None = None,
    settled: Table | None = None,
) -> KeyAudit:
    """Audit a key: whether it is unique, and whether the keys of several tables match.

    Parameters
    ----------
    sides : sequence of Table, or of sequences of tables
        Several extracts are one side together where they are set against another.
    specs : sequence of key
        One for all tables (LEFT=RIGHT where two name it otherwise), or one for
        each. Without it the columns that all of them have.
    ignore : iterable of str
        What does not count when keys are compared.
    pairs : Table, optional
        A crosswalk: left keys that count as right ones.
    missing_match : bool
        Take missing keys for equal to one another.
    apart : bool
        Take each extract by itself.
    evidence : sequence of str
        Columns, ``LEFT=RIGHT`` where the names differ, by which partners are looked for: for the
        keys of the left without a match, or for keys of one table that mean the same.
    accept : str or float, optional
        The probability from which on a partner is used: ``99%``.
    settled : Table, optional
        Pairs that a person accepted or rejected.

    Raises
    ------
    UsageError
        For a column that is not there, or no column in common.

    Examples
    --------
    >>> visits = table_from_columns("visits", {"hive": ["1", "2", "2"]})
    >>> hives = table_from_columns("hives", {"hive": ["1", "02"]})
    >>> found = audit_keys([visits, hives], ["hive"])
    >>> found.pairs[0].keys_in_both, found.pairs[0].rows_only_left, found.why.best.ways
    (1, 2, ('leading-zeros',))
    """
    extracts = resolve_sides(
        [(side,) if isinstance(side, Table) else tuple(side) for side in sides], apart
    )
    stacked = [stack(side, name=name_of_extracts(side)) if side[1:] else None for side in extracts]
    tables = [
        result.table if result else side[0] for side, result in zip(extracts, stacked, strict=True)
    ]
    columns = resolve_key_columns(tables, specs)
    coding = encode_keys_with_crosswalk(tables, columns, pairs, ignore, missing_match)
    counts = [coding.counts(number) for number in range(len(tables))]
    audits = [
        find_conflicting_columns(table, names, codes, count)
        for table, names, codes, count in zip(tables, columns, coding.codes, counts, strict=True)
    ]
    names = [table.name for table in tables]
    several = len(tables) > 1
    matching = match_keys(coding) if len(tables) == 2 else None
    key = tuple(zip(*columns[:2], strict=True)) if matching else ()
    ignore = tuple(ignore)
    by = parse_evidence_spec(len(tables), evidence, accept, settled)
    linkage = link_records(tables, columns, coding, matching, by, ignore) if by else None
    return KeyAudit(
        columns,
        tuple(map(_audited, tables, counts, audits)),
        tuple(pairwise_overlaps(names, counts)) if several else (),
        tuple(key_set_regions(names, counts)) if several else (),
        diagnose_unmatched(tables[0], tables[1], key, matching) if matching else None,
        None if several else find_uniqueness_gap(tables[0], columns[0], coding, counts[0]),
        (
            *coding.findings,
            *_extract_findings(stacked, columns),
            *_marker_findings(tables, columns, coding),
            *_findings(tables, columns, coding, matching, [one for one, _ in audits]),
            *(report_linkage(linkage, tables, coding) if linkage else ()),
        ),
        coding,
        tuple(tables),
        tuple(_extracts(extracts, tables, coding, counts)),
        linkage,
    )


def _extracts(
    sides: Sequence[Sequence[Table]],
    tables: Sequence[Table],
    coding: KeyCodes,
    counts: Sequence[Counts],
) -> Iterator[ExtractKeyCounts]:
    """Each extract of the sides that are several."""
    for number, (side, table) in enumerate(zip(sides, tables, strict=True)):
        other = counts[1 - number] if len(tables) == 2 else None
        begin = 0
        for extract in side if len(side) > 1 else ():
            codes = coding.codes[number][begin : begin + extract.rows]
            begin += extract.rows
            rows_of = count_codes(codes, coding.code_count)
            lost = rows_of * (other == 0) if other is not None else None
            yield ExtractKeyCounts(
                table.name,
                extract.name,
                extract.rows,
                int((rows_of > 0).sum()),
                extract.rows - int(rows_of.sum()),
                None if lost is None else int((lost > 0).sum()),
                None if lost is None else int(lost.sum()),
            )


def _extract_findings(
    stacked: Sequence[Result | None], columns: Sequence[Sequence[str]]
) -> Iterator[Finding]:
    """What was found on putting extracts together, as far as it is about the key."""
    for result, names in zip(stacked, columns, strict=True):
        for finding in result.findings if result else ():
            if finding.where.column in names or finding.code == "header-variant":
                yield finding


def resolve_key_columns(
    tables: Sequence[Table], specs: Sequence[KeySpec]
) -> tuple[tuple[str, ...], ...]:
    """For each table the columns of its key.

    Raises
    ------
    UsageError
    """
    if not tables:
        raise UsageError("no source given")
    parsed = [parse_key_columns(spec) for spec in specs]
    if not parsed:
        return _common(tables)
    if len(parsed) == 1:
        left, right = (tuple(side) for side in zip(*parsed[0], strict=True))
        columns = (left, *[right] * (len(tables) - 1))
    elif len(parsed) == len(tables):
        columns = tuple(tuple(name for name, _ in p) for p in parsed)
    else:
        raise UsageError(
            f"{len(parsed)} keys are given for {len(tables)} sources",
            remedy="give one key for all sources, or one for each",
        )
    if len({len(column) for column in columns}) > 1:
        raise UsageError("the keys have different numbers of columns")
    with attribute_errors_to_option("key"):
        for table, names in zip(tables, columns, strict=True):
            for name in names:
                check_column(name, table)
    return columns


def _common(tables: Sequence[Table]) -> tuple[tuple[str, ...], ...]:
    if len(tables) == 1:
        raise UsageError(
            "no key given",
            tables[0].name,
            wording(
                Setting("key", (quote_name(tables[0].column_names[0]),)),
                "; ",
                Command("survey"),
                " finds candidates",
            ),
        )
    shared = [pair[0] for pair in common_columns(tables[0], tables[1])]
    common = tuple(name for name in shared if all(table.has_column(name) for table in tables))
    if not common:
        raise UsageError(
            "the sources have no column in common", remedy=wording("name the key: ", Setting("key"))
        )
    return (common,) * len(tables)


def _audited(
    table: Table, counts: Counts, duplicate_keyses: tuple[DuplicateKeys, dict[str, int]]
) -> TableKeyCounts:
    duplicates, columns = duplicate_keyses
    return TableKeyCounts(
        table.name,
        table.rows,
        int((counts > 0).sum()),
        table.rows - int(counts.sum()),
        duplicates.keys,
        duplicates.rows,
        duplicates.repeats,
        duplicates.conflicts,
        dict(sorted(columns.items(), key=lambda item: -item[1])),
    )


def _findings(
    tables: Sequence[Table],
    columns: Sequence[Sequence[str]],
    coding: KeyCodes,
    key_match: KeyMatch | None,
    duplicates: Sequence[DuplicateKeys],
) -> list[Finding]:
    if key_match is not None:
        pairs: Key = tuple(zip(*columns, strict=True))
        left, right = tables
        sides = join_sides(left, right, pairs, key_match, tuple(duplicates))
        findings = report_join_keys(sides, pairs, key_match, key_match.counts_for("left"))
        return [f for f in findings if f.code != "rows-added"]
    return [
        finding
        for number, (table, names) in enumerate(zip(tables, columns, strict=True))
        for finding in report_key_audit(table, names, coding, number, duplicates[number])
    ]


def _marker_findings(
    tables: Sequence[Table], columns: Sequence[Sequence[str]], coding: KeyCodes
) -> Iterator[Finding]:
    """Markers for missing that count as keys, since the column is text."""
    for number, (table, names) in enumerate(zip(tables, columns, strict=True)):
        for name, column in zip(names, coding.key_columns, strict=True):
            if column.types[number] != TEXT:
                continue
            marked = count_missing_markers(table.chunks(name))
            if not marked:
                continue
            count = sum(marked.values())
            yield Finding(
                "marker-kept",
                "note",
                count,
                f"{pluralize(count, 'row')} of {table.name} with {', '.join(marked)} in {name} "
                "are treated as keys; kept as text",
                wording("to make them missing: ", Setting("missing", tuple(marked))),
                Location(table.name, name),
                terms=tuple(marked),
            )


def select_key_set(key_audit: KeyAudit, only: str, all_rows: bool = False) -> Table:
    """The keys that are in exactly some of the tables.

    Parameters
    ----------
    only : str
        ``both``, ``left``, ``right``, or names of sources joined by ``+``.
    all_rows : bool
        Give all rows on those keys of the first of these sources, whole, instead
        of each key once with its rows in every one.
    """
    names = [table.name for table in key_audit.sources]
    mask = parse_membership(only, names)
    counts = [key_audit.coding.counts(number) for number in range(len(names))]
    wanted = membership_masks(counts) == mask
    number = next(n for n in range(len(names)) if mask >> n & 1)
    table, codes = key_audit.sources[number], key_audit.coding.codes[number]
    if all_rows:
        return table.take(np.flatnonzero(gather_by_code(wanted, codes, False)))
    first = first_row_of_each_code(codes, key_audit.coding.code_count)
    some = np.sort(first[np.flatnonzero(wanted)])
    result = table.take(some)
    columns = tuple(result.column(name) for name in key_audit.key[number])
    made = Table("keys", columns, result.fragments, result.rows)
    for one, name in enumerate(names):
        if mask >> one & 1:
            rows = pa.chunked_array([pa.array(counts[one][codes[some]])])
            made = made.extend(unused_name(f"rows {name}", made.column_names), rows)
    return made


def list_duplicate_rows(key_audit: KeyAudit) -> Table:
    """Of one table, the rows of keys that are on several, those of one key together."""
    (table,), (codes,) = key_audit.sources, key_audit.coding.codes
    rows = np.flatnonzero(gather_by_code(key_audit.coding.counts(0), codes, 0) > 1)
    return table.take(rows[np.argsort(codes[rows], kind="stable")])
