"""Which kind of value a column holds, decided over all of its cells.

Cells are text. A column is ``integer``, ``decimal``, ``boolean``, ``date`` or
``datetime`` only when every cell that is not missing can be read so and would
be written back the same; one leading zero, one sign too many, one digit too
many, and it is ``text``.
"""

from __future__ import annotations

import re
from collections.abc import Callable

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.parallel import ordered_map
from plait.core.text import as_text, is_text
from plait.core.words import Cells

NUMBERS = ("integer", "decimal")
_PATTERNS = {
    "integer": r"^(0|-?[1-9][0-9]{0,18})$",
    "decimal": r"^(0|-?[1-9][0-9]{0,17}|-?(0|[1-9][0-9]{0,17})\.[0-9]+)$",
    "boolean": r"^(true|false|True|False|TRUE|FALSE)$",
    "date": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$",
    "datetime": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?$",
}
_GLANCE, _PIECES = 200, 40
_SURE_DIGITS = 15
_MOST_DIGITS = 38
_WHOLE_DIGITS = 18
_ZERO, _MINUS, _POINT = ord("0"), ord("-"), ord(".")


def kind_of(column: pa.ChunkedArray) -> str:
    """The kind of a column; ``empty`` when all cells are missing, ``typed`` when not of text.

    >>> kind_of(pa.chunked_array([["7", "12"]])), kind_of(pa.chunked_array([["7", "7.5"]]))
    ('integer', 'decimal')
    >>> kind_of(pa.chunked_array([["007", "12"]])), kind_of(pa.chunked_array([["", None]]))
    ('text', 'empty')
    """
    for kind in _allowed(column):
        if kind not in _FORMS:
            return kind
        if all(ordered_map(_FORMS[kind], column.chunks)):
            return kind if _has_values(column, kind) else "text"
    return "text"


def likely_kind(column: pa.ChunkedArray) -> str:
    """The kind that the first cells of some of a column's pieces allow.

    Takes next to no time; ``as_kind`` then tells whether all cells are so.
    """
    return _allowed(column)[0]


def _allowed(column: pa.ChunkedArray) -> list[str]:
    """The kinds that a glance at some cells allows, narrowest first."""
    if not is_text(column.type):
        return ["typed"]
    step = max(1, column.num_chunks // _PIECES)
    glances = [_present(chunk.slice(0, _GLANCE)) for chunk in column.chunks[::step]]
    glance = pa.chunked_array(glances, column.type)
    if not len(glance):
        glance = next(filter(len, map(_present, column.chunks)), glance)
    if not len(glance):
        return ["empty"]
    kinds = [kind for kind, pattern in _PATTERNS.items() if _all_match(glance, pattern)]
    return [*kinds, "text"]


def _has_values(column: pa.ChunkedArray, kind: str) -> bool:
    """Whether cells of the right form all have a value: there is no 30th of February."""
    to = arrow_type(kind, column)
    try:
        for _ in ordered_map(lambda chunk: _cast(chunk, to), column.chunks):
            pass
    except pa.ArrowInvalid:
        return False
    return True


def arrow_type(kind: str, column: pa.ChunkedArray) -> pa.DataType:
    """The Arrow type that holds a column of this kind exactly.

    Decimals of up to 15 digits become 64-bit floats, which give every such
    decimal back; longer ones become exact decimals of up to 38 digits, and stay
    text beyond.
    """
    if kind == "decimal":
        return _decimal_type(column)
    return _TYPES.get(kind, column.type)


def looks_typed(text: str) -> bool:
    """Whether one cell by itself looks like a number, a date or a time.

    >>> looks_typed("12.5"), looks_typed("2031-04-05"), looks_typed("yard 7")
    (True, True, False)
    """
    return any(re.match(pattern, text) for pattern in _PATTERNS.values())


def simplest_type(kind: str) -> pa.DataType | None:
    """The Arrow type that most columns of a kind fit; ``None``: the type that it has."""
    return pa.float64() if kind == "decimal" else _TYPES.get(kind)


def as_kind(array: pa.Array, kind: str, to: pa.DataType) -> pa.Array:
    """The cells as an Arrow type, empty ones missing.

    Parameters
    ----------
    array : pyarrow.Array
    kind : str
        What the cells are thought to be.
    to : pyarrow.DataType

    Raises
    ------
    pyarrow.ArrowInvalid
        When a cell is not of that kind, or has no value in that type.

    Examples
    --------
    >>> as_kind(pa.array(["0.5", "", "12"]), "decimal", pa.float64()).to_pylist()
    [0.5, None, 12.0]
    """
    if kind in _FORMS and not _FORMS[kind](array):
        raise pa.ArrowInvalid(f"a cell is no {kind}")
    if pa.types.is_floating(to) and is_text(array.type) and not _sure(array):
        raise pa.ArrowInvalid("a decimal has more digits than a float is sure to give back")
    return _cast(array, to)


def _cast(array: pa.Array, to: pa.DataType) -> pa.Array:
    if is_text(array.type):
        array = _without_empty(array)
    return array if array.type == to else pc.cast(array, to)


def _present(array: pa.Array) -> pa.Array:
    return _without_empty(array).drop_null()


def _without_empty(array: pa.Array) -> pa.Array:
    if Cells(array).lengths.all():
        return array
    return pc.if_else(pc.equal(array, ""), None, array)


def _all_match(cells: pa.Array | pa.ChunkedArray, pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(cells, pattern)).as_py())


