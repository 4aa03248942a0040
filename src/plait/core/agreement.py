"""Whether extracts that are stacked agree: the types of their columns, and what stands in them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from plait.core.finding import Finding, counted
from plait.core.kinds import NUMBERS, kind_of
from plait.core.misplaced import misplaced
from plait.core.parallel import ordered_map
from plait.core.profile import tallied
from plait.core.table import Table
from plait.core.text import is_text

_MOST_COMPARED = 3000
_SAMPLE, _CELLS, _FEWEST = 3000, 4_000_000, 100


def disagreements(tables: Sequence[Table]) -> Iterator[Finding]:
    """Columns of other types in some extracts, and columns that look misplaced in one.

    Notes
    -----
    Types are decided over all cells. Misplaced columns are looked for in up to
    3,000 rows spread over each extract, and not at all where there are more than
    3,000 columns in all extracts together.
    """
    if len(tables) < 2:
        return
    yield from type_findings(tables, list(ordered_map(_kinds, tables)), "the result")
    columns = sum(len(table.columns) for table in tables)
    if columns > _MOST_COMPARED:
        return
    drawn = [_drawn(table, max(_FEWEST, min(_SAMPLE, _CELLS // columns))) for table in tables]
    every = dict.fromkeys(name for table in tables for name in table.column_names)
    yield from misplaced(
        drawn,
        {
            name: tallied([one.whole(name) if one.has(name) else None for one in drawn])
            for name in every
        },
    )


def _kinds(table: Table) -> dict[str, str]:
    found = {}
    for column in table.columns:
        cells = table.whole(column.name)
        kind = column.kind or (kind_of(cells) if is_text(cells.type) else str(cells.type))
        found[column.name] = kind
    return found


def _drawn(table: Table, rows: int) -> Table:
    """Some rows, evenly over all of them."""
    if table.rows <= rows:
        return table
    return table.at(np.linspace(0, table.rows - 1, rows).astype(np.int64))


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
        if len(held) < 2 or set(held) <= set(NUMBERS):
            continue
        said = "; ".join(f"{kind} in {_few(names)}" for kind, names in held.items())
        yield Finding(
            "type-differs",
            "warning",
            sum(map(len, held.values())) - max(map(len, held.values())),
            f"{column} is {said}",
            "look at the odd one, or give the type: --type",
            f"{name}, column {column}",
        )


def _few(names: Sequence[str]) -> str:
    return ", ".join(names) if len(names) < 4 else f"{counted(len(names), 'source')}"
