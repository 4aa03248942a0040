"""Which tables could be joined, on what, and which shared headings mislead."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from plait.core.base.findings import Finding, Location
from plait.core.base.wording import wording
from plait.core.codes.key_codes import encode_keys
from plait.core.keys.match import match_keys
from plait.core.profiling.composite_joins import (
    CompositeJoinSearch,
    find_concatenated_keys,
    measure_join,
)
from plait.core.profiling.join_candidates import (
    ColumnOverlap,
    JoinCandidate,
    drop_subsumed_candidates,
    find_overlapping_columns,
)
from plait.core.profiling.value_sets import (
    ProfiledTable,
    ValueDictionary,
    ValueSet,
    build_value_sets,
    estimate_containment,
)
from plait.core.table.key_spec import key_setting
from plait.core.table.table import Table
from plait.core.unmatched.normalization_gains import best_normalization_gain, exceeds_key_text_limit

_NORMALIZED_MIN_GAIN = 0.05

_FEWER = 0.5

MOST_RELATIONS = 4
_BETTER, _PREPARED_MIN_GAIN = 0.2, 0.15  # sketches of 256 values may be off by a tenth

Found = dict[tuple[int, int], list[JoinCandidate]]


def add_normalized_candidates(
    join_candidates: Sequence[JoinCandidate],
    plain: Sequence[JoinCandidate],
    left: Table,
    right: Table,
) -> list[JoinCandidate]:
    """Of the joins of two tables under the loosest comparison those that gain by it.

    Parameters
    ----------
    join_candidates : sequence of JoinCandidate
        What would match if no difference that can be ignored counted.
    plain : sequence of JoinCandidate
        What matches as it stands.

    Returns
    -------
    list of Relation
        With the fewest ways of ignoring that match as much, where they run no keys
        together.
    """
    before = {p.key: p for p in plain}
    most = max((one.left_matched for one in plain), default=0)
    gaining = [
        join_candidate
        for join_candidate in join_candidates
        if _gains(join_candidate, before.get(join_candidate.key))
        and join_candidate.left_matched >= most * (1 - _NORMALIZED_MIN_GAIN)
    ]
    return [made for g in gaining if (made := _loosely(g, left, right)) is not None]


def _gains(join_candidate: JoinCandidate, before: JoinCandidate | None) -> bool:
    if before is None:
        return True
    return any(
        now > then + _NORMALIZED_MIN_GAIN
        for now, then in zip(join_candidate.shares, before.shares, strict=True)
    )


def _loosely(join_candidate: JoinCandidate, left: Table, right: Table) -> JoinCandidate | None:
    """The relation as the join would make it with the ways that it needs."""
    columns = tuple(zip(*join_candidate.key, strict=True))
    key_match = match_keys(encode_keys([left, right], columns))
    gain = None if exceeds_key_text_limit(key_match.coding) else best_normalization_gain(key_match)
    if gain is None or gain.collisions or gain.left_collisions > join_candidate.left_rows / 2:
        return None
    match = match_keys(encode_keys([left, right], columns, ignore=gain.ways)).counts_for("left")
    if match.output_rows > match.left_rows * (1 + _NORMALIZED_MIN_GAIN):
        return None
    return replace(
        join_candidate,
        left_matched=match.left_matched,
        right_matched=match.right_matched,
        cardinality=match.cardinality,
        ignore=gain.ways,
    )


def report_misleading_shared_names(
    left: Sequence[ValueSet], right: Sequence[ValueSet], best: JoinCandidate, size: int
) -> Iterator[Finding]:
    """Tell of a shared name that makes a join without a key match far less than the right key.

    Parameters
    ----------
    left, right : sequence of ValueSet
        The columns of the two tables.
    best : JoinCandidate
        The join that one would make.
    size : int
        How many codes the dictionary has.
    """
    here: Mapping[str, ValueSet] = {value_set.name: value_set for value_set in left}
    there: Mapping[str, ValueSet] = {r.name: r for r in right}
    shared = [name for name in here if name in there]
    names = [name for name in shared if (name, name) not in best.key]
    if not names:
        return
    pairs = [(here[name], there[name]) for name in shared]
    found, _ = measure_join(pairs, (best.left_rows, best.right_rows), size)
    if found.left_matched >= _FEWER * best.left_matched:
        return
    named = ", ".join(names)
    yield Finding(
        "name-trap",
        "warning",
        best.left_matched - found.left_matched,
        f"{best.left} and {best.right} also share {named}: a join without "
        f"a named key would use it and match only {found.shares[0]:.0%} of the rows of "
        f"{best.left} instead of {best.shares[0]:.0%}",
        wording("name the key: ", key_setting(best.key)),
        Location(best.left, names[0]),
    )


def find_join_candidates(
    sides: Sequence[ProfiledTable],
) -> tuple[list[JoinCandidate], list[Finding]]:
    """The columns, or few columns together, on which tables could be joined.

    Returns
    -------
    relations : list of Relation
        Best first. The table of more rows is the left one.
    findings : list of Finding
        Shared names that a join should not be made on.

    Notes
    -----
    All columns are coded in one dictionary. How much of one stands in another is
    estimated for all pairs from sketches (``sketches``), and counted for those that
    have something in common. Whether that is more than chance gives is tested
    (``evidence``). Then keys of several columns are sought among the columns that two
    tables share, joins that need a looser comparison, and keys that one table writes
    in one column and the other in two.
    """
    sides = sorted(sides, key=lambda side: -side.table.rows)
    if len(sides) < 2:
        return [], []
    strict = ValueDictionary()
    columns = build_value_sets(sides, strict)
    loose = strict.loosely()
    loosely = build_value_sets(sides, loose, columns)
    shares, loose_shares = (estimate_containment(one, len(loose)) for one in (columns, loosely))
    found = _discover_pairs(
        find_overlapping_columns(columns, sides, len(strict), shares), sides, len(strict)
    )
    gaining = _gaining(columns, shares, loosely, loose_shares)
    may_gain = find_overlapping_columns(loosely, sides, len(loose), loose_shares, gaining)
    for pair, ones in _discover_pairs(may_gain, sides, len(loose)).items():
        left, right = (sides[number].table for number in pair)
        plain = found.get(pair, [])
        found[pair] = _without_plainer(
            [*add_normalized_candidates(ones, plain, left, right), *plain]
        )
    for pair, one in find_concatenated_keys(sides, loosely, loose):
        before = max((max(p.shares) for p in found.get(pair, [])), default=0.0)
        if max(one.shares) > before + _BETTER:
            found.setdefault(pair, []).append(one)
    kept = {pair: _best(i) for pair, i in found.items() if i}
    findings = list(_traps(kept, columns, len(strict)))
    every = [_in_order(one, sides) for v in kept.values() for one in v]
    return sorted(every, key=lambda e: -e.worth), findings


def _discover_pairs(
    pairs_of: Mapping[tuple[int, int], Sequence[ColumnOverlap]],
    sides: Sequence[ProfiledTable],
    size: int,
) -> Found:
    """What could be joined, as the columns are coded."""
    composites = CompositeJoinSearch(sides, size)
    found: Found = {}
    for tables, pairs in pairs_of.items():
        singles = [pair.match for pair in pairs if pair.likely]
        join_candidates = drop_subsumed_candidates([*composites.of(pairs), *singles])
        if join_candidates:
            found[tables] = join_candidates
    return found


def _gaining(
    columns: Sequence[ValueSet],
    shares: npt.NDArray[np.float64],
    loosely: Sequence[ValueSet],
    loose_shares: npt.NDArray[np.float64],
) -> set[tuple[int, int]]:
    """The pairs of tables of which some columns have more in common by the loosest comparison."""
    place = {(column.table, column.name): number for number, column in enumerate(columns)}
    there = [
        number
        for number, value_set in enumerate(loosely)
        if (value_set.table, value_set.name) in place
    ]
    known = [place[loosely[number].table, loosely[number].name] for number in there]
    more = loose_shares[np.ix_(there, there)] > shares[np.ix_(known, known)] + _PREPARED_MIN_GAIN
    tables = [loosely[number].table for number in there]
    return {
        (min(tables[one], tables[other]), max(tables[one], tables[other]))
        for one, other in zip(*np.nonzero(more), strict=True)
    }


def _without_plainer(join_candidates: Sequence[JoinCandidate]) -> list[JoinCandidate]:
    """Without those on the same key as one that needs a looser comparison, and gains by it."""
    loose = {join_candidate.key for join_candidate in join_candidates if join_candidate.ignore}
    return [
        candidate for candidate in join_candidates if candidate.ignore or candidate.key not in loose
    ]


def _best(join_candidates: Sequence[JoinCandidate]) -> list[JoinCandidate]:
    """The best few; of several columns only those that match more than a better one does."""
    candidates: list[JoinCandidate] = []
    for join_candidate in sorted(join_candidates, key=lambda j: -j.worth):
        fewer = any(
            candidate.left_matched >= join_candidate.left_matched
            and candidate.right_matched >= join_candidate.right_matched
            for candidate in candidates
        )
        if not (fewer and len(join_candidate.key) > 1 and not join_candidate.named):
            candidates.append(join_candidate)
    return candidates[:MOST_RELATIONS]


def _in_order(relation: JoinCandidate, sides: Sequence[ProfiledTable]) -> JoinCandidate:
    """The key's columns in the order of the left table."""
    table = next(side.table for side in sides if side.table.name == relation.left)
    return replace(
        relation, key=tuple(sorted(relation.key, key=lambda pair: _column_position(table, pair[0])))
    )


def _column_position(table: Table, name: str) -> int:
    names = table.column_names
    return names.index(name) if name in names else len(names)


def _traps(kept: Found, columns: Sequence[ValueSet], size: int) -> Iterator[Finding]:
    for (left, right), ones in kept.items():
        if not ones[0].split and not ones[0].ignore:
            here = [column for column in columns if column.table == left]
            there = [c for c in columns if c.table == right]
            yield from report_misleading_shared_names(here, there, ones[0], size)
