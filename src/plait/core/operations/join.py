"""Join: columns beside columns, on a key, with an account of every row."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.findings import Finding
from plait.core.base.names import suggest_name as nearest_word
from plait.core.base.wording import Setting, wording
from plait.core.codes.key_codes import KeyCodes
from plait.core.codes.normalize import Ignored
from plait.core.job.current import reserve_memory
from plait.core.keys.crosswalk import encode_keys_with_crosswalk, parse_crosswalk
from plait.core.keys.duplicates import DuplicateKeys, find_duplicate_keys
from plait.core.keys.match import (
    CARDINALITIES,
    JOIN_KINDS,
    ONE_SIDED,
    KeyMatch,
    MatchCounts,
    match_keys,
    semi_join_rows,
)
from plait.core.keys.matched_rows import (
    EvidenceMatch,
    count_matched_by,
    rows_matched_by_evidence,
)
from plait.core.lineage.source_labels import add_source_column
from plait.core.linkage.evidence_spec import EvidenceSpec
from plait.core.linkage.pairs_table import resolve_pairs
from plait.core.operations.join_guards import refuse_join, report_overmatching_key_parts
from plait.core.operations.join_rows import (
    JoinedRows,
    build_join_result,
    make_join_entry,
    set_join_rows_aside,
)
from plait.core.operations.nearest_join import NearestSpec, encode_nearest_keys, parse_nearest
from plait.core.operations.result import Result
from plait.core.table.columns import rename_columns
from plait.core.table.key_spec import (
    Key,
    KeySpec,
    Pairs,
    check_column,
    check_key_columns,
    common_columns,
    parse_assignments,
    parse_key_columns,
)
from plait.core.table.table import Table
from plait.core.unmatched.key_findings import join_sides, report_inferred_key, report_join_keys

_OF_ROW = 16  # bytes of the row numbers of a result row


@dataclass(frozen=True, eq=False, repr=False)
class JoinResult(Result):
    """The result of one join, or of several one after another.

    Each has an entry in the ledger, its match (the counts) and its key: pairs of a
    left and a right name. Set aside are rows of either side that match nothing, and
    the cells on which the sides disagree are listed.

    Parameters
    ----------
    by_evidence : tuple of EvidenceMatch
        Rows that came together by pairs with odds.
    """

    keys: tuple[Key, ...] = ()
    by_evidence: tuple[EvidenceMatch, ...] = ()


def join(
    left: Table,
    right: Table,
    key: KeySpec | None = None,
    kind: str = "left",
    cardinality: str | None = None,
    ignore: Iterable[Ignored] = (),
    name: str | None = None,
    *,
    pairs: Table | EvidenceSpec | None = None,
    missing_match: bool = False,
    nearest: str | None = None,
    within: str | None = None,
    take: Iterable[str] | None = None,
    prefer: str | None = None,
    max_rows: int | None = None,
) -> JoinResult:
    """Put the columns of two tables beside each other where their keys are equal.

    Parameters
    ----------
    key : str, sequence or mapping, optional
        ``"yard,hive"``, or ``"country=Country"`` where the names differ (left =
        right). Without it the columns both tables have are the key.
    kind : {"left", "inner", "right", "full", "semi", "anti", "cross"}
        Which unmatched rows the result keeps; ``semi`` and ``anti`` keep left
        rows, without right columns, that have a match or have none; ``cross``
        puts every right row beside every left one, and takes no key.
    cardinality : {"one-to-one", "many-to-one", "one-to-many", "many-to-many"}, optional
        What the match must be, left to right. A join that is many-to-many needs
        it said.
    ignore : iterable of str
        What does not count when keys are compared: ``case``, ``space``,
        ``punctuation``, ``accents``, ``leading-zeros``, ``number-form``,
        ``date-form``. Cells stay as they are.
    name : str, optional
        The result's name.
    pairs : Table or EvidenceSpec, optional
        A crosswalk: keys of the left that count as keys of the right; or the columns by which
        such pairs are looked for.
    missing_match : bool
        Take missing keys for equal to one another.
    nearest : str, optional
        ``"Seen=Measured:before"``: of the right rows of an equal key only the one
        whose number, date or time is nearest, ``before``, ``after`` or ``either``.
    within : str, optional
        How far that one may be away: ``7d``, ``2h``, ``0.5``.
    take : iterable of str, optional
        Columns of the right to take, beside the key. Without it all.
    prefer : {"left", "right"}, optional
        Whose cells to take where both have a column; the other's fill its gaps.
    max_rows : int, optional
        Refuse a result of more rows.

    Raises
    ------
    UsageError
        For a key column that is not there, or a word that is not one of those above.
    JoinRefusedError
        When the join is many-to-many unasked, not of the cardinality given, or
        has too many rows.

    Notes
    -----
    A missing key matches nothing. Left rows keep their order; unmatched right
    rows follow in theirs.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> visits = table_from_columns("visits", {"hive": ["1", "2"], "kg": ["12.50", "9"]})
    >>> hives = table_from_columns("hives", {"hive": ["1"], "breed": ["Buckfast"]})
    >>> joined = join(visits, hives, key="hive")
    >>> joined.table.to_dict()
    {'hive': ['1', '2'], 'kg': ['12.50', '9'], 'breed': ['Buckfast', None]}
    >>> joined.match.left_unmatched
    1
    """
    ignore = tuple(ignore)
    _check_word(kind, JOIN_KINDS, "kind of join")
    if cardinality is not None:
        _check_word(cardinality, CARDINALITIES, "cardinality")
    if prefer is not None:
        _check_word(prefer, ("left", "right"), "side to prefer")
    with attribute_errors_to_option("nearest"):
        near = parse_nearest(nearest) if nearest else None
    _check_together(kind, key, near, within)
    with attribute_errors_to_option("key"):
        names = _key(left, right, key, kind, near)
    if isinstance(pairs, EvidenceSpec) and not names:
        raise UsageError(
            wording(Setting("pairs"), " looks for partners of keys, and this join has no key"),
            remedy=wording("name the key: ", Setting("key")),
        )
    with attribute_errors_to_option("pairs"):
        columns = tuple(zip(*names, strict=True))
        across, told = resolve_pairs((left, right), columns, pairs, ignore)
    coding = _coded(left, right, names, ignore, across, missing_match)
    ties: tuple[Finding, ...] = ()
    if near is not None:
        with attribute_errors_to_option("nearest"):
            coding, ties = encode_nearest_keys(left, right, coding, near, within)
    key_match = match_keys(coding)
    match = key_match.counts_for(kind)
    findings = (*told, *ties, *_report_join(left, right, names, key_match, match, kind, key, near))
    refuse_join(left, right, names, key_match, match, cardinality, findings, kind, max_rows)

    reserve_memory(match.output_rows * _OF_ROW)
    joined_rows = _make_rows(
        left,
        _taken(right, names, take),
        names,
        key_match,
        kind,
        loose=bool(ignore) or across is not None,
        prefer=prefer,
        apart=(near.right,) if near else (),
    )
    listed = (joined_rows.conflicts,) if joined_rows.conflicts else ()
    crosswalk = None if across is None or not names else parse_crosswalk(across, len(names))
    if (ignore or across is not None) and near is None and kind not in ONE_SIDED:
        by = count_matched_by(key_match, joined_rows.respelt, crosswalk)
        match = replace(match, matched_by=by)
    return JoinResult(
        "join",
        joined_rows.table.with_name(name) if name else joined_rows.table,
        (make_join_entry(left, right, names, key_match, match, kind, near),),
        (*findings, *joined_rows.findings),
        (*set_join_rows_aside(left, right, key_match, kind), *listed),
        (match,),
        keys=(names,),
        by_evidence=tuple(rows_matched_by_evidence(left, right, key_match, crosswalk)),
    )


def _check_together(
    kind: str, key: KeySpec | None, near: NearestSpec | None, within: str | None
) -> None:
    """See that what was asked for goes together."""
    if kind == "cross" and (key or near):
        raise UsageError(
            wording(Setting("kind", "cross"), " cannot be combined with ", Setting("key")),
            remedy=wording("leave out ", Setting("key"), ", or choose another ", Setting("kind")),
        )
    if within is not None and near is None:
        raise UsageError(
            wording(Setting("within"), " needs ", Setting("nearest")),
            remedy=wording(Setting("nearest", "COLUMN:before")),
        )


def _key(
    left: Table, right: Table, key: KeySpec | None, kind: str, near: NearestSpec | None
) -> Key:
    """The columns that must be equal."""
    if kind == "cross":
        return ()
    if key:
        return check_key_columns(parse_key_columns(key), left, right)
    if near is None:
        return common_columns(left, right)
    # The column that only has to be near is no part of the key.
    names = {name for name in right.column_names if name != near.right}
    mine = (name for name in left.column_names if name != near.left)
    return tuple((name, name) for name in mine if name in names)


def _coded(
    left: Table,
    right: Table,
    names: Key,
    ignore: Iterable[Ignored],
    pairs: Table | None,
    missing_match: bool,
) -> KeyCodes:
    if not names:
        codes = tuple(np.zeros(table.rows, np.int32) for table in (left, right))
        return KeyCodes(codes, 1, ())
    columns = tuple(zip(*names, strict=True))
    return encode_keys_with_crosswalk([left, right], columns, pairs, ignore, missing_match)


def _report_join(
    left: Table,
    right: Table,
    names: Key,
    key_match: KeyMatch,
    match: MatchCounts,
    kind: str,
    key: KeySpec | None,
    near: NearestSpec | None,
) -> Iterator[Finding]:
    """All there is to say about the keys."""
    yield from key_match.coding.findings
    if not names:  # every row may be beside every other, or beside the nearest
        return
    if key is None:
        yield report_inferred_key(left, right, names)
    duplicates = _duplicates(left, right, names, key_match)
    explain = near is None  # else a row may lack a partner though its key has one
    sides = join_sides(left, right, names, key_match, duplicates)
    yield from report_join_keys(sides, names, key_match, match, kind, explain)
    if explain:
        yield from report_overmatching_key_parts(left, right, names, key_match, match)


def _taken(right: Table, names: Key, take: Iterable[str] | None) -> Table:
    """The right table with the columns asked for, and its key."""
    if take is None:
        return right
    take = tuple(take)
    for name in take:
        check_column(name, right)
    return right.project([*take, *(there for _, there in names)])


def _make_rows(
    left: Table,
    right: Table,
    names: Key,
    key_match: KeyMatch,
    kind: str,
    loose: bool,
    prefer: str | None,
    apart: Sequence[str],
) -> JoinedRows:
    if kind in ONE_SIDED:
        table = left.take(semi_join_rows(key_match, kind)).with_name(f"{left.name}-{kind}")
        return JoinedRows(replace(table, findings=(), set_aside=()), (), None)
    return build_join_result(left, right, names, key_match, kind, loose, prefer, apart)


def join_tables(
    tables: Sequence[Table],
    keys: Sequence[KeySpec | None] = (None,),
    kind: str = "left",
    cardinality: str | None = None,
    ignore: Iterable[Ignored] = (),
    name: str | None = None,
    *,
    take: Iterable[str] | None = None,
    rename: Pairs = (),
    origin: str | None = None,
    **options: Any,
) -> JoinResult:
    """Join each further table on to the result so far.

    Parameters
    ----------
    tables : sequence of Table
        At least two.
    keys : sequence of key
        One for all the joins, or one for each.
    kind, cardinality, ignore, name, **options
        As for ``join``; the same for all the joins.
    take : iterable of str, optional
        Columns to take of the further tables: each of those that have them.
    rename : mapping of str to str, or texts ``OLD=NEW``
        Of columns of the result.
    origin : str, optional
        A column to add with the names of the tables each row came from, joined by ``+``.

    Raises
    ------
    UsageError
        With fewer than two tables, or another number of keys; and as ``join``.
    JoinRefusedError
        As ``join``.
    """
    ignore, keys = tuple(ignore), list(keys) or [None]
    if len(tables) < 2:
        raise UsageError("a join needs two sources or more", remedy="name another source")
    keys = keys * (len(tables) - 1) if len(keys) == 1 else keys
    if len(keys) != len(tables) - 1:
        raise UsageError(
            f"{len(keys)} keys for {len(tables) - 1} joins",
            remedy="give one key for all joins, or one for each further table",
        )
    with attribute_errors_to_option("take"):
        taken = _taken_of_each(tables[1:], take)
    steps: list[JoinResult] = []
    table = tables[0]
    for right, key, some in zip(tables[1:], keys, taken, strict=True):
        joined = join(table, right, key, kind, cardinality, ignore, name, take=some, **options)
        steps.append(joined)
        table = joined.table
    with attribute_errors_to_option("rename"):
        table = rename_columns(table, parse_assignments(rename, "rename")) if rename else table
    table = add_source_column(table, origin) if origin else table
    return JoinResult(
        "join",
        table,
        tuple(entry for step in steps for entry in step.entries),
        tuple(finding for step in steps for finding in step.findings),
        tuple(aside for step in steps for aside in step.aside),
        tuple(match for step in steps for match in step.matches),
        keys=tuple(key for step in steps for key in step.keys),
        by_evidence=tuple(match for step in steps for match in step.by_evidence),
    )


def _check_word(word: str, known: Sequence[str], what: str) -> None:
    if word not in known:
        raise UsageError(
            f"{word!r} is not a valid {what}",
            remedy=nearest_word(word, known) or f"one of {', '.join(known)}",
        )


def _duplicates(
    left: Table, right: Table, pairs: Key, key_match: KeyMatch
) -> tuple[DuplicateKeys, DuplicateKeys]:
    here, there = zip(*pairs, strict=True)
    codes = key_match.coding.codes
    return (
        find_duplicate_keys(left, here, codes[0], key_match.left_counts),
        find_duplicate_keys(right, there, codes[1], key_match.right_counts),
    )


def _taken_of_each(tables: Sequence[Table], take: Iterable[str] | None) -> list[list[str] | None]:
    """For each table the columns asked for that it has.

    Raises
    ------
    UsageError
        When none of them has one.
    """
    if take is None:
        return [None] * len(tables)
    take = list(take)
    for name in take:
        if not any(table.has_column(name) for table in tables):
            check_column(name, tables[0])
    return [[name for name in take if table.has_column(name)] for table in tables]
