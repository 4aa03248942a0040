"""The first rows of a table, small enough to be looked at: as text, and as HTML."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape

from plait.core.account.finding import counted

MOST_ROWS = 5
_WIDTH = 80
_CELL = 24


def as_text(name: str, rows: int, columns: Mapping[str, Sequence[object]], every: int) -> str:
    """A table in a few lines: what it is called, its size, its first rows.

    Parameters
    ----------
    name : str
    rows : int
        How many it has.
    columns : mapping of str to sequence
        The cells of its first rows.
    every : int
        How many columns it has; those that there is no room for are counted.

    Examples
    --------
    >>> print(as_text("hives", 160, {"Yard": ["ALD", None], "Hive": ["007", "9"]}, 2))
    hives: 160 rows, 2 columns
    Yard       Hive
    ALD        007
    (missing)  9
    … 158 more rows
    """
    lines = [f"{name}: {counted(rows, 'row')}, {counted(every, 'column')}"]
    shown = {head: [_cell(head), *map(_cell, cells)] for head, cells in columns.items()}
    widths = {head: max(map(len, cells)) for head, cells in shown.items()}
    room: list[str] = []
    used = 0
    for head in shown:
        used += widths[head] + 2
        if used > _WIDTH and room:
            break
        room.append(head)
    for row in zip(*(shown[head] for head in room), strict=True):
        cells = (cell.ljust(widths[head]) for head, cell in zip(room, row, strict=True))
        lines.append("  ".join(cells).rstrip())
    listed = max(map(len, columns.values()), default=0)
    more = [counted(rows - listed, "more row")] if rows > listed else []
    more += [counted(every - len(room), "more column")] if every > len(room) else []
    return "\n".join([*lines, f"… {', '.join(more)}"] if more else lines)


def as_html(name: str, rows: int, columns: Mapping[str, Sequence[object]], every: int) -> str:
    """The same as an HTML table, for a notebook."""
    heads = "".join(f"<th>{escape(_cell(head))}</th>" for head in columns)
    body = "".join(
        "<tr>" + "".join(f"<td>{escape(_cell(cell))}</td>" for cell in row) + "</tr>"
        for row in zip(*columns.values(), strict=True)
    )
    said = f"{escape(name)}: {counted(rows, 'row')}, {counted(every, 'column')}"
    return f"<table><caption>{said}</caption><tr>{heads}</tr>{body}</table>"


def _cell(value: object) -> str:
    text = "(missing)" if value is None or value == "" else str(value)
    text = " ".join(text.split()) if text.strip() else repr(text)
    return text if len(text) <= _CELL else f"{text[: _CELL - 1]}…"
