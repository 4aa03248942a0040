"""The rows of a survey as a page works with them: codes, each distinct cell once, packed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from shlex import join, quote
from typing import Any

import numpy as np
import numpy.typing as npt

from plait.core.operations.survey import SchemaGroupSurvey, Survey, counts_over_all_tables
from plait.core.profiling.facets import FacetColumn, make_facet_column
from plait.core.table.provenance import locate_source_rows
from plait.core.table.table import Table
from plait.report.html.render import pack_script_data

Numbers = npt.NDArray[np.int64]

MOST_CELLS, MOST_LETTERS = 3_200_000, 7_200_000
# What is a sample anyway is a smaller one, which opens sooner.
SAMPLED_CELLS, SAMPLED_LETTERS = 1_000_000, 2_500_000
_FEWEST_ROWS, _TRIES, _AIM = 200, 6, 0.95


@dataclass(frozen=True)
class SurveyPageData:
    """Rows for a page's script, and of how many of each shape they are.

    Parameters
    ----------
    packed : str
        As ``render.packed`` makes it.
    rows : tuple of int
        For each shape the rows that are in the page: all, or a sample of so many.
    """

    packed: str
    rows: tuple[int, ...]


def pack_survey_rows(survey: Survey) -> SurveyPageData:
    """The rows of all shapes, or of samples that are small enough for a page."""
    cells = sum(family.rows * len(family.profiles) for family in survey.families)
    if cells <= MOST_CELLS:
        made = _packed(survey, 1.0)
        if len(made.packed) <= MOST_LETTERS:
            return made
    share = min(1.0, SAMPLED_CELLS / cells)
    for _ in range(_TRIES):
        made = _packed(survey, share)
        if len(made.packed) <= SAMPLED_LETTERS:
            break
        share *= _AIM * SAMPLED_LETTERS / len(made.packed)
    return made


def _packed(survey: Survey, share: float) -> SurveyPageData:
    said, parts, begin, kept = [], [], 0, []
    for one in survey.families:
        rows = _sampled(one.rows, share)
        family, arrays = _family(one, rows, begin)
        begin += sum(array.nbytes for array in arrays)
        said.append(family)
        parts += [array.tobytes() for array in arrays]
        kept.append(family["rows"])
    return SurveyPageData(pack_script_data({"families": said}, b"".join(parts)), tuple(kept))


def _sampled(rows: int, share: float) -> Numbers | None:
    """Some rows at random, the same each time; ``None`` for all."""
    few = max(int(rows * share), _FEWEST_ROWS)
    if few >= rows:
        return None
    return np.sort(np.random.default_rng(rows).choice(rows, few, replace=False))


def _family(
    schema_group_survey: SchemaGroupSurvey, rows: Numbers | None, begin: int
) -> tuple[dict[str, Any], list[npt.NDArray[Any]]]:
    """A shape as the script reads it, and its arrays: of each row the source, its number, codes."""
    # Column by column: the codes of all rows of all columns together may be large.
    every = [
        make_facet_column(
            name,
            counts_over_all_tables(tally, schema_group_survey.tables),
            schema_group_survey.profiles[name].kind,
            rows,
        )
        for name, tally in schema_group_survey.tallies.items()
    ]
    source, number = _places(schema_group_survey, rows)
    arrays = [_narrow(source, len(schema_group_survey.tables)), number.astype(np.uint32)]
    arrays += [_narrow(column.codes + 1, len(column.texts) + 1) for column in every]
    places = np.cumsum([begin, *(array.nbytes for array in arrays)]).tolist()
    shapes = [[p, array.itemsize] for p, array in zip(places, arrays, strict=False)]
    origin = source_column(list(schema_group_survey.profiles))
    payload = {
        "name": schema_group_survey.family.name,
        "rows": len(source),
        "of": schema_group_survey.rows,
        "sources": [table.name for table in schema_group_survey.tables],
        "origin": origin,
        "command": _command(schema_group_survey, origin),
        "source": shapes[0],
        "number": shapes[1],
        "fields": [
            {**_column_payload(column), "codes": shape}
            for column, shape in zip(every, shapes[2:], strict=True)
        ],
    }
    return payload, arrays


def _column_payload(column: FacetColumn) -> dict[str, Any]:
    texts, literals = column.texts.to_pylist(), column.literals
    plain = bool((column.value == np.arange(len(texts))).all())
    return {
        "name": column.name,
        "kind": str(column.type),
        "base": column.type.family,
        "texts": texts,
        "value": None if plain else column.value.tolist(),
        "literals": None if literals is None or literals == texts else literals,
        "bins": column.bins.tolist(),
    }


def _places(
    schema_group_survey: SchemaGroupSurvey, rows: Numbers | None
) -> tuple[Numbers, Numbers]:
    """For each row the number of its source, and its row number there, from 1."""
    ends = np.cumsum([table.rows for table in schema_group_survey.tables])
    rows = np.arange(schema_group_survey.rows) if rows is None else rows
    source = np.searchsorted(ends, rows, side="right")
    number = np.zeros(len(rows), np.int64)
    for place, (table, end) in enumerate(
        zip(schema_group_survey.tables, ends.tolist(), strict=True)
    ):
        here = source == place
        number[here] = _numbers(table, rows[here] - (end - table.rows))
    return source, number


def _numbers(table: Table, rows: Numbers) -> Numbers:
    """The row numbers that rows of a table have in its source, from 1."""
    within = locate_source_rows(table.fragments[0], rows)[1] if table.fragments else rows
    return within.astype(np.int64) + 1


def _narrow(codes: Numbers, size: int) -> npt.NDArray[Any]:
    """Codes below a size in as few bytes as hold them."""
    kind = next(kind for kind in (np.uint8, np.uint16, np.uint32) if size <= np.iinfo(kind).max)
    return codes.astype(kind)


def _command(schema_group_survey: SchemaGroupSurvey, origin: str) -> str:
    """What an expression goes behind, to have the rows that were chosen."""
    paths = [table.path or table.name for table in schema_group_survey.tables]
    if len(paths) == 1:
        return f"plait mend {quote(paths[0])} --where "
    return f"plait stack {join(paths)} --origin {quote(origin)} | plait mend - --where "


def source_column(names: Sequence[str]) -> str:
    """What a column is called that says the source: ``source``, or another that is free."""
    free = "source"
    while free in names:
        free += "_"
    return free
