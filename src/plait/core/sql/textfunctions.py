"""Functions of text: parts, places, patterns, case."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.sql.arithmetic import to_integer
from plait.core.sql.sorts import Operator, Rows, Value, literal_text, spread, text_of, texts
from plait.core.sql.syntax import Node
from plait.core.table.strand import gather
from plait.core.text.dictionary import TextDictionary
from plait.core.text.slices import sliced

_LONGEST_PAD = 10_000
_FAR = 2**40

Numbers = npt.NDArray[np.int64]


def _of_text(function: Callable[[Value], Value]) -> Operator:
    return lambda node, rows: function(texts(node.parts[0], node, rows))


def _trim(node: Node, rows: Rows) -> Value:
    signs = " " if len(node.parts) < 2 else literal_text(node.parts[1], node)
    function = {"LEADING": pc.utf8_ltrim, "TRAILING": pc.utf8_rtrim}.get(node.word, pc.utf8_trim)
    return function(texts(node.parts[0], node, rows), characters=signs)


def _trimmed_on(side: str) -> Operator:
    return lambda node, rows: _trim(Node("TRIM", node.parts, side, node.source), rows)


class _Stretch:
    """Texts, and whole numbers beside them: a place or a length for each row."""

    def __init__(self, node: Node, rows: Rows) -> None:
        self.texts = spread(texts(node.parts[0], node, rows), rows).cast(pa.string())
        values = [to_integer(rows.value(part), node) for part in node.parts[1:]]
        every = [spread(value, rows) for value in values]
        self.numbers: list[Numbers] = [
            np.clip(one.fill_null(0).to_numpy(zero_copy_only=False), -_FAR, _FAR) for one in every
        ]
        self.lengths: Numbers = (
            pc.fill_null(pc.utf8_length(self.texts), 0)
            .to_numpy(zero_copy_only=False)
            .astype(np.int64)
        )
        self._absent = [one.is_null() for one in every if one.null_count]

    def between(self, start: Any, stop: Any) -> pa.Array:
        """The signs from one place to another; missing where a number is."""
        made = sliced(self.texts, start, stop)
        for absent in self._absent:
            made = pc.if_else(absent, pa.scalar(None, made.type), made)
        return made


def _substring(node: Node, rows: Rows) -> Value:
    """From a place that counts from 1; what lies before it counts towards the length."""
    stretch = _Stretch(node, rows)
    start = stretch.numbers[0] - 1
    length = stretch.numbers[1] if len(node.parts) > 2 else _FAR
    return stretch.between(start, start + np.maximum(length, 0))


def _left(node: Node, rows: Rows) -> Value:
    stretch = _Stretch(node, rows)
    return stretch.between(0, stretch.numbers[0])


def _right(node: Node, rows: Rows) -> Value:
    stretch = _Stretch(node, rows)
    return stretch.between(stretch.lengths - np.maximum(stretch.numbers[0], 0), _FAR)


def _position(node: Node, rows: Rows) -> Value:
    """POSITION('x' IN a)."""
    text, part = node.parts
    return _place_of(spread(texts(part, node, rows), rows), literal_text(text, node))


def _strpos(node: Node, rows: Rows) -> Value:
    """STRPOS(a, 'x')."""
    part, text = node.parts
    return _place_of(spread(texts(part, node, rows), rows), literal_text(text, node))


def _place_of(cells: pa.Array, text: str) -> pa.Array:
    """Where a text first stands, counted from 1; 0 where it does not, 1 for an empty one."""
    if not text:
        return pc.if_else(cells.is_valid(), 1, pa.scalar(None, pa.int64())).cast(pa.int64())
    head = pc.split_pattern(cells, text, max_splits=1)
    first = pc.list_element(head, 0)
    place = pc.add(pc.utf8_length(first), 1)
    return pc.if_else(pc.match_substring(cells, text), place, 0).cast(pa.int64())


def _replace(node: Node, rows: Rows) -> Value:
    old, new = (literal_text(part, node) for part in node.parts[1:])
    cells = texts(node.parts[0], node, rows)
    return pc.replace_substring(cells, old, new) if old else cells


def _pad(function: Callable[..., Value]) -> Operator:
    """Filled up to a width; a longer text is cut off at its end."""

    def operator(node: Node, rows: Rows) -> Value:
        width = node.parts[1]
        fill = " " if len(node.parts) < 3 else literal_text(node.parts[2], node)
        if width.op != "number" or not width.word.isdecimal():
            raise UsageError("the width must be a literal whole number", node.sql())
        size = int(width.word[:6])
        if len(fill) != 1 or size > _LONGEST_PAD:
            raise UsageError(
                "the padding must be one character, and the width at most 10,000", node.sql()
            )
        cells = texts(node.parts[0], node, rows)
        return pc.utf8_slice_codeunits(function(cells, size, fill), 0, size)

    return operator


def _joined(node: Node, rows: Rows) -> Value:
    """Texts behind one another; missing where any is."""
    if any(part.op == "text" and not part.word for part in node.parts):
        raise UsageError(
            "joining a text to an empty text, which is NULL, gives NULL",
            node.sql(),
            "CONCAT(a, b) leaves out NULL",
        )
    return pc.binary_join_element_wise(*(text_of(one, rows) for one in node.parts), "")


def _concat(node: Node, rows: Rows) -> Value:
    """Texts behind one another without those that are missing; missing where all are."""
    parts = [text_of(one, rows).cast(pa.string()) for one in node.parts]
    return pc.binary_join_element_wise(*(pc.fill_null(one, "") for one in parts), "")


def _split_part(node: Node, rows: Rows) -> Value:
    """SPLIT_PART(a, '-', 2): counted from 1, or from the end below 0; empty where there is none."""
    cells = spread(texts(node.parts[0], node, rows), rows).cast(pa.string())
    sign = literal_text(node.parts[1], node)
    which = spread(to_integer(rows.value(node.parts[2]), node), rows)
    if not sign:
        raise UsageError("SPLIT_PART needs a delimiter that is not empty", node.sql())
    if pc.any(pc.equal(which, 0)).as_py():
        raise UsageError("parts are counted from 1, or from the end below 0", node.sql())
    lists = pc.split_pattern(cells, sign)
    lengths = pc.fill_null(pc.list_value_length(lists), 0).to_numpy(zero_copy_only=False)
    number = which.fill_null(1).to_numpy(zero_copy_only=False)
    begin = np.concatenate([[0], np.cumsum(lengths)])[:-1]
    there = (np.abs(number) <= lengths) & (lengths > 0)
    at = begin + np.where(number > 0, number - 1, lengths + number)
    parts = pa.chunked_array([pc.list_flatten(lists)], pa.string())
    made = pc.fill_null(gather(parts, np.where(there, at, -1)), "")
    absent = pc.or_(cells.is_null(), which.is_null())
    return pc.if_else(absent, pa.scalar(None, pa.string()), made)


def _pattern(node: Node, flags: str) -> str:
    """A regular expression as RE2 has it, whose time is bounded by the length of the text."""
    unknown = set(flags) - set("imsg")
    if unknown:
        raise UsageError(f"a pattern has no option {unknown.pop()!r}", node.sql(), "i, m or s")
    known = "".join(sorted(set(flags) - {"g"}))
    pattern = (f"(?{known})" if known else "") + literal_text(node.parts[1], node)
    try:
        pc.match_substring_regex(pa.array([""]), pattern)
    except pa.ArrowInvalid as error:
        raise UsageError(f"not a valid pattern: {str(error).splitlines()[0]}", node.sql()) from None
    return pattern


def _options(node: Node, place: int) -> str:
    return literal_text(node.parts[place], node) if len(node.parts) > place else ""


def _regexp_like(node: Node, rows: Rows) -> Value:
    """Whether a pattern stands somewhere in the text."""
    pattern = _pattern(node, _options(node, 2))
    return pc.match_substring_regex(texts(node.parts[0], node, rows), pattern)


def _regexp_replace(node: Node, rows: Rows) -> Value:
    """Every place where a pattern stands replaced; ``\\1`` is its first group."""
    pattern = _pattern(node, _options(node, 3))
    new = literal_text(node.parts[2], node) if len(node.parts) > 2 else ""
    cells = texts(node.parts[0], node, rows)
    try:
        return pc.replace_substring_regex(cells, pattern, new)
    except pa.ArrowInvalid as error:
        raise UsageError(
            f"not a valid replacement: {str(error).splitlines()[0]}", node.sql()
        ) from None


def _initcap(node: Node, rows: Rows) -> Value:
    """The first sign of each word a capital, the others small."""
    cells = spread(texts(node.parts[0], node, rows), rows).cast(pa.string())
    dictionary = TextDictionary()
    codes = dictionary.encode(cells)
    made = [_capitalised(text) for text in dictionary.texts().to_pylist()]
    words = pa.chunked_array([pa.array(made, pa.string())])
    taken = gather(words, codes) if made else cells
    return pc.if_else(pc.equal(cells, ""), "", taken)


def _capitalised(text: str) -> str:
    return re.sub(r"\w+", lambda word: word[0][0].upper() + word[0][1:].lower(), text)


TEXT_FUNCTIONS: dict[str, Operator] = {
    "||": _joined,
    "CONCAT": _concat,
    "LOWER": _of_text(pc.utf8_lower),
    "UPPER": _of_text(pc.utf8_upper),
    "INITCAP": _initcap,
    "LENGTH": _of_text(lambda cells: pc.utf8_length(cells).cast(pa.int64())),
    "REVERSE": _of_text(pc.utf8_reverse),
    "TRIM": _trim,
    "LTRIM": _trimmed_on("LEADING"),
    "RTRIM": _trimmed_on("TRAILING"),
    "SUBSTRING": _substring,
    "LEFT": _left,
    "RIGHT": _right,
    "SPLIT_PART": _split_part,
    "POSITION": _position,
    "STRPOS": _strpos,
    "REPLACE": _replace,
    "LPAD": _pad(pc.utf8_lpad),
    "RPAD": _pad(pc.utf8_rpad),
    "REGEXP_LIKE": _regexp_like,
    "REGEXP_REPLACE": _regexp_replace,
}
