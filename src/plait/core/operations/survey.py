"""Survey: what is in some tables, how they go together, and what will go wrong."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.aggregation.series import report_series
from plait.core.base.findings import Finding, Location, merge_same_findings
from plait.core.base.names import fold_heading
from plait.core.job.current import by_column
from plait.core.operations.result import scope_remedy_to_source
from plait.core.operations.stack import concatenate_tables
from plait.core.profiling.ambiguous_formats import borrowed_forms
from plait.core.profiling.candidate_keys import (
    CandidateKeys,
    find_candidate_keys,
    rank_by_shared_columns,
)
from plait.core.profiling.join_candidates import JoinCandidate
from plait.core.profiling.join_discovery import find_join_candidates
from plait.core.profiling.misplaced_columns import find_misplaced_columns
from plait.core.profiling.profile import ColumnProfile, ValueCounts, count_values, profile_column
from plait.core.profiling.schemas import SchemaGroup, group_by_schema, report_heading_differences
from plait.core.profiling.shifted_rows import shifted_rows
from plait.core.profiling.type_findings import report_open_questions, report_type_differences
from plait.core.profiling.value_sets import ProfiledTable
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.types.column_type import DECIMAL, EMPTY, TEXT, ColumnType
from plait.core.types.inference import infer_column_type, may_parse_mask

SAMPLE_ROWS = 3
MOST_COMPARED = 3000


@dataclass(frozen=True, eq=False)
class SchemaGroupSurvey:
    """What was found about tables of one shape.

    Parameters
    ----------
    profiles : mapping of str to ColumnProfile
        Of each column over all of them.
    kinds : tuple of mapping of str to ColumnType
        For each table the type of each column that it has.
    tallies : mapping of str to ValueCounts
        Of each column, over the tables.
    keys : CandidateKeys
        Candidate keys over all their rows.
    sample : mapping of str to list
        The first rows of the first table, as they stand.
    """

    family: SchemaGroup
    tables: tuple[Table, ...]
    profiles: Mapping[str, ColumnProfile]
    kinds: tuple[Mapping[str, ColumnType], ...]
    tallies: Mapping[str, ValueCounts]
    keys: CandidateKeys
    sample: Mapping[str, Sequence[str | None]]

    @property
    def rows(self) -> int:
        """Rows of all the tables."""
        return sum(table.rows for table in self.tables)

    def of_table(self, number: int) -> dict[str, ColumnProfile]:
        """The profile of each column of one of the tables."""
        if len(self.tables) == 1:
            return dict(self.profiles)
        return {name: profile_column(self.tallies[name], number) for name in self.kinds[number]}


@dataclass(frozen=True, eq=False)
class Survey:
    """What was found about tables and between them.

    ``sample`` is of how many first rows of each source it is, where it is not of all.
    """

    families: tuple[SchemaGroupSurvey, ...]
    relations: tuple[JoinCandidate, ...]
    findings: tuple[Finding, ...]
    sample: int = 0


def survey(tables: Sequence[Table], unread: Sequence[Finding] = ()) -> Survey:
    """Look at tables before anything is done with them.

    Parameters
    ----------
    unread : sequence of Finding
        Of sources that could not be read, and are told of with the rest.

    Returns
    -------
    Survey
        Tables of one shape are looked at together, and then as one table against
        the others.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> visits = table_from_columns("visits", {"hive": ["1", "2", "2"], "kg": ["12.5", "", "9"]})
    >>> found = survey([visits]).families[0]
    >>> found.profiles["kg"].kind.family, found.profiles["kg"].missing
    ('decimal', 1)
    """
    findings: list[Finding] = []
    surveyed, sides = [], []
    for family in group_by_schema(tables):
        members = [tables[number] for number in family.members]
        tallies = _tallies(members)
        schema_group_survey = _surveyed(family, members, tallies)
        surveyed.append(schema_group_survey)
        findings += _family_findings(schema_group_survey, tallies, len(tables) > 1)
        joined = {name: counts_over_all_tables(tally, members) for name, tally in tallies.items()}
        table = members[0] if len(members) == 1 else concatenate_tables(members, family.name)
        sides.append(
            ProfiledTable(
                table.with_name(family.name),
                joined,
                schema_group_survey.profiles,
                schema_group_survey.keys,
            )
        )
    found, traps = find_join_candidates(sides)
    surveyed = [_best_keys(s, _shared(s, surveyed, found)) for s in surveyed]
    sample = max(
        (finding.count for finding in findings if finding.code == "sample-only"), default=0
    )
    return Survey(tuple(surveyed), tuple(found), (*unread, *findings, *traps), sample)


def counts_over_all_tables(tally: ValueCounts, tables: Sequence[Table]) -> ValueCounts:
    """The tally of all the tables as of one: missing where one lacks the column."""
    if len(tables) == 1:
        return tally
    absent = [table.rows for table, codes in zip(tables, tally.codes, strict=True) if codes is None]
    codes = [
        np.full(table.rows, -1, np.int32) if code is None else code
        for table, code in zip(tables, tally.codes, strict=True)
    ]
    missing = (sum(tally.missing) + sum(absent),)
    return replace(tally, codes=(np.concatenate(codes),), missing=missing)


def _shared(
    schema_group_survey: SchemaGroupSurvey,
    schema_group_surveies: Sequence[SchemaGroupSurvey],
    join_candidates: Sequence[JoinCandidate],
) -> frozenset[str]:
    """The columns that another shape has too, by their names or by their values."""
    names = {
        fold_heading(name)
        for other in schema_group_surveies
        if other is not schema_group_survey
        for name in other.profiles
    }
    name = schema_group_survey.family.name
    joined = {column for relation in join_candidates for column in relation.columns_of(name)}
    return frozenset(
        joined
        | {column for column in schema_group_survey.profiles if fold_heading(column) in names}
    )


def _best_keys(schema_group_survey: SchemaGroupSurvey, shared: frozenset[str]) -> SchemaGroupSurvey:
    return replace(
        schema_group_survey,
        keys=rank_by_shared_columns(schema_group_survey.keys, schema_group_survey.profiles, shared),
    )


def _tallies(tables: Sequence[Table]) -> dict[str, ValueCounts]:
    every = list(dict.fromkeys(name for table in tables for name in table.column_names))

    def tally(name: str) -> ValueCounts:
        having = [table.column(name).declared_type for table in tables if table.has_column(name)]
        declared = having[0] if len(set(having)) == 1 else None
        cells = [table.chunks(name) if table.has_column(name) else None for table in tables]
        return count_values(cells, declared or _typed(cells))

    return dict(zip(every, by_column(tally, every), strict=True))


def _typed(columns: Sequence[pa.ChunkedArray | None]) -> ColumnType | None:
    """The type of columns that a source gives as numbers; the texts of others tell."""
    types = {column.type for column in columns if column is not None}
    return DECIMAL if all(map(pa.types.is_floating, types)) else None


def _surveyed(
    family: SchemaGroup, tables: Sequence[Table], tallies: Mapping[str, ValueCounts]
) -> SchemaGroupSurvey:
    whole = {name: counts_over_all_tables(tally, tables) for name, tally in tallies.items()}
    profiles = dict(zip(whole, by_column(profile_column, list(whole.values())), strict=True))
    typed = {name: _may_be_typed(tallies[name], profile.kind) for name, profile in profiles.items()}
    kinds = tuple(
        {
            name: _type_in_table(tallies[name], number, one.kind, typed[name])
            for name, one in profiles.items()
            if table.has_column(name)
        }
        for number, table in enumerate(tables)
    )
    complete = {
        name: tally
        for name, tally in whole.items()
        if all(table.has_column(name) for table in tables)
    }
    rows = sum(table.rows for table in tables)
    keys = find_candidate_keys(complete, {name: profiles[name] for name in complete}, rows)
    return SchemaGroupSurvey(
        family, tuple(tables), profiles, kinds, tallies, keys, _sample(tables[0])
    )


def _may_be_typed(tally: ValueCounts, whole: ColumnType) -> npt.NDArray[np.bool_] | None:
    """Which texts of a text column may be a number, a date or a truth by how they begin."""
    if whole != TEXT or tally.declared_type is not None or not len(tally.texts):
        return None
    return may_parse_mask(tally.texts)


def _type_in_table(
    tally: ValueCounts, number: int, whole: ColumnType, typed: npt.NDArray[np.bool_] | None
) -> ColumnType:
    """The type of a column in one table: that over all, unless those differ and it is text."""
    there, _ = tally.values_of_table(number)
    if not len(there):
        return EMPTY
    if typed is None or not typed[there].all():
        return whole
    return infer_column_type(pa.chunked_array([tally.texts.take(pa.array(there))]))


def _sample(table: Table) -> dict[str, list[str | None]]:
    some = min(SAMPLE_ROWS, table.rows)
    return {
        column.name: to_text(table.cells(column, 0, some)).to_pylist() for column in table.columns
    }


def _family_findings(
    schema_group_survey: SchemaGroupSurvey, tallies: Mapping[str, ValueCounts], several: bool
) -> Iterator[Finding]:
    yield from merge_same_findings(
        scope_remedy_to_source(finding, table.name if several else None)
        for table in schema_group_survey.tables
        for finding in table.findings
    )
    if len(schema_group_survey.tables) > 1:
        yield from report_heading_differences(schema_group_survey.tables)
        for _, _, finding in borrowed_forms(
            schema_group_survey.tables, list(schema_group_survey.profiles)
        ):
            yield finding
        if len(schema_group_survey.tables) * len(schema_group_survey.profiles) <= MOST_COMPARED:
            yield from find_misplaced_columns(schema_group_survey.tables, tallies)
        else:
            yield _not_compared(schema_group_survey)
        yield from report_type_differences(
            schema_group_survey.tables, schema_group_survey.kinds, schema_group_survey.family.name
        )
        yield from report_series(schema_group_survey.tables, schema_group_survey.family.name)
    yield from shifted_rows(schema_group_survey.tables, schema_group_survey.profiles, tallies)
    for name, profile in schema_group_survey.profiles.items():
        yield from report_open_questions(
            name, profile, Location(schema_group_survey.family.name, name)
        )


def _not_compared(schema_group_survey: SchemaGroupSurvey) -> Finding:
    return Finding(
        "headings-not-compared",
        "note",
        len(schema_group_survey.tables),
        f"{schema_group_survey.family.name} has {len(schema_group_survey.tables):,} "
        f"sources of {len(schema_group_survey.profiles):,} "
        "columns: too many to look for swapped headings",
        "survey fewer of them at once",
        Location(schema_group_survey.family.name),
    )
