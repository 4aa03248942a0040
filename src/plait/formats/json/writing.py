"""Writing JSON and JSON lines: a record a row, numbers with the digits that are there."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import Finding
from plait.core.account.parallel import ordered_map
from plait.core.table.table import Table
from plait.core.text.cells import as_text, is_text, without_empty
from plait.core.types.kinds import MARKERS, NUMBERS
from plait.formats.cells.typed import Typing, marker_findings, sure_typing

_ROWS = 1 << 14
_ESCAPES = [("\\", "\\\\"), ('"', '\\"'), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t")]
_CONTROL = "[\x00-\x08\x0b\x0c\x0e-\x1f]"

Tick = Callable[[int], None]


def write_json(
    table: Table, target: Path, lines: bool, tick: Tick = lambda _: None
) -> list[Finding]:
    """Write an array of records, or a record on each line.

    Parameters
    ----------
    table : Table
        Numbers and true/false are written as such where all cells of a column
        are; a missing cell is ``null``.
    target : Path
    lines : bool
    tick : callable
        Told how many rows were written, each time.
    """
    typing = sure_typing(table)
    start, between, end = ("", "\n", "\n") if lines else ("[\n", ",\n", "\n]\n")
    with target.open("wb") as file:
        file.write(start.encode())
        first = True
        starts = range(0, table.rows, _ROWS)
        for text, rows in ordered_map(lambda at: _records(typing, at, between), starts):
            file.write((b"" if first else between.encode()) + text)
            first = False
            tick(rows)
        if table.rows or not lines:
            file.write(end.encode())
    return marker_findings(typing)


def _records(typing: Typing, start: int, between: str) -> tuple[bytes, int]:
    parts = []
    for number, (name, cells) in enumerate(typing.columns.items()):
        taken = cells.slice(start, _ROWS)
        label = ("{" if not number else ", ") + json.dumps(name, ensure_ascii=False) + ": "
        values = [_values(chunk, typing.kinds[name]) for chunk in taken.chunks]
        one = pa.chunked_array(values, pa.string()).combine_chunks() if values else _none()
        parts.append(pc.binary_join_element_wise(label, one, ""))
    records = pc.binary_join_element_wise(*parts, "}", "")
    return between.join(records.to_pylist()).encode(), len(records)


def _none() -> Any:
    return pa.array([], pa.string())


def _values(cells: pa.Array, kind: str) -> pa.Array:
    """Each cell as JSON."""
    texts = without_empty(as_text(cells).cast(pa.string()))
    if kind in (*NUMBERS, "decimal:1e3") and is_text(cells.type):  # written as JSON has them
        absent = pc.is_in(texts, pa.array(MARKERS))
        return pc.fill_null(pc.if_else(absent, pa.scalar(None, pa.string()), texts), "null")
    if pa.types.is_floating(cells.type) and pc.all(pc.is_finite(cells)).as_py() is False:
        odd = pc.fill_null(pc.invert(pc.is_finite(cells)), False)  # JSON has no such numbers
        texts = pc.if_else(odd, pc.binary_join_element_wise('"', texts, '"', ""), texts)
    if _bare(cells.type) or kind == "boolean":
        return pc.fill_null(pc.utf8_lower(texts), "null")
    return pc.fill_null(pc.binary_join_element_wise('"', _escaped(texts), '"', ""), "null")


def _bare(kind: pa.DataType) -> bool:
    number = pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind)
    return bool(number or pa.types.is_boolean(kind))


def _escaped(texts: pa.Array) -> pa.Array:
    for sign, escape in _ESCAPES:
        texts = pc.replace_substring(texts, sign, escape)
    if pc.any(pc.match_substring_regex(texts, _CONTROL)).as_py():
        return pa.array(map(_by_hand, texts.to_pylist()), pa.string())
    return texts


def _by_hand(text: str | None) -> str | None:
    """Control characters, which hardly any cell has."""
    if text is None:
        return None
    return "".join(f"\\u{ord(sign):04x}" if sign < " " else sign for sign in text)
