"""What a survey says: sources and layouts, possible joins, columns, candidate keys."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from plait.core.base.findings import by_severity, pluralize
from plait.core.operations.survey import SchemaGroupSurvey, Survey
from plait.core.profiling.candidate_keys import CandidateKey
from plait.core.profiling.join_candidates import JoinCandidate
from plait.core.profiling.profile import ColumnProfile
from plait.core.table.key_spec import format_key_option
from plait.core.types.column_type import TEXT
from plait.report.document import Block, Document, Findings, Grid, GridColumn, Note
from plait.report.flags import as_flags
from plait.report.numbers import format_percent

_CELL = 24
_TWO = 2


def survey_document(found: Survey) -> Document:
    """The answer, the joins that matter, the findings, each layout with its columns and keys."""
    blocks: list[Block] = [*_joins(found), Findings(tuple(by_severity(found.findings)))]
    for layout in found.families:
        blocks += [_columns(layout), *map(Note, describe_keys(layout, len(layout.keys.keys)))]
    return Document((survey_summary(found),), (), tuple(blocks))


def _joins(found: Survey) -> Iterator[Block]:
    every = merge_join_targets(sort_join_candidates(found.relations))
    if every:
        yield Grid(
            (GridColumn("tables"), GridColumn("key"), GridColumn("rows that match", "right"),
             GridColumn("relation")),
            [
                (
                    f"{describe_lefts(alike)} – {alike[0].right}",
                    format_join_options(alike[0]),
                    f"{format_percent(*least_share(alike, 'left'))}, "
                    f"{format_percent(*least_share(alike, 'right'))}",
                    alike[0].cardinality,
                )
                for alike in every
            ],
            "possible joins",
        )  # fmt: skip
    for first, *_ in every:
        if first.prepare:
            yield Note(f"{first.left} – {first.right} after this split: {as_flags(first.prepare)}")


def _columns(layout: SchemaGroupSurvey) -> Grid:
    heads = ("missing", "distinct")
    sources = f"{len(layout.tables)} sources, " if len(layout.tables) > 1 else ""
    columns = pluralize(len(layout.profiles), "column")
    return Grid(
        (GridColumn("column"), GridColumn("type"), *(GridColumn(head, "right") for head in heads),
         GridColumn("values", share=1)),
        [
            (name, str(column.kind), column.missing, column.distinct, describe_values(column))
            for name, column in layout.profiles.items()
        ],
        f"{layout.family.name}: {sources}{pluralize(layout.rows, 'row')}, {columns}",
    )  # fmt: skip


def describe_values(column: ColumnProfile) -> str:
    """The ends and the middle of values that have an order, or the commonest ones."""
    if column.spread is not None and column.kind != TEXT:
        ends = (column.smallest, column.middle, column.largest)
        return " … ".join(map(format_short_value, ends))
    if not column.commonest:
        return ""
    if column.commonest[0][1] == 1:
        span = f"{format_short_value(column.smallest)} … {format_short_value(column.largest)}"
        return f"{span}, all different"
    present = max(column.rows - column.missing, 1)
    return ", ".join(
        f"{format_short_value(text)} {format_percent(times, present)}"
        for text, times in column.commonest
    )


def format_short_value(text: str) -> str:
    """As much of a cell as fits beside others."""
    return text if len(text) <= _CELL else f"{text[: _CELL - 1]}…"


def source_names(found: Survey) -> list[str]:
    """The names of all sources, layout by layout."""
    return [table.name for family in found.families for table in family.tables]


def survey_summary(found: Survey) -> str:
    """How many sources, shapes and rows, and how many could not be read."""
    sources, shapes = len(source_names(found)), len(found.families)
    rows = sum(family.rows for family in found.families)
    of_shapes = f" of {pluralize(shapes, 'layout')}" if shapes < sources else ""
    unread = sum(finding.code == "unreadable" for finding in found.findings)
    not_read = f"; {pluralize(unread, 'file')} cannot be read" if unread else ""
    text = f"{pluralize(sources, 'source')}{of_shapes}, {pluralize(rows, 'row')}{not_read}"
    return f"sample of the first {pluralize(found.sample, 'row')}: {text}" if found.sample else text


def sort_join_candidates(relations: Sequence[JoinCandidate]) -> list[JoinCandidate]:
    """The best of each two tables first, then the others."""
    seen: set[tuple[str, str]] = set()
    first = []
    for relation in relations:
        if (relation.left, relation.right) not in seen:
            seen.add((relation.left, relation.right))
            first.append(relation)
    return first + [r for r in relations if r not in first]


def merge_join_targets(relations: Sequence[JoinCandidate]) -> list[list[JoinCandidate]]:
    """Joins of several tables to the same one, on the same key, beside one another."""
    alike: dict[tuple[object, ...], list[JoinCandidate]] = {}
    for relation in relations:
        key = relation.right, relation.key, relation.cardinality, relation.ignore, relation.split
        alike.setdefault(key, []).append(relation)
    return list(alike.values())


def describe_lefts(join_candidates: Sequence[JoinCandidate]) -> str:
    """The left tables: two by their names, of more the first."""
    first = join_candidates[0].left
    if len(join_candidates) == _TWO:
        return f"{first}, {join_candidates[1].left}"
    return f"{first} and {len(join_candidates) - 1} more" if len(join_candidates) > _TWO else first


def least_share(join_candidates: Sequence[JoinCandidate], side: str) -> tuple[int, int]:
    """The rows of a side that match, and all, of the one of which least do."""
    rows = [
        (getattr(join_candidate, f"{side}_matched"), getattr(join_candidate, f"{side}_rows"))
        for join_candidate in join_candidates
    ]
    return min(rows, key=lambda pair: pair[0] / max(pair[1], 1))


def format_join_options(join_candidate: JoinCandidate) -> str:
    """The options of a join."""
    ignore = f" --ignore {','.join(join_candidate.ignore)}" if join_candidate.ignore else ""
    return f"--key {format_key_option(join_candidate.key)}{ignore}"


def is_sample(schema_group_survey: SchemaGroupSurvey) -> bool:
    """Whether it is of the first rows of a source only."""
    return any(
        finding.code == "sample-only"
        for table in schema_group_survey.tables
        for finding in table.findings
    )


def describe_keys(schema_group_survey: SchemaGroupSurvey, most: int) -> Iterator[str]:
    """Candidate keys in words: the likely ones, and how many there are that chance would give."""
    keys = schema_group_survey.keys.keys
    likely = _without_longer([key for key in keys if not key.by_chance]) or list(keys[:1])
    so_far = " so far" if is_sample(schema_group_survey) else ""
    for key in likely[:most]:
        yield f"key{so_far}: {describe_candidate_key(key)}"
    if not keys:
        yield "key: none found with up to four columns"
    by_chance = schema_group_survey.keys.found - sum(not key.by_chance for key in keys)
    if by_chance > 1 and most > 1 and len(likely) <= most:
        sets = pluralize(by_chance, "other set")
        yield f"     {sets} of columns are unique, possibly by chance"
    if schema_group_survey.keys.bounded:
        yield "     some combinations of very many columns were not tested"
    if (
        schema_group_survey.keys.sought < schema_group_survey.keys.columns
        and most > 1
        and schema_group_survey.keys.columns > 100
    ):
        yield f"          searched {schema_group_survey.keys.sought} of the columns"


def _without_longer(keys: Sequence[CandidateKey]) -> list[CandidateKey]:
    """Without keys that hold a better one and are not unique for it."""
    candidate_keies: list[CandidateKey] = []
    for key in keys:
        holds = any(
            set(candidate_key.columns) < set(key.columns) for candidate_key in candidate_keies
        )
        if not (holds and key.in_the_way):
            candidate_keies.append(key)
    return candidate_keies


def describe_candidate_key(key: CandidateKey) -> str:
    """A candidate key in words."""
    said = f"{','.join(key.columns)}, unique"
    said += f" except for {pluralize(key.in_the_way, 'row')}" if key.in_the_way else ""
    return said + (", possibly by chance" if key.by_chance else "")
