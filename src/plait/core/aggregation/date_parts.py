"""Months, quarters, weeks and years of dates, and the order in which they follow one another."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name, unused_name
from plait.core.base.wording import Setting, wording
from plait.core.codes.sort import dense_ranks
from plait.core.job.executor import map_ordered
from plait.core.job.spill_columns import build_column
from plait.core.table.key_spec import check_column
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.types.column_type import EMPTY
from plait.core.types.inference import parse_column, to_arrow_type

PARTS = ("month", "quarter", "week", "year")


def split_date_part(table: Table, spec: str) -> tuple[str, str | None]:
    """The column and the part of its dates that ``COLUMN:month`` asks for; of others no part."""
    name, sign, part = spec.rpartition(":")
    if table.has_column(spec) or not sign or not table.has_column(name):
        return spec, None
    return name, part


def add_date_parts(table: Table, columns: tuple[str, ...]) -> tuple[Table, tuple[str, ...]]:
    """The table with a column for each ``COLUMN:month``, and what those columns are called.

    Parameters
    ----------
    columns : tuple of str
        Names of columns, some of dates with ``:month``, ``:quarter``, ``:week`` (ISO 8601)
        or ``:year`` behind them.

    Raises
    ------
    UsageError
        For a column that is not there, or has no dates.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> visits = table_from_columns("t", {"seen": ["2031-04-05"]})
    >>> table, names = add_date_parts(visits, ("seen:month",))
    >>> names, table.to_dict()["seen month"]
    (('seen month',), ['2031-04'])
    """
    made = []
    for spec in columns:
        name, part = split_date_part(table, spec)
        if part is None:
            check_column(spec, table)
            made.append(spec)
            continue
        if part not in PARTS:
            raise UsageError(
                f"dates have no part {part!r}",
                f"{table.name}, column {name}",
                suggest_name(part, PARTS) or f"one of {', '.join(PARTS)}",
            )
        called = unused_name(f"{name} {part}", table.column_names)
        table = table.extend(called, _parts(table, name, part), [name])
        made.append(called)
    return table, tuple(made)


_NUMBERED = {
    "month": (pc.month, "-", 2),
    "quarter": (pc.quarter, "-Q", 1),
    "week": (pc.iso_week, "-W", 2),
}
_PART_WRITTEN = "(?i)^(\\d{4}-\\d{2}|\\d{4}-q[1-4]|\\d{4}-w\\d{2})$"
_MONTHS = 12
_MONTH_NAMES = [
    *("january", "february", "march", "april", "may", "june", "july", "august"),
    *("september", "october", "november", "december"),
    *("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"),
]


def _parts(table: Table, name: str, part: str) -> pa.ChunkedArray:
    cells = table.chunks(name)
    type_ = table.column_type(name)
    to = to_arrow_type(type_, cells)
    dated = pa.types.is_date(to) or pa.types.is_timestamp(to)
    if not (type_.has_day or type_ == EMPTY or dated):
        raise UsageError(
            f"{part} needs a date column; {name} is {type_}",
            table.name,
            wording(Setting("type", "date", name), ", or date:%d.%m.%Y as they are written"),
        )
    if type_ == EMPTY:
        return pa.chunked_array([pa.nulls(table.rows, pa.string())])
    chunks = map_ordered(lambda chunk: _written(parse_column(chunk, type_, to), part), cells.chunks)
    return build_column(chunks, pa.string())


def _written(dates: pa.Array, part: str) -> pa.Array:
    """``2031-04``, ``2031-Q2``, ``2031-W14`` or ``2031``: they sort as they follow one another."""
    # The first days of January may be of the last week of the year before.
    year = pc.iso_year(dates) if part == "week" else pc.year(dates)
    year = pc.utf8_lpad(year.cast(pa.string()), 4, "0")
    if part == "year":
        return year
    number_of, sign, width = _NUMBERED[part]
    number = pc.utf8_lpad(number_of(dates).cast(pa.string()), width, "0")
    return pc.binary_join_element_wise(year, number, sign)


def ranks_in_time(table: Table, name: str) -> npt.NDArray[np.int64] | None:
    """The rank of each row by the time that a column names; ``None`` where it names none.

    Dates and times are in their order, and so are months, quarters and weeks as ``add_date_parts``
    writes them, and months by their names.

    >>> from plait.core.table.table import table_from_columns
    >>> ranks_in_time(table_from_columns("t", {"month": ["May", "April"]}), "month").tolist()
    [4, 3]
    >>> ranks_in_time(table_from_columns("t", {"hive": ["7", "12"]}), "hive")
    """
    type_ = table.column_type(name)
    if type_.has_day or type_.family == "time":
        return dense_ranks(table, name, False, "time")[0].astype(np.int64)
    texts = [to_text(chunk).cast(pa.string()) for chunk in table.chunks(name).chunks]
    cells = pa.chunked_array(texts, pa.string()).combine_chunks()
    present = cells.drop_null()
    if not len(present):
        return None
    if pc.all(pc.match_substring_regex(present, _PART_WRITTEN)).as_py():
        sortable = pc.utf8_lower(pc.fill_null(cells, ""))
        ranks: npt.NDArray[np.int64] = pc.rank(sortable, tiebreaker="dense").to_numpy()
        return ranks.astype(np.int64)
    months = pc.index_in(pc.utf8_lower(cells), pa.array(_MONTH_NAMES))
    if months.null_count > cells.null_count:
        return None
    months_of_row: npt.NDArray[np.int64] = pc.fill_null(months, 0).to_numpy().astype(np.int64)
    return months_of_row % _MONTHS
