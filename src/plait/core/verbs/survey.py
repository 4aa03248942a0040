"""Survey: what is in some tables, how they go together, and what will go wrong."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.account.finding import Finding, merged
from plait.core.account.names import folded
from plait.core.look.agreement import type_findings
from plait.core.look.borrowed import borrowed_forms
from plait.core.look.candidates import Candidates, candidate_keys, ranked
from plait.core.look.doubts import doubts
from plait.core.look.family import Family, families
from plait.core.look.headers import header_findings
from plait.core.look.misplaced import misplaced
from plait.core.look.profile import Profile, Tally, profile, tallied
from plait.core.look.relating.relation import Relation
from plait.core.look.relating.values import TalliedTable
from plait.core.look.relations import relations
from plait.core.look.shifted import shifted_rows
from plait.core.store.room import by_column
from plait.core.table.table import Table
from plait.core.text.cells import as_text
from plait.core.types.kinds import kind_of, may_be_typed
from plait.core.verbs.result import for_one_source
from plait.core.verbs.stack import concatenated

SAMPLE_ROWS = 3
MOST_COMPARED = 3000


@dataclass(frozen=True, eq=False)
class Surveyed:
    """What was found about tables of one shape.

    Parameters
    ----------
    family : Family
    tables : tuple of Table
    profiles : mapping of str to Profile
        Of each column over all of them.
    kinds : tuple of mapping of str to str
        For each table the kind of each column that it has.
    tallies : mapping of str to Tally
        Of each column, over the tables.
    keys : Candidates
        Candidate keys over all their rows.
    sample : mapping of str to list
        The first rows of the first table, as they stand.
    """

    family: Family
    tables: tuple[Table, ...]
    profiles: Mapping[str, Profile]
    kinds: tuple[Mapping[str, str], ...]
    tallies: Mapping[str, Tally]
    keys: Candidates
    sample: Mapping[str, Sequence[str | None]]

    @property
    def rows(self) -> int:
        """Rows of all the tables."""
        return sum(table.rows for table in self.tables)

    def of_table(self, number: int) -> dict[str, Profile]:
        """The profile of each column of one of the tables."""
        if len(self.tables) == 1:
            return dict(self.profiles)
        return {name: profile(self.tallies[name], number) for name in self.kinds[number]}


@dataclass(frozen=True, eq=False)
class Survey:
    """What was found about tables and between them.

    ``sample`` is of how many first rows of each source it is, where it is not of all.
    """

    families: tuple[Surveyed, ...]
    relations: tuple[Relation, ...]
    findings: tuple[Finding, ...]
    sample: int = 0


def survey(tables: Sequence[Table], unread: Sequence[Finding] = ()) -> Survey:
    """Look at tables before anything is done with them.

    Parameters
    ----------
    tables : sequence of Table
    unread : sequence of Finding
        Of sources that could not be read, and are told of with the rest.

    Returns
    -------
    Survey
        Tables of one shape are looked at together, and then as one table against
        the others.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> visits = from_columns("visits", {"hive": ["1", "2", "2"], "kg": ["12.5", "", "9"]})
    >>> found = survey([visits]).families[0]
    >>> found.profiles["kg"].kind, found.profiles["kg"].missing
    ('decimal', 1)
    """
    findings: list[Finding] = []
    surveyed, sides = [], []
    for family in families(tables):
        members = [tables[number] for number in family.members]
        tallies = _tallies(members)
        one = _surveyed(family, members, tallies)
        surveyed.append(one)
        findings += _family_findings(one, tallies, len(tables) > 1)
        joined = {name: over_all(tally, members) for name, tally in tallies.items()}
        whole = members[0] if len(members) == 1 else concatenated(members, family.name)
        sides.append(TalliedTable(whole.named(family.name), joined, one.profiles, one.keys))
    found, traps = relations(sides)
    surveyed = [_best_keys(one, _shared(one, surveyed, found)) for one in surveyed]
    sample = max((one.count for one in findings if one.code == "sample-only"), default=0)
    return Survey(tuple(surveyed), tuple(found), (*unread, *findings, *traps), sample)


def over_all(tally: Tally, tables: Sequence[Table]) -> Tally:
    """The tally of all the tables as of one: missing where one lacks the column."""
    if len(tables) == 1:
        return tally
    absent = [table.rows for table, codes in zip(tables, tally.codes, strict=True) if codes is None]
    codes = [
        np.full(table.rows, -1, np.int32) if one is None else one
        for table, one in zip(tables, tally.codes, strict=True)
    ]
    whole = tally.together()
    missing = (whole.missing[0] + sum(absent),)
    return replace(whole, codes=(np.concatenate(codes),), missing=missing)


def _shared(one: Surveyed, every: Sequence[Surveyed], found: Sequence[Relation]) -> frozenset[str]:
    """The columns that another shape has too, by their names or by their values."""
    others = {folded(name) for other in every if other is not one for name in other.profiles}
    name = one.family.name
    joined = {column for relation in found for column in relation.columns_of(name)}
    return frozenset(joined | {column for column in one.profiles if folded(column) in others})


def _best_keys(one: Surveyed, shared: frozenset[str]) -> Surveyed:
    return replace(one, keys=ranked(one.keys, one.profiles, shared))


def _tallies(tables: Sequence[Table]) -> dict[str, Tally]:
    every = list(dict.fromkeys(name for table in tables for name in table.column_names))

    def tally(name: str) -> Tally:
        having = [table.column(name).kind for table in tables if table.has(name)]
        declared = having[0] if len(set(having)) == 1 else None
        cells = [table.whole(name) if table.has(name) else None for table in tables]
        return tallied(cells, declared or _typed(cells))

    return dict(zip(every, by_column(tally, every), strict=True))


def _typed(columns: Sequence[pa.ChunkedArray | None]) -> str | None:
    """The kind of columns that a source gives as numbers; the texts of others tell."""
    types = {one.type for one in columns if one is not None}
    return "decimal" if all(map(pa.types.is_floating, types)) else None


def _surveyed(family: Family, tables: Sequence[Table], tallies: Mapping[str, Tally]) -> Surveyed:
    whole = {name: over_all(tally, tables) for name, tally in tallies.items()}
    profiles = dict(zip(whole, by_column(profile, list(whole.values())), strict=True))
    typed = {name: _may_be_typed(tallies[name], one.kind) for name, one in profiles.items()}
    kinds = tuple(
        {
            name: _kind(tallies[name], number, one.kind, typed[name])
            for name, one in profiles.items()
            if table.has(name)
        }
        for number, table in enumerate(tables)
    )
    complete = {
        name: tally for name, tally in whole.items() if all(table.has(name) for table in tables)
    }
    rows = sum(table.rows for table in tables)
    keys = candidate_keys(complete, {name: profiles[name] for name in complete}, rows)
    return Surveyed(family, tuple(tables), profiles, kinds, tallies, keys, _sample(tables[0]))


def _may_be_typed(tally: Tally, whole: str) -> npt.NDArray[np.bool_] | None:
    """Which texts of a text column may be a number, a date or a truth by how they begin."""
    if whole != "text" or tally.declared is not None or not len(tally.texts):
        return None
    return may_be_typed(tally.texts)


def _kind(tally: Tally, number: int, whole: str, typed: npt.NDArray[np.bool_] | None) -> str:
    """The kind of a column in one table: that over all, unless those differ and it is text."""
    there = np.flatnonzero(tally.counts[number])
    if not len(there):
        return "empty"
    if typed is None or not typed[there].all():
        return whole
    return kind_of(pa.chunked_array([tally.texts.take(pa.array(there))]))


def _sample(table: Table) -> dict[str, list[str | None]]:
    some = min(SAMPLE_ROWS, table.rows)
    return {
        column.name: as_text(table.cells(column, 0, some)).to_pylist() for column in table.columns
    }


def _family_findings(
    found: Surveyed, tallies: Mapping[str, Tally], several: bool
) -> Iterator[Finding]:
    yield from merged(
        for_one_source(finding, table.name if several else None)
        for table in found.tables
        for finding in table.findings
    )
    if len(found.tables) > 1:
        yield from header_findings(found.tables)
        for _, _, finding in borrowed_forms(found.tables, list(found.profiles)):
            yield finding
        if len(found.tables) * len(found.profiles) <= MOST_COMPARED:
            yield from misplaced(found.tables, tallies)
        else:
            yield _not_compared(found)
        yield from type_findings(found.tables, found.kinds, found.family.name)
    yield from shifted_rows(found.tables, found.profiles, tallies)
    for name, one in found.profiles.items():
        yield from doubts(name, one, f"{found.family.name}, column {name}")


def _not_compared(found: Surveyed) -> Finding:
    return Finding(
        "headings-not-compared",
        "note",
        len(found.tables),
        f"{found.family.name} has {len(found.tables):,} sources of {len(found.profiles):,} "
        "columns: too many to look for swapped headings",
        "survey fewer of them at once",
        found.family.name,
    )