def _matching(pattern: str) -> Callable[[pa.Array], bool]:
    """Whether all cells of an array that are not missing match a pattern."""
    return lambda array: _all_match(_present(array), pattern) or not len(_present(array))


def _digits_in(signs: bytes) -> Callable[[pa.Array], bool]:
    """Whether all bytes of an array are digits or one of some signs, and its numbers plain."""

    def holds(array: pa.Array) -> bool:
        cells = Cells(array)
        found = _signs(cells.data)
        return found <= set(signs) and _plain(cells, found)

    return holds


def _signs(data: npt.NDArray[np.uint8]) -> set[int]:
    """The bytes that are no digits; for others than a minus and a point, -1."""
    others = np.count_nonzero(data - np.uint8(_ZERO) > 9)
    counts = {sign: np.count_nonzero(data == sign) for sign in (_MINUS, _POINT) if others}
    found = {sign for sign, count in counts.items() if count}
    return found if sum(counts.values()) == others else {*found, -1}


def _plain(cells: Cells, signs: set[int]) -> bool:
    """No leading zero, no bare or zero minus, no point first or last."""
    first, length = cells.byte(0), cells.lengths
    if signs:
        last = cells.byte(-1)
        if ((first == _POINT) | (last == _POINT) | (last == _MINUS)).any():
            return False
    starting = np.flatnonzero(((first == _ZERO) & (length > 1)) | (first == _MINUS))
    if not len(starting):
        return True
    minus = first[starting] == _MINUS
    second = cells.byte(1, starting)
    head = np.where(minus, second, first[starting])
    after = np.where(minus, cells.byte(2, starting), second)
    digits = length[starting] - minus
    odd = (head == _POINT) | ((head == _ZERO) & (digits > 1) & (after != _POINT))
    return not (odd | (minus & (head == _ZERO) & (digits == 1))).any()


def _short_enough(array: pa.Array) -> bool:
    """Whole parts that a 64-bit integer holds; longer ones are identifiers."""
    return Cells(array).longest <= _WHOLE_DIGITS or _digits(array)[0] <= _WHOLE_DIGITS


def _sure(array: pa.Array) -> bool:
    """Few enough digits for a 64-bit float to give them back."""
    return Cells(array).longest <= _SURE_DIGITS or sum(_digits(array)) <= _SURE_DIGITS


def _length_is(length: int) -> Callable[[pa.Array], bool]:
    def holds(array: pa.Array) -> bool:
        lengths = Cells(array).lengths
        return bool(((lengths == length) | (lengths == 0)).all())

    return holds


_FORMS: dict[str, Callable[[pa.Array], bool]] = {
    "integer": _digits_in(b"-"),
    "decimal": lambda array: _digits_in(b"-.")(array) and _short_enough(array),
    "boolean": _matching(_PATTERNS["boolean"]),
    "date": _length_is(10),
    "datetime": _matching(_PATTERNS["datetime"]),
}
_TYPES = {
    "integer": pa.int64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
}


def _decimal_type(column: pa.ChunkedArray) -> pa.DataType:
    if max((Cells(chunk).longest for chunk in column.chunks), default=0) <= _SURE_DIGITS:
        return pa.float64()
    before, after = (max(sizes) for sizes in zip(*map(_digits, column.chunks), strict=True))
    if before + after <= _SURE_DIGITS:
        return pa.float64()
    return pa.decimal128(before + after, after) if before + after <= _MOST_DIGITS else column.type


def _digits(array: pa.Array) -> tuple[int, int]:
    """The most digits before and after the point."""
    array = pc.utf8_ltrim(array, "-")
    lengths = pc.binary_length(array)
    point = pc.find_substring(array, ".")
    whole = pc.if_else(pc.less(point, 0), lengths, point)
    after = pc.if_else(pc.less(point, 0), 0, pc.subtract(pc.subtract(lengths, point), 1))
    return pc.max(whole).as_py() or 0, pc.max(after).as_py() or 0


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
