"""Whether extracts that are stacked agree: the types of their columns, and what is in them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import Finding, counted
from plait.core.account.parallel import ordered_map
from plait.core.look.misplaced import misplaced
from plait.core.look.profile import tallied
from plait.core.table.table import Table, from_columns
from plait.core.text.cells import is_text
from plait.core.text.pieces import one_array
from plait.core.types.kinds import NUMBERS, kind_of, may_be_typed

_MOST_COMPARED = 3000
_SAMPLE, _CELLS, _FEWEST = 300, 2_000_000, 100


def disagreements(tables: Sequence[Table]) -> Iterator[Finding]:
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
    yield from misplaced(
        drawn,
        {
            name: tallied([one.whole(name) if one.has(name) else None for one in drawn])
            for name in every
        },
    )


def _type_findings(tables: Sequence[Table], drawn: Sequence[Table]) -> Iterator[Finding]:
    """Types that differ between the extracts, once all of their cells have been looked at."""
    every = dict.fromkeys(name for one in drawn for name in one.column_names)
    suspect = [
        name
        for name in every
        if _may_differ(drawn, name)
        and differs(kind for one in drawn for kind in _kinds(one, [name]).values())
    ]
    if suspect:
        kinds = list(ordered_map(lambda table: _kinds(table, suspect), tables))
        yield from type_findings(tables, kinds, "the result")


def _may_differ(drawn: Sequence[Table], name: str) -> bool:
    """Whether a column can be of several types, by all its cells at once: it mostly cannot."""
    having = [one for one in drawn if one.has(name)]
    cells = [one_array(one.whole(name)) for one in having]
    if not all(is_text(one.type) for one in cells) or any(t.column(name).kind for t in having):
        return True
    texts = [one.cast(pa.string()) for one in cells]
    together = one_array(pa.chunked_array(texts, pa.string()))
    if kind_of(pa.chunked_array([together])) != "text":
        return False  # of one type in all of them, or empty
    empty = pc.fill_null(pc.equal(together, ""), True).to_numpy(zero_copy_only=False)
    typed = may_be_typed(pc.fill_null(together, "")) | empty
    ends = np.cumsum([len(one) for one in cells])
    return any(
        typed[end - len(one) : end].all() and not empty[end - len(one) : end].all()
        for one, end in zip(cells, ends.tolist(), strict=True)
    )


def differs(kinds: Iterable[str]) -> bool:
    """Whether columns of these kinds differ; whole numbers and decimals do not, nor what is empty.

    >>> differs(["integer", "decimal", "empty"]), differs(["integer", "text"])
    (False, True)
    """
    held = set(kinds) - {"empty"}
    return len(held) > 1 and not held <= set(NUMBERS)


def _kinds(table: Table, names: Sequence[str]) -> dict[str, str]:
    """The kinds of those of some columns that the table has."""
    found = {}
    for name in names:
        if table.has(name):
            cells, declared = table.whole(name), table.column(name).kind
            found[name] = declared or (kind_of(cells) if is_text(cells.type) else str(cells.type))
    return found


def _drawn(table: Table, rows: int) -> Table:
    """Some rows, evenly over all of them."""
    if table.rows <= rows:
        return table
    drawn = table.at(np.linspace(0, table.rows - 1, rows).astype(np.int64))
    cells = {name: drawn.whole(name) for name in drawn.column_names}
    kinds = {column.name: column.kind for column in table.columns}
    return from_columns(table.name, cells, table.path).with_kinds(kinds)


def type_findings(
    tables: Sequence[Table], kinds: Sequence[Mapping[str, str]], name: str
) -> Iterator[Finding]:
    """Columns that are of one type in some sources and of another in others.

    Parameters
    ----------
    tables : sequence of Table
    kinds : sequence of mapping of str to str
        For each table the kind of each column. Whole numbers in one and decimals
        in another are no difference, nor is a column without cells.
    name : str
        What the tables are together.
    """
    for column in dict.fromkeys(column for one in kinds for column in one):
        held: dict[str, list[str]] = {}
        for table, of_table in zip(tables, kinds, strict=True):
            if of_table.get(column, "empty") != "empty":
                held.setdefault(of_table[column], []).append(table.name)
        if not differs(held):
            continue
        said = "; ".join(f"{kind} in {_few(names)}" for kind, names in held.items())
        yield Finding(
            "type-differs",
            "warning",
            sum(map(len, held.values())) - max(map(len, held.values())),
            f"{column} has different types: {said}",
            "check the source that differs, or set one type with --type",
            f"{name}, column {column}",
        )


def _few(names: Sequence[str]) -> str:
    return ", ".join(names) if len(names) < 4 else f"{counted(len(names), 'source')}"
