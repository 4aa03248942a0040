"""What a person sees of the first rows of a source: the cells as they stand, and nothing else."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.cells import cell_len
from rich.text import Text

from plait.cli.views.show import console, printable
from plait.core.table.table import Table

_GAP = 2
_STEP = 200  # rows that are set under one another alike


def show_rows(tables: Sequence[Table]) -> None:
    """The rows of each table, as many columns beside one another as there is room for.

    Where there are more, they follow below. A missing cell is shown as one, and an empty
    place is never left: so it is seen which cell is which.
    """
    out = console()
    for number, table in enumerate(tables):
        if len(tables) > 1:
            out.print(Text(f"{chr(10) * bool(number)}{printable(table.name)}", style="bold"))
        for start in range(0, table.rows, _STEP):
            for line in _lines(table, start, min(start + _STEP, table.rows), out.width):
                out.print(line, soft_wrap=True)
        if not table.rows:
            out.print(Text("  ".join(map(printable, table.column_names)), style="dim"))


def _lines(table: Table, start: int, stop: int, width: int) -> Iterator[Text]:
    numbers = [str(row + 1) for row in range(start, stop)]
    edge = max(map(len, numbers)) + _GAP
    columns = [_column(table, name, start, stop) for name in table.column_names]
    widths = [max(map(cell_len, cells)) for cells in columns]
    begin = 0
    while begin < len(columns):
        end, used = begin + 1, edge + widths[begin]
        while end < len(columns) and used + _GAP + widths[end] <= width:
            used += _GAP + widths[end]
            end += 1
        yield from _block(columns[begin:end], widths[begin:end], numbers, edge)
        begin = end


def _column(table: Table, name: str, start: int, stop: int) -> list[str]:
    cells = table.cells(table.column(name), start, stop).to_pylist()
    return [
        printable(name),
        *("(missing)" if c in (None, "") else printable(str(c)) for c in cells),
    ]


def _block(
    columns: Sequence[Sequence[str]], widths: Sequence[int], numbers: Sequence[str], edge: int
) -> Iterator[Text]:
    for row, cells in enumerate(zip(*columns, strict=True)):
        padded = (c + " " * (wide - cell_len(c)) for c, wide in zip(cells, widths, strict=True))
        number = numbers[row - 1] if row else ""
        line = Text(f"{number:>{edge - _GAP}}{' ' * _GAP}", style="dim")
        line.append(
            (" " * _GAP).join(padded).rstrip(), style="dim" if not row else "default not dim"
        )
        yield line
