"""Findings about types: columns that differ between sources, or leave their format open."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import (
    RESULT,
    Finding,
    FindingExample,
    Location,
    agreeing,
    of_markers,
    pluralize,
)
from plait.core.base.wording import Setting, Wording, wording
from plait.core.job.executor import map_ordered
from plait.core.profiling.misplaced_columns import find_misplaced_columns
from plait.core.profiling.profile import ColumnProfile, count_values
from plait.core.table.provenance import source_columns
from plait.core.table.table import Table, table_from_columns
from plait.core.text.cells import combine_chunks, is_text_type
from plait.core.types.column_type import DECIMAL, EMPTY, INTEGER, TEXT, ColumnType
from plait.core.types.inference import infer_column_type, may_parse_mask
from plait.core.types.near_types import MixedDateFormats, NearType
from plait.core.types.value_formats import format_for_type

_MOST_SETTLED = 6  # sources whose types a remedy spells out
_MOST_COMPARED = 3000
_SAMPLE, _CELLS, _FEWEST = 300, 2_000_000, 100


def find_type_disagreements(tables: Sequence[Table]) -> Iterator[Finding]:
    """Columns of other types in some extracts, and columns that look misplaced in one.

    Notes
    -----
    Both are looked for in up to 300 rows spread over each extract. Types that
    differ there are then decided over all cells, so what is said is so; a single
    odd cell far down a long extract is left to ``plait survey``. Misplaced columns
    are not looked for where there are more than 3,000 columns in all extracts
    together.
    """
    if len(tables) < 2:
        return
    columns = sum(len(table.columns) for table in tables)
    rows = max(_FEWEST, min(_SAMPLE, _CELLS // columns))
    drawn = [_drawn(table, rows) for table in tables]
    yield from _type_findings(tables, drawn)
    if columns > _MOST_COMPARED:
        return
    every = dict.fromkeys(name for table in tables for name in table.column_names)
    yield from find_misplaced_columns(
        drawn,
        {
            name: count_values([d.chunks(name) if d.has_column(name) else None for d in drawn])
            for name in every
        },
    )


def _type_findings(tables: Sequence[Table], drawn: Sequence[Table]) -> Iterator[Finding]:
    """Types that differ between the extracts, once all of their cells have been looked at."""
    every = dict.fromkeys(name for d in drawn for name in d.column_names)
    suspect = [
        name
        for name in every
        if _may_differ(drawn, name)
        and types_differ(type_ for one in drawn for type_ in _types(one, [name]).values())
    ]
    if suspect:
        types = list(map_ordered(lambda table: _types(table, suspect), tables))
        yield from report_type_differences(tables, types, RESULT)


def _may_differ(drawn: Sequence[Table], name: str) -> bool:
    """Whether a column can be of several types, by all its cells at once: it mostly cannot."""
    having = [d for d in drawn if d.has_column(name)]
    cells = [combine_chunks(h.chunks(name)) for h in having]
    if not all(is_text_type(one.type) for one in cells) or any(
        t.column(name).declared_type for t in having
    ):
        return True
    texts = [cell.cast(pa.string()) for cell in cells]
    together = combine_chunks(pa.chunked_array(texts, pa.string()))
    if infer_column_type(pa.chunked_array([together])) != TEXT:
        return False  # of one type in all of them, or empty
    empty = pc.fill_null(pc.equal(together, ""), True).to_numpy(zero_copy_only=False)
    typed = may_parse_mask(pc.fill_null(together, "")) | empty
    ends = np.cumsum([len(c) for c in cells])
    return any(
        typed[end - len(one) : end].all() and not empty[end - len(one) : end].all()
        for one, end in zip(cells, ends.tolist(), strict=True)
    )


def types_differ(types: Iterable[ColumnType]) -> bool:
    """Whether columns of these types differ; whole numbers and decimals do not, nor what is empty.

    >>> types_differ([INTEGER, DECIMAL, EMPTY]), types_differ([INTEGER, TEXT])
    (False, True)
    """
    held = set(types) - {EMPTY}
    return len(held) > 1 and not held <= {INTEGER, DECIMAL}


def _types(table: Table, names: Sequence[str]) -> dict[str, ColumnType]:
    """The types of those of some columns that the table has."""
    found = {}
    for name in names:
        if table.has_column(name):
            cells, declared = table.chunks(name), table.column(name).declared_type
            found[name] = declared or infer_column_type(cells)
    return found


def _drawn(table: Table, rows: int) -> Table:
    """Some rows, evenly over all of them."""
    if table.rows <= rows:
        return table
    drawn = table.take(np.linspace(0, table.rows - 1, rows).astype(np.int64))
    cells = {name: drawn.chunks(name) for name in drawn.column_names}
    declared = {column.name: column.declared_type for column in table.columns}
    return table_from_columns(table.name, cells, table.path).with_types(declared)


def report_type_differences(
    tables: Sequence[Table], types: Sequence[Mapping[str, ColumnType]], name: str
) -> Iterator[Finding]:
    """Columns that are of one type in some sources and of another in others.

    Parameters
    ----------
    types : sequence of mapping of str to ColumnType
        For each table the type of each column. Whole numbers in one and decimals
        in another are no difference, nor is a column without cells.
    name : str
        What the tables are together.
    """
    for column in dict.fromkeys(column for of_table in types for column in of_table):
        held: dict[ColumnType, list[Table]] = {}
        for table, of_table in zip(tables, types, strict=True):
            if of_table.get(column, EMPTY) != EMPTY:
                held.setdefault(of_table[column], []).append(table)
        if not types_differ(held):
            continue
        text = "; ".join(f"{type_} in {_name_or_count(some)}" for type_, some in held.items())
        yield Finding(
            "type-differs",
            "warning",
            sum(map(len, held.values())) - max(map(len, held.values())),
            f"{column} has different types: {text}",
            _settled(column, held),
            Location(name, column),
        )


def _settled(column: str, held: Mapping[ColumnType, Sequence[Table]]) -> Wording:
    """How to have one type: where it is one written in several ways, the way of each source."""
    written = [
        Setting("type", str(type_), _heading(table, column), source=table.name)
        for type_, tables in held.items()
        if not type_.is_plain
        for table in tables
    ]
    if len({type_.family for type_ in held}) == 1 and 0 < len(written) <= _MOST_SETTLED:
        return wording("to read each as it is written: ", *written)
    return wording("check the source that differs, or set one type with ", Setting("type"))


def _heading(table: Table, column: str) -> str:
    """What the source itself calls a column: it may have been put under another heading since."""
    origins = source_columns(table.provenance(column))
    return origins[0][1] if len(origins) == 1 else column


def _name_or_count(tables: Sequence[Table]) -> str:
    if len(tables) < 4:
        return ", ".join(table.name for table in tables)
    return pluralize(len(tables), "source")


def report_open_questions(
    name: str, column_profile: ColumnProfile, where: Location
) -> Iterator[Finding]:
    """What is open about the cells of a column: forms, types, markers for missing.

    Parameters
    ----------
    where : Location
        The table and the column.
    """
    if column_profile.forms:
        first, *others = column_profile.forms
        written = " or ".join(form.written for form in column_profile.forms)
        assumes = format_for_type(first).assumes
        yield Finding(
            "form-open",
            "warning",
            column_profile.rows - column_profile.missing,
            f"the format of the {first.family}s in {name} is ambiguous: {written}; kept as text"
            if others or not assumes
            else f"{name} may be read as {first.family}s, {written}; kept as text",
            wording(
                f"to read them so ({assumes}): " if assumes else "choose a format: ",
                Setting("type", str(first), name),
            ),
            where,
            tuple(FindingExample(text) for text, _ in column_profile.commonest[:2]),
        )
    if column_profile.mixed:
        yield _mixed(name, column_profile.mixed, where)
    if column_profile.nearly:
        form, unfit = column_profile.nearly.form, pluralize(column_profile.nearly.unfit, "cell")
        yield Finding(
            "nearly-typed",
            "warning",
            column_profile.nearly.unfit,
            f"{name} is {form.family} except for {unfit}; kept as "
            f"text{_or_else(column_profile.nearly)}",
            wording(
                "correct those cells, or set their rows aside: ",
                Setting("type", str(form), name),
                Setting("unfit", "set-aside"),
            ),
            where,
            tuple(FindingExample(repr(text)) for text in column_profile.nearly.examples),
        )
    if column_profile.markers:
        count = sum(rows for _, rows in column_profile.markers)
        markers = [marker for marker, _ in column_profile.markers]
        if column_profile.kind == TEXT:
            yield Finding(
                "marker-kept",
                "note",
                count,
                f'{pluralize(count, "cell")} of {name} may mean "missing": {", ".join(markers)}; '
                "kept as text",
                wording(
                    f"to read {agreeing(count, 'it', 'them')} as missing: ",
                    Setting("missing", tuple(markers)),
                ),
                where,
                terms=tuple(markers),
            )
        else:
            yield of_markers(name, markers, count, where)


def _or_else(near_type: NearType) -> str:
    """Other forms that the cells could be written in."""
    return (
        f"; nothing proves {near_type.form}, and not {', '.join(map(str, near_type.rivals))}"
        * bool(near_type.rivals)
    )


def _mixed(name: str, mixed_date_formats: MixedDateFormats, where: Location) -> Finding:
    message = ", ".join(f"{rows:,} as {text}" for _, rows, text in mixed_date_formats.forms)
    family = mixed_date_formats.forms[0][0].family
    rest = (
        f"; {pluralize(mixed_date_formats.unfit, 'cell')} as none of these"
        if mixed_date_formats.unfit
        else ""
    )
    unfit = [Setting("unfit", "set-aside")] if mixed_date_formats.unfit else []
    others = (
        f"; or else {', '.join(map(str, mixed_date_formats.rivals))}: nothing proves which"
        if mixed_date_formats.rivals
        else ""
    )
    return Finding(
        "forms-mixed",
        "warning",
        sum(rows for _, rows, _ in mixed_date_formats.forms[1:]) + mixed_date_formats.unfit,
        f"the {family}s of {name} are written in {len(mixed_date_formats.forms)} formats: {message}"
        f"{rest}; kept as text",
        wording(
            "to read each as it is written: ",
            Setting("type", str(mixed_date_formats.type), name),
            *unfit,
            others,
        ),
        where,
    )
