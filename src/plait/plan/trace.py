"""Trace: where a row of a handover, and each of its cells, came from."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import PlaitError, UsageError
from plait.core.base.findings import SourceRow
from plait.core.expressions.expression import evaluate_condition, parse_expression
from plait.core.table.key_spec import check_column
from plait.core.table.source_lines import LINE, SHEET_ROW
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.io.lineage_file import KEYS, read_lineage, read_row_keys
from plait.io.places.fetch import keep_fetched_files
from plait.io.places.source import RefetchedRow, Source
from plait.io.read import find_reader
from plait.plan.handover.read import StoredHandover, handover_changed_error, open_handover
from plait.plan.handover.source_access import Reach

MOST_ROWS = 5
_MOST_ORIGINS = 20


@dataclass(frozen=True)
class SourceCell:
    """A cell of a source: its file, sheet, row, line and column, and the text that is there.

    ``row`` is a number, or the key where rows are known by keys. ``line`` is ``None`` where the
    file has no lines, ``sheet_row`` where there is no sheet, and ``text`` where the row or the
    column is not there any more.
    """

    source: str
    path: str
    row: int | str
    line: int | None
    sheet_row: int | None
    column: str
    text: str | None

    @property
    def place(self) -> str:
        """Where its row is in the file: ``line 12``, ``sheet row 12``, a key, or ``row 12``."""
        if self.sheet_row is not None:
            return _within(self.source, self.row, self.sheet_row, SHEET_ROW)
        return _within(self.source, self.row, self.line, LINE)


def _within(source: str, row: int | str, line: int | None, unit: str) -> str:
    """Where a row is in its source, as a person is told."""
    if isinstance(row, str):
        return row
    return (
        SourceRow(source, row).within
        if line is None
        else SourceRow(source, row, "", line, unit).within
    )


@dataclass(frozen=True)
class CellTrace:
    """A cell of the result, the cells it came from, and the steps it went through.

    Parameters
    ----------
    more : int
        Origins beyond those listed.
    steps : tuple of (str, bool)
        Each step's title, and whether it made or changed cells of the column.
    """

    column: str
    value: str | None
    origins: tuple[SourceCell, ...]
    more: int
    steps: tuple[tuple[str, bool], ...]


@dataclass(frozen=True)
class RowTrace:
    """A row of the result, from 1, and the source rows that went into it.

    ``within`` says of each of ``places`` where it is in its file: ``line 12``. ``matched`` says of
    rows that came together by evidence how sure that is.
    """

    row: int
    cells: tuple[CellTrace, ...]
    places: tuple[tuple[str, int | str], ...]
    within: tuple[str, ...]
    matched: tuple[str, ...] = ()


@dataclass(frozen=True)
class TraceResult:
    """What was asked for.

    Parameters
    ----------
    found : int
        How many rows the condition holds on; more than are traced perhaps.
    changed : tuple of str
        Sources that are not as they were, or not there, with what is wrong.
    unopened : tuple of str
        What would have been opened for sources of a handover that somebody else made.
    paths : mapping of str to str
        The file of each source that went in.
    """

    handover: str
    result: str
    rows: tuple[RowTrace, ...]
    found: int
    changed: tuple[str, ...]
    unopened: tuple[str, ...]
    paths: Mapping[str, str]

    @property
    def read(self) -> bool:
        """Whether any source was read again."""
        origins = (o for row in self.rows for cell in row.cells for o in cell.origins)
        return any(origin.text is not None for origin in origins)


def trace(
    handover: str | Path,
    rows: Sequence[int] = (),
    where: str | None = None,
    columns: Sequence[str] = (),
    most: int = MOST_ROWS,
    sources: str | Path | None = None,
    trusted: bool = False,
    result: str | None = None,
) -> TraceResult:
    """Where rows of a handover, and each of their cells, came from.

    Parameters
    ----------
    handover : str or Path
        The folder.
    rows : sequence of int
        Of the result, from 1; or else
    where : str
        an SQL condition over its columns.
    columns : sequence of str
        The columns to trace. Without it all.
    most : int
        Of the rows on which the condition holds, so many at most.
    sources : str or Path, optional
        The folder that paths of sources start from, and that none leads out of.
    trusted : bool
        Open whatever a handover names that somebody else made: addresses, with variables of
        the environment filled in, and any file.
    result : str, optional
        Which of several results. Without it the main one.

    Raises
    ------
    SourceError
        When this is no handover, or it cannot be read.
    UsageError
        For a row or column that is not there.

    Notes
    -----
    The sources are read again, and their checksums compared with those of the
    run: where a source has changed since, that is said, and its text is the one
    that is there now. Of a handover that this user did not make, files are opened
    only in the folder that it stands in, or in ``sources``.
    """
    folder = Path(handover)
    if sources is not None and not Path(sources).is_dir():
        raise UsageError("the folder does not exist", str(sources), "name one: --sources DIR")
    try:
        stored_handover = open_handover(folder, result)
        for column in columns:
            check_column(column, stored_handover.dataset)
        reach = Reach(stored_handover, None if sources is None else Path(sources), trusted)
        return _traced(reach, str(handover), rows, where, columns, most)
    except _NOT_AS_WRITTEN as error:
        text = str(error).splitlines()[0][:200] if str(error) else type(error).__name__
        raise handover_changed_error(folder, f"the handover is not consistent: {text}") from None


_NOT_AS_WRITTEN = (
    *(LookupError, TypeError, ValueError, ArithmeticError, AttributeError, OSError),
    *(pa.ArrowException, RecursionError),
)
"""What comes of files that somebody has changed: nothing in them can be relied on."""


def _traced(
    reach: Reach,
    handover: str,
    rows: Sequence[int],
    where: str | None,
    columns: Sequence[str],
    most: int,
) -> TraceResult:
    stored_handover = reach.kept
    chosen, found = _chosen(stored_handover.dataset, rows, where, most)
    _, lineage = read_lineage(stored_handover.lineage, chosen)
    numbers = [_numbers(path) for path in lineage]
    names = list(columns) or list(stored_handover.dataset.column_names)
    cells = [(n, name) for n in numbers for name in names]
    led = [one for each, name in cells for one, _ in _led(stored_handover, name, each)]
    of_rows = [e for each in numbers for way in stored_handover.stated["rows"] for e in each[way]]
    wanted = _by_source(stored_handover, [*led, *of_rows])
    known = _rows_by_key(stored_handover, wanted)
    opened = {number: source for number in wanted if (source := reach.source(number))}
    unopened = dict.fromkeys(reach.wanted(number) for number in wanted if number not in opened)
    looked, changed = _looked_up(stored_handover, wanted, opened, known)
    traced = tuple(
        _row_trace(stored_handover, row, each, names, _RefetchedRows(looked, known))
        for row, each in zip(chosen, numbers, strict=True)
    )
    named = {source for row in traced for source, _ in row.places}
    about = (s for s in stored_handover.stated["sources"] if s["name"] in named)
    paths = {a["name"]: a["path"] for a in about}
    result = stored_handover.stated["result"]
    return TraceResult(handover, result, traced, found, tuple(changed), tuple(unopened), paths)


def _chosen(
    dataset: Table, rows: Sequence[int], where: str | None, most: int
) -> tuple[list[int], int]:
    """Row numbers from 0, and how many there are."""
    if where is not None:
        holds = pc.fill_null(evaluate_condition(parse_expression(where), dataset), False).to_numpy()
        found = np.flatnonzero(holds)
        return found[:most].tolist(), len(found)
    for row in rows:
        if not 1 <= row <= dataset.rows:
            raise UsageError(
                f"no row {row:,}", dataset.name, f"choose a row from 1 to {dataset.rows:,}"
            )
    if not rows:
        raise UsageError("no row given", dataset.name, "write --row 1 or --where 'CONDITION'")
    return [row - 1 for row in rows], len(rows)


def _numbers(lineage: Mapping[str, Any]) -> dict[str, list[int]]:
    """The source rows of each way, numbered through all sources; and what tells ways apart."""
    return {
        way: [] if found is None else found if isinstance(found, list) else [found]
        for way, found in lineage.items()
    }


def _located(stored_handover: StoredHandover, number: int) -> tuple[int, int]:
    """Source and row, from 0, of a number that goes through all sources."""
    starts = np.array([s["start"] for s in stored_handover.stated["sources"]])
    source = int(np.searchsorted(starts, number, side="right")) - 1
    return source, number - int(starts[source])


def _by_source(stored_handover: StoredHandover, numbers: Sequence[int]) -> dict[int, set[int]]:
    wanted: dict[int, set[int]] = {}
    for number in dict.fromkeys(numbers):
        source, row = _located(stored_handover, number)
        if len(wanted.setdefault(source, set())) < _MOST_ORIGINS * MOST_ROWS:
            wanted[source].add(row)
    return wanted


_Found = dict[tuple[int, int], RefetchedRow]


@dataclass(frozen=True)
class _RowByKey:
    """A source row that is known by its key, and the sum of its cells then."""

    key: str
    sum: int

    def said(self, columns: Sequence[str]) -> str:
        """The key as a person reads it: ``id=4711``."""
        values = zip(columns, json.loads(self.key), strict=True)
        return ",".join(f"{name}={value}" for name, value in values)


@dataclass(frozen=True)
class _RefetchedRows:
    """Source rows as they are now, by source and number; and those known by keys, by number."""

    looked: _Found
    known: Mapping[int, _RowByKey]

    def place(
        self, stored_handover: StoredHandover, source: int, number: int, row: int
    ) -> int | str:
        """The row, from 0, as it is told: from 1, or by its key."""
        one = self.known.get(number)
        return (
            one.said(stored_handover.stated["sources"][source]["read"]["key"]) if one else row + 1
        )


def _rows_by_key(
    stored_handover: StoredHandover, wanted: Mapping[int, set[int]]
) -> dict[int, _RowByKey]:
    """The source rows that are known by keys, by the numbers that go through all sources."""
    places: dict[int, int] = {}
    for source, rows in wanted.items():
        said = stored_handover.stated["sources"][source]
        if said["read"].get("key"):
            shift = said["read"]["keys"] - said["start"]
            places |= {row + said["start"]: row + said["start"] + shift for row in rows}
    if not places:
        return {}
    row_keys = read_row_keys(stored_handover.folder / KEYS, sorted(places.values()))
    return {number: _RowByKey(*row_keys[p]) for number, p in places.items()}


def _looked_up(
    stored_handover: StoredHandover,
    wanted: Mapping[int, set[int]],
    opened: Mapping[int, Source],
    known: Mapping[int, _RowByKey],
) -> tuple[_Found, list[str]]:
    """The rows as the sources have them now, and which sources have changed."""
    looked: _Found = {}
    changed: list[str] = []
    with keep_fetched_files():
        for number, source in opened.items():
            said, rows = stored_handover.stated["sources"][number], wanted[number]
            if source.address is None and not Path(source.path).is_file():
                changed.append(f"{said['path']} no longer exists")
                continue
            start = said["start"]
            keyed = {row: known[row + start] for row in rows if row + start in known}
            try:
                found, told = _of_source(source, said, sorted(rows), keyed)
            except (PlaitError, OSError) as error:
                what = getattr(error, "what", None) or getattr(error, "strerror", "")
                changed.append(f"{said['path']} can no longer be read: {what}")
                continue
            changed += told
            looked |= {(number, row): i for row, i in found.items()}
    return looked, changed


def _of_source(
    source: Source, said: Mapping[str, Any], rows: Sequence[int], keyed: Mapping[int, _RowByKey]
) -> tuple[dict[int, RefetchedRow], list[str]]:
    """The rows of a source as they are now, and what is to be told of how they changed."""
    reader = find_reader(source)
    if not source.in_database:
        now = reader.fingerprint(source)
        text = f"{said['path']} has changed since the run; its present text is shown"
        return reader.rows_at(source, rows, ()), [text] if now != said["sha256"] else []
    if not keyed:
        return {}, [f"{said['path']} has no primary key: its rows cannot be found again"]
    found = reader.rows_at(source, list(keyed), [v.key for v in keyed.values()])
    key = said["read"]["key"]
    told_of = []
    for row, one in keyed.items():
        if row not in found:
            told_of.append(f"{said['name']} {one.said(key)} no longer exists")
        elif found[row].sum != one.sum:
            told_of.append(
                f"{said['name']} {one.said(key)} has changed since the run; its present text is "
                "shown"
            )
    return found, told_of


def _row_trace(
    stored_handover: StoredHandover,
    row: int,
    numbers: Mapping[str, list[int]],
    names: Sequence[str],
    seen: _RefetchedRows,
) -> RowTrace:
    every = [number for way in stored_handover.stated["rows"] for number in numbers[way]]
    places: dict[tuple[str, int | str], str] = {}
    for number in every:
        source, at = _located(stored_handover, number)
        name, told = (
            stored_handover.stated["sources"][source]["name"],
            seen.place(stored_handover, source, number, at),
        )
        now = seen.looked.get((source, at))
        line, unit = (now.line, now.unit) if now else (None, LINE)
        places.setdefault((name, told), _within(name, told, line, unit))
    return RowTrace(
        row + 1,
        tuple(_cell_trace(stored_handover, row, name, numbers, seen) for name in names),
        tuple(places),
        tuple(places.values()),
        tuple(
            match["reason"]
            for match in stored_handover.stated.get("evidence", ())
            if not {*every}.isdisjoint(match["left"]) and not {*every}.isdisjoint(match["right"])
        ),
    )


def _cell_trace(
    stored_handover: StoredHandover,
    row: int,
    name: str,
    numbers: Mapping[str, list[int]],
    seen: _RefetchedRows,
) -> CellTrace:
    said = stored_handover.stated["columns"][name]
    cells = stored_handover.dataset.cells(stored_handover.dataset.column(name), row, row + 1)
    value = to_text(cells)[0].as_py()
    origins = list(_origins(stored_handover, name, numbers, seen))
    # A step that changed other cells of the column has carried this one on.
    carried = len(origins) == 1 and (origins[0].text or "") == (value or "")
    return CellTrace(
        name,
        value,
        tuple(origins[:_MOST_ORIGINS]),
        max(len(origins) - _MOST_ORIGINS, 0),
        tuple((s["step"], s["changed"] and not carried) for s in said["steps"]),
    )


def _led(
    stored_handover: StoredHandover, name: str, numbers: Mapping[str, list[int]]
) -> Iterator[tuple[int, Mapping[str, Sequence[str]]]]:
    """The source rows that cells of a column lead to, and which columns of each source."""
    for term in stored_handover.stated["columns"][name]["cells"]:
        apart = all(numbers[which] == [value] for which, value in term["which"])
        if apart and not any(numbers[way] for way in term["absent"]):
            for number in numbers[term["way"]]:
                yield number, term["columns"]


def _origins(
    stored_handover: StoredHandover,
    name: str,
    numbers: Mapping[str, list[int]],
    seen_rows: _RefetchedRows,
) -> Iterator[SourceCell]:
    """The source cells that a cell was made of, each once."""
    seen = set()
    for number, columns in _led(stored_handover, name, numbers):
        source, row = _located(stored_handover, number)
        about = stored_handover.stated["sources"][source]
        for column in columns.get(about["name"], ()):
            if (source, row, column) in seen:
                continue
            seen.add((source, row, column))
            there = seen_rows.looked.get((source, row))
            text = there.cells.get(column) if there else None
            line, unit = (there.line, there.unit) if there else (None, LINE)
            yield SourceCell(
                about["name"],
                about["path"],
                seen_rows.place(stored_handover, source, number, row),
                line if unit == LINE else None,
                line if unit == SHEET_ROW else None,
                column,
                text,
            )
