"""Which kind of value a column holds, decided over all of its cells.

Cells are text. A column is ``integer``, ``decimal``, ``boolean``, ``date`` or
``datetime`` only when every cell that is not missing can be read so and would
be written back the same; one leading zero, one sign too many, one digit too
many, and it is ``text``.
"""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.parallel import ordered_map
from plait.core.text import as_text, is_text
from plait.core.words import Cells

_PATTERNS = {
    "integer": r"^(0|-?[1-9][0-9]{0,18})$",
    "decimal": r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?$",
    "boolean": r"^(true|false|True|False|TRUE|FALSE)$",
    "date": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$",
    "datetime": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?$",
}
NUMBERS = ("integer", "decimal")
_GLANCE = 1000
_SURE_DIGITS = 15
_MOST_DIGITS = 38


def kind_of(texts: pa.Array) -> str:
    """The kind of a column with these cells; ``empty`` when all are missing.

    >>> kind_of(pa.array(["7", "12"])), kind_of(pa.array(["7", "7.5"]))
    ('integer', 'decimal')
    >>> kind_of(pa.array(["007", "12"])), kind_of(pa.array(["", None]))
    ('text', 'empty')
    """
    return typed(pa.chunked_array([texts]))[0]


def typed(column: pa.ChunkedArray) -> tuple[str, pa.ChunkedArray]:
    """A text column's kind, and the column in the Arrow type that holds it exactly.

    Parameters
    ----------
    column : pyarrow.ChunkedArray
        Text; a column of another type is returned as it is, as kind ``typed``.

    Returns
    -------
    kind : str
    column : pyarrow.ChunkedArray
        Empty cells are missing in it. Decimals of up to 15 digits become 64-bit
        floats, which give every such decimal back; longer ones become exact
        decimals of up to 38 digits, and stay text beyond.

    Examples
    --------
    >>> kind, cells = typed(pa.chunked_array([["0.5", "", "12"]]))
    >>> kind, cells.to_pylist()
    ('decimal', [0.5, None, 12.0])
    """
    if not is_text(column.type):
        return "typed", column
    column = pa.chunked_array(list(ordered_map(_without_empty, column.chunks)), column.type)
    if column.null_count == len(column):
        return "empty", column
    for kind in _likely_kinds(column):
        made = _CASTS[kind](column)
        if made is not None:
            return kind, made
    return "text", column


def _without_empty(array: pa.Array) -> pa.Array:
    empty = pc.equal(pc.binary_length(array), 0)
    if not pc.any(empty).as_py():
        return array
    return pc.if_else(empty, None, array)


def _likely_kinds(column: pa.ChunkedArray) -> list[str]:
    """The kinds that the first cells would allow, narrowest first."""
    for chunk in column.chunks:
        cells = chunk.drop_null().slice(0, _GLANCE)
        if len(cells):
            return [kind for kind in _PATTERNS if _all_match(cells, _PATTERNS[kind])]
    return []


def _all_match(cells: pa.Array, pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(cells, pattern)).as_py())


def _cast_all(column: pa.ChunkedArray, to: pa.DataType) -> pa.ChunkedArray | None:
    try:
        chunks = list(ordered_map(lambda chunk: pc.cast(chunk, to), column.chunks))
    except pa.ArrowInvalid:
        return None
    return pa.chunked_array(chunks, to)


def _integers(column: pa.ChunkedArray) -> pa.ChunkedArray | None:
    if not all(ordered_map(_plain_integers, column.chunks)):
        return None
    return _cast_all(column, pa.int64())


def _plain_integers(array: pa.Array) -> bool:
    """No leading zero, no plus, no minus zero: forms a cast would let pass and not give back."""
    cells = Cells(array)
    first = cells.words(0)
    byte, second = first & np.uint64(0xFF), (first >> np.uint64(8)) & np.uint64(0xFF)
    zero, minus = np.uint64(ord("0")), np.uint64(ord("-"))
    padded = (byte == zero) & (cells.lengths > 1)
    padded |= (byte == minus) & (second == zero)
    padded |= byte == np.uint64(ord("+"))
    return not padded.any()


def _decimals(column: pa.ChunkedArray) -> pa.ChunkedArray | None:
    matches = ordered_map(lambda chunk: _all_match(chunk, _PATTERNS["decimal"]), column.chunks)
    if not all(matches):
        return None
    before, after = (max(sizes) for sizes in zip(*map(_digits, column.chunks), strict=True))
    if before + after <= _SURE_DIGITS:
        return _cast_all(column, pa.float64())
    if before + after <= _MOST_DIGITS:
        return _cast_all(column, pa.decimal128(before + after, after))
    return None


def _digits(array: pa.Array) -> tuple[int, int]:
    """The most digits before and after the point."""
    lengths = pc.binary_length(array)
    point = pc.find_substring(array, ".")
    whole = pc.if_else(pc.less(point, 0), lengths, point)
    after = pc.if_else(pc.less(point, 0), 0, pc.subtract(pc.subtract(lengths, point), 1))
    return pc.max(whole).as_py() or 0, pc.max(after).as_py() or 0


def _booleans(column: pa.ChunkedArray) -> pa.ChunkedArray | None:
    if not all(_all_match(chunk, _PATTERNS["boolean"]) for chunk in column.chunks):
        return None
    return _cast_all(column, pa.bool_())


def _dates(column: pa.ChunkedArray) -> pa.ChunkedArray | None:
    lengths = (pc.binary_length(chunk) for chunk in column.chunks)
    if not all(pc.all(pc.equal(length, 10)).as_py() for length in lengths):
        return None
    return _cast_all(column, pa.date32())


def _datetimes(column: pa.ChunkedArray) -> pa.ChunkedArray | None:
    if not all(_all_match(chunk, _PATTERNS["datetime"]) for chunk in column.chunks):
        return None
    return _cast_all(column, pa.timestamp("us"))


_CASTS = {
    "integer": _integers,
    "decimal": _decimals,
    "boolean": _booleans,
    "date": _dates,
    "datetime": _datetimes,
}


def plain_number(texts: pa.Array) -> pa.Array:
    """Numbers in one spelling each, so that equal numbers are equal texts.

    >>> plain_number(pa.array(["7", "7.0", "-0.0", "7.50"])).to_pylist()
    ['7', '7', '0', '7.5']
    """
    texts = as_text(texts)
    pointed = pc.match_substring(texts, ".")
    short = pc.utf8_rtrim(pc.utf8_rtrim(texts, "0"), ".")
    texts = pc.if_else(pointed, short, texts)
    return pc.if_else(pc.equal(texts, "-0"), "0", texts)
