"""Extracts that follow one another: what is missing among them, there twice, or not as the others.

A folder of monthly extracts is only as good as the month that nobody missed. The names say which
period an extract is of; its rows say whether it is that one, and no copy of another.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from statistics import median

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.codes.dense_codes import count_few_codes
from plait.core.codes.key_codes import encode_keys
from plait.core.table.table import Table, table_from_columns
from plait.core.text.cells import to_text
from plait.core.types.inference import parse_column, to_arrow_type
from plait.core.types.periods import Period, periods_of_names

_LEAST = 3  # two extracts do not show what comes next
_MOST_MISSING = 60  # of more the names are no series, or the files are of several
_SHARE = 0.8  # of the extracts have a period in their names, or they are no series
_MOST_COMPARED = 1 << 19  # rows of which it is looked whether they stand in two extracts
_COPIED = 0.95
_LEAST_ROWS = 20
_VARIOUS = 0.8
_MUCH = 2.5  # times as many or as few rows as the neighbours
_NEIGHBOURS = 3
_WITHIN = 0.9  # of the dates of an extract are of its period, where a column tells of it


@dataclass(frozen=True)
class Series:
    """Extracts in the order of the periods that their names say.

    Parameters
    ----------
    name : str
        What they are together.
    periods : tuple of Period
        One for each extract.
    """

    name: str
    tables: tuple[Table, ...]
    periods: tuple[Period, ...]

    @property
    def missing(self) -> list[Period]:
        """The periods between the first and the last that no extract is of."""
        there = {period.place for period in self.periods}
        unit = self.periods[0].unit
        return [Period(unit, p) for p in range(min(there), max(there) + 1) if p not in there]

    @property
    def repeated(self) -> list[tuple[Period, list[Table]]]:
        """The periods that several extracts are of."""
        tables: dict[Period, list[Table]] = {}
        for period, table in zip(self.periods, self.tables, strict=True):
            tables.setdefault(period, []).append(table)
        return [(period, several) for period, several in tables.items() if several[1:]]


def find_series(tables: Sequence[Table], name: str) -> Series | None:
    """The series that extracts are, if their names say so.

    >>> from plait.core.table.table import table_from_columns
    >>> found = find_series([table_from_columns(f"2031-0{n}", {}) for n in (3, 4, 6)], "visits")
    >>> [str(period) for period in found.missing]
    ['2031-05']
    """
    if len(tables) < _LEAST:
        return None
    dated = [
        (period, table)
        for period, table in zip(periods_of_names([t.name for t in tables]), tables, strict=True)
        if period is not None
    ]
    if len(dated) < max(_LEAST, _SHARE * len(tables)) or len({p for p, _ in dated}) < _LEAST - 1:
        return None
    dated.sort(key=lambda one: one[0])
    periods, members = zip(*dated, strict=True)
    series = Series(name, members, periods)
    return series if len(series.missing) <= min(_MOST_MISSING, 2 * len(members)) else None


def report_series(tables: Sequence[Table], name: str) -> Iterator[Finding]:
    """What is not as it should be in a series of extracts.

    Parameters
    ----------
    name : str
        What they are together.

    Yields
    ------
    Finding
        ``series-gap``, ``series-repeat``, ``series-size``, ``series-outside``.
    """
    series = find_series(tables, name)
    if series is None:
        return
    yield from _gap(series)
    yield from _repeats(series)
    yield from _sizes(series)
    yield from _outside(series)


def _gap(series: Series) -> Iterator[Finding]:
    missing = series.missing
    if missing:
        shown = ", ".join(map(str, missing[:MOST_EXAMPLES]))
        more = " …" if len(missing) > MOST_EXAMPLES else ""
        first, last = series.periods[0], series.periods[-1]
        yield Finding(
            "series-gap",
            "warning",
            len(missing),
            f"{series.name} has no extract of {shown}{more}, between {first} and {last}",
            f"add the missing {agreeing(len(missing), 'extract', 'extracts')}",
            Location(series.name),
            terms=tuple(map(str, missing)),
        )


def _repeats(series: Series) -> Iterator[Finding]:
    """Periods of which there are two extracts, and extracts with the rows of another."""
    for period, several in series.repeated:
        names = ", ".join(table.name for table in several)
        yield Finding(
            "series-repeat",
            "warning",
            len(several),
            f"{series.name} has {len(several)} extracts of {period}: {names}",
            "keep the one that counts",
            Location(series.name),
        )
    for table, other, rows in _copies(series):
        yield Finding(
            "series-repeat",
            "warning",
            rows,
            f"{rows:,} of {pluralize(table.rows, 'row')} of {table.name} are in {other.name} too",
            f"see whether {table.name} is a copy of it under another name",
            Location(table.name),
        )


def _copies(series: Series) -> Iterator[tuple[Table, Table, int]]:
    """Extracts nearly all of whose rows an earlier one has, and how many."""
    names = list(dict.fromkeys(n for table in series.tables for n in table.column_names))
    shared = [n for n in names if all(table.has_column(n) for table in series.tables)]
    rows = sum(table.rows for table in series.tables)
    if len(shared) < len(names) or not shared or rows > _MOST_COMPARED:
        return
    coding = encode_keys([_all_rows(series.tables, shared)], [shared], missing_match=True)
    first = np.full(coding.code_count, -1, np.int64)
    ends = np.cumsum([table.rows for table in series.tables])
    parts = np.split(coding.codes[0], ends[:-1])
    for number, (table, codes) in enumerate(zip(series.tables, parts, strict=True)):
        seen = first[codes]
        counts = np.bincount(seen[seen >= 0])
        most = int(counts.argmax()) if len(counts) else 0
        sizes = table.rows, series.tables[most].rows
        # Rows that are mostly equal among themselves prove nothing.
        various = len(count_few_codes(codes)[0]) >= max(_LEAST_ROWS, _VARIOUS * table.rows)
        if various and len(counts) and counts[most] >= _COPIED * max(sizes):
            yield table, series.tables[most], int(counts[most])
        new = codes[seen < 0]
        first[new] = number


def _all_rows(tables: Sequence[Table], names: Sequence[str]) -> Table:
    """The cells of all tables one below the other, without where they come from.

    To code thousands of small tables one by one takes ten times as long.
    """
    columns = {}
    for name in names:
        cells = [table.chunks(name) for table in tables]
        alike = len({column.type for column in cells}) == 1
        chunks = [chunk for column in cells for chunk in column.chunks]
        if not alike:
            chunks = [to_text(chunk).cast(pa.string()) for chunk in chunks]
        columns[name] = pa.chunked_array(chunks, cells[0].type if alike else pa.string())
    return table_from_columns("all extracts", columns)


def _sizes(series: Series) -> Iterator[Finding]:
    """Extracts with many more or fewer rows than those around them."""
    rows = [table.rows for table in series.tables]
    for number, (table, period) in enumerate(zip(series.tables, series.periods, strict=True)):
        around = [
            *rows[max(number - _NEIGHBOURS, 0) : number],
            *rows[number + 1 : number + 1 + _NEIGHBOURS],
        ]
        usual = median(around)
        if max(table.rows, usual) < _LEAST_ROWS:
            continue
        if table.rows * _MUCH < usual or table.rows > usual * _MUCH:
            few = "few" if table.rows < usual else "many"
            of = "" if str(period) in table.name else f" for {period}"
            yield Finding(
                "series-size",
                "warning",
                table.rows,
                f"{table.name} has {few} rows{of}: {table.rows:,}; those around it have about "
                f"{int(usual):,}",
                "see whether the extract is whole, and of one period",
                Location(table.name),
            )


def _outside(series: Series) -> Iterator[Finding]:
    """Dates of another period than that of their extract, in columns that tell of it elsewhere."""
    if series.periods[0].unit == "number":
        return
    for name in series.tables[0].column_names:
        if not all(table.has_column(name) for table in series.tables):
            continue
        inside = [_inside(t, name, p) for t, p in zip(series.tables, series.periods, strict=True)]
        known = [one for one in inside if one is not None and len(one)]
        telling = [one for one in known if one.mean() >= _WITHIN]
        if not known or len(telling) < max(2, 0.6 * len(series.tables)):
            continue
        for table, period, one in zip(series.tables, series.periods, inside, strict=True):
            if one is None or one.all():
                continue
            rows = np.flatnonzero(~one)
            shown = tuple(
                FindingExample(repr(table.cells(table.column(name), r, r + 1)[0].as_py()),
                               table.source_rows(r)[:1])
                for r in rows[:MOST_EXAMPLES].tolist()
            )  # fmt: skip
            yield Finding(
                "series-outside",
                "warning",
                len(rows),
                f"{pluralize(len(rows), 'row')} of {table.name} "
                f"{agreeing(len(rows), 'has', 'have')} a date in {name} outside {period}",
                "see whether these rows belong to another extract",
                Location(table.name, name),
                shown,
            )


def _inside(table: Table, name: str, period: Period) -> np.ndarray | None:
    """For each row whether a date is of a period, or missing; ``None`` for a column of no dates."""
    type_ = table.column_type(name)
    if not type_.has_day:
        return None
    cells = table.chunks(name)
    arrow = to_arrow_type(type_, cells)
    try:
        chunks = [parse_column(c, type_, arrow).cast(pa.date32(), safe=False) for c in cells.chunks]
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None  # a source declares dates, and has others there too
    days = pa.chunked_array(chunks, pa.date32())
    first, after = pa.scalar(period.first_day), pa.scalar(period.next_day)
    within = pc.and_(pc.greater_equal(days, first), pc.less(days, after))
    return np.asarray(pc.fill_null(within, True).to_numpy(zero_copy_only=False), bool)
