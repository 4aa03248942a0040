"""The functions of text and of dates."""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.wording import Setting, wording
from plait.core.expressions.arithmetic import require_integer
from plait.core.expressions.operands import (
    EvaluationBatch,
    Operator,
    Value,
    broadcast,
    cast_to_text,
    require_literal_text,
    require_text,
    type_family,
)
from plait.core.expressions.parser import SyntaxNode
from plait.core.table.fragment import gather_cells
from plait.core.text.cells import slice_texts
from plait.core.text.dictionary import TextDictionary
from plait.core.types import exact_numbers

_LONGEST_PAD = 10_000
_FAR = 2**40

Numbers = npt.NDArray[np.int64]

_MICROSECONDS = {"DAY": 86_400_000_000, "HOUR": 3_600_000_000, "MINUTE": 60_000_000}
_MICROSECOND = pa.scalar(Decimal("0.000001"))


def _of_text(function: Callable[[Value], Value]) -> Operator:
    return lambda node, rows: function(require_text(node.parts[0], node, rows))


def _trim(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    signs = " " if len(node.parts) < 2 else require_literal_text(node.parts[1], node)
    function = {"LEADING": pc.utf8_ltrim, "TRAILING": pc.utf8_rtrim}.get(node.word, pc.utf8_trim)
    return function(require_text(node.parts[0], node, rows), characters=signs)


def _trimmed_on(side: str) -> Operator:
    return lambda node, rows: _trim(SyntaxNode("TRIM", node.parts, side, node.source), rows)


class _Stretch:
    """Texts, and whole numbers beside them: a place or a length for each row."""

    def __init__(self, node: SyntaxNode, rows: EvaluationBatch) -> None:
        self.texts = broadcast(require_text(node.parts[0], node, rows), rows).cast(pa.string())
        values = [require_integer(rows.value(part), node) for part in node.parts[1:]]
        every = [broadcast(value, rows) for value in values]
        self.numbers: list[Numbers] = [
            np.clip(one.fill_null(0).to_numpy(zero_copy_only=False), -_FAR, _FAR) for one in every
        ]
        self.lengths: Numbers = (
            pc.fill_null(pc.utf8_length(self.texts), 0)
            .to_numpy(zero_copy_only=False)
            .astype(np.int64)
        )
        self._absent = [e.is_null() for e in every if e.null_count]

    def between(self, start: Any, stop: Any) -> pa.Array:
        """The signs from one place to another; missing where a number is."""
        made = slice_texts(self.texts, start, stop)
        for absent in self._absent:
            made = pc.if_else(absent, pa.scalar(None, made.type), made)
        return made


def _substring(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """From a place that counts from 1; what lies before it counts towards the length."""
    stretch = _Stretch(node, rows)
    start = stretch.numbers[0] - 1
    length = stretch.numbers[1] if len(node.parts) > 2 else _FAR
    return stretch.between(start, start + np.maximum(length, 0))


def _left(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    stretch = _Stretch(node, rows)
    return stretch.between(0, stretch.numbers[0])


def _right(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    stretch = _Stretch(node, rows)
    return stretch.between(stretch.lengths - np.maximum(stretch.numbers[0], 0), _FAR)


def _position(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """POSITION('x' IN a)."""
    text, part = node.parts
    return _text_position(
        broadcast(require_text(part, node, rows), rows), require_literal_text(text, node)
    )


def _strpos(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """STRPOS(a, 'x')."""
    part, text = node.parts
    return _text_position(
        broadcast(require_text(part, node, rows), rows), require_literal_text(text, node)
    )


def _text_position(cells: pa.Array, text: str) -> pa.Array:
    """Where a text first stands, counted from 1; 0 where it does not, 1 for an empty one."""
    if not text:
        return pc.if_else(cells.is_valid(), 1, pa.scalar(None, pa.int64())).cast(pa.int64())
    head = pc.split_pattern(cells, text, max_splits=1)
    element = pc.list_element(head, 0)
    place = pc.add(pc.utf8_length(element), 1)
    return pc.if_else(pc.match_substring(cells, text), place, 0).cast(pa.int64())


def _replace(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    old, new = (require_literal_text(part, node) for part in node.parts[1:])
    cells = require_text(node.parts[0], node, rows)
    return pc.replace_substring(cells, old, new) if old else cells


def _pad(function: Callable[..., Value]) -> Operator:
    """Filled up to a width; a longer text is cut off at its end."""

    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        width = node.parts[1]
        fill = " " if len(node.parts) < 3 else require_literal_text(node.parts[2], node)
        if width.op != "number" or not width.word.isdecimal():
            raise UsageError("the width must be a literal whole number", node.sql())
        size = int(width.word[:6])
        if len(fill) != 1 or size > _LONGEST_PAD:
            raise UsageError(
                "the padding must be one character, and the width at most 10,000", node.sql()
            )
        cells = require_text(node.parts[0], node, rows)
        return pc.utf8_slice_codeunits(function(cells, size, fill), 0, size)

    return operator


def _joined(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """Texts behind one another; missing where any is."""
    if any(part.op == "text" and not part.word for part in node.parts):
        raise UsageError(
            "joining a text to an empty text, which is NULL, gives NULL",
            node.sql(),
            "CONCAT(a, b) leaves out NULL",
        )
    return pc.binary_join_element_wise(*(cast_to_text(p, rows) for p in node.parts), "")


def _concat(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """Texts behind one another without those that are missing; missing where all are."""
    parts = [cast_to_text(part, rows).cast(pa.string()) for part in node.parts]
    return pc.binary_join_element_wise(*(pc.fill_null(p, "") for p in parts), "")


def _split_part(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """SPLIT_PART(a, '-', 2): counted from 1, or from the end below 0; empty where there is none."""
    cells = broadcast(require_text(node.parts[0], node, rows), rows).cast(pa.string())
    sign = require_literal_text(node.parts[1], node)
    which = broadcast(require_integer(rows.value(node.parts[2]), node), rows)
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
    made = pc.fill_null(gather_cells(parts, np.where(there, at, -1)), "")
    absent = pc.or_(cells.is_null(), which.is_null())
    return pc.if_else(absent, pa.scalar(None, pa.string()), made)


def _pattern(node: SyntaxNode, flags: str) -> str:
    """A regular expression as RE2 has it, whose time is bounded by the length of the text."""
    unknown = set(flags) - set("imsg")
    if unknown:
        raise UsageError(f"a pattern has no option {unknown.pop()!r}", node.sql(), "i, m or s")
    known = "".join(sorted(set(flags) - {"g"}))
    pattern = (f"(?{known})" if known else "") + require_literal_text(node.parts[1], node)
    try:
        pc.match_substring_regex(pa.array([""]), pattern)
    except pa.ArrowInvalid as error:
        raise UsageError(f"not a valid pattern: {str(error).splitlines()[0]}", node.sql()) from None
    return pattern


def _options(node: SyntaxNode, place: int) -> str:
    return require_literal_text(node.parts[place], node) if len(node.parts) > place else ""


def _regexp_like(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """Whether a pattern stands somewhere in the text."""
    pattern = _pattern(node, _options(node, 2))
    return pc.match_substring_regex(require_text(node.parts[0], node, rows), pattern)


def _regexp_replace(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """Every place where a pattern stands replaced; ``\\1`` is its first group."""
    pattern = _pattern(node, _options(node, 3))
    new = require_literal_text(node.parts[2], node) if len(node.parts) > 2 else ""
    cells = require_text(node.parts[0], node, rows)
    try:
        return pc.replace_substring_regex(cells, pattern, new)
    except pa.ArrowInvalid as error:
        raise UsageError(
            f"not a valid replacement: {str(error).splitlines()[0]}", node.sql()
        ) from None


def _initcap(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """The first sign of each word a capital, the others small."""
    cells = broadcast(require_text(node.parts[0], node, rows), rows).cast(pa.string())
    dictionary = TextDictionary()
    codes = dictionary.encode(cells)
    made = [_capitalised(text) for text in dictionary.texts().to_pylist()]
    words = pa.chunked_array([pa.array(made, pa.string())])
    taken = gather_cells(words, codes) if made else cells
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


def _seconds(microseconds: Value) -> Value:
    """Microseconds as seconds: whole numbers where all of them are, else decimals."""
    apart = pc.subtract(microseconds, pc.multiply(pc.divide(microseconds, 1_000_000), 1_000_000))
    split = apart if isinstance(apart, pa.Array) else pa.array([apart.as_py()], pa.int64())
    if not pc.any(pc.not_equal(split, 0)).as_py():
        return pc.divide(microseconds, 1_000_000)
    return exact_numbers.multiply(microseconds, _MICROSECOND)


def _second(value: Value) -> Value:
    """The second of a moment, with its fraction."""
    small = pc.add(pc.multiply(pc.millisecond(value), 1000), pc.microsecond(value))
    return _seconds(pc.add(pc.multiply(pc.second(value), 1_000_000), small))


def _of_stretch(part: str, stretch: Value, node: SyntaxNode) -> Value:
    """A part of a stretch of time, as a clock shows it, or all its seconds."""
    microseconds = stretch.cast(pa.int64())
    if part == "EPOCH":
        return _seconds(microseconds)
    above = {"HOUR": "DAY", "MINUTE": "HOUR", "SECOND": "MINUTE"}
    if part not in (*_MICROSECONDS, "SECOND"):
        raise UsageError(
            f"nothing called {part} is in a stretch of time",
            node.sql(),
            "one of EPOCH (all its seconds), DAY, HOUR, MINUTE, SECOND",
        )
    if part in above:
        larger = _MICROSECONDS[above[part]]
        whole = pc.multiply(pc.divide(microseconds, larger), larger)
        microseconds = pc.subtract(microseconds, whole)
    if part == "SECOND":
        return _seconds(microseconds)
    return pc.divide(microseconds, _MICROSECONDS[part])


_PARTS: dict[str, Callable[[Value], Value]] = {
    "YEAR": pc.year,
    "QUARTER": pc.quarter,
    "MONTH": pc.month,
    "WEEK": pc.iso_week,
    "DAY": pc.day,
    "DOY": pc.day_of_year,
    "DOW": lambda value: pc.day_of_week(value, count_from_zero=False),
    "HOUR": pc.hour,
    "MINUTE": pc.minute,
    "SECOND": _second,
}


def _extract(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    if node.word == "EPOCH":
        value = rows.value(node.parts[0])
        if type_family(value) in ("interval", "nothing"):
            return _extracted(node.word, value, node)
    if node.word not in _PARTS:
        raise UsageError(
            f"nothing called {node.word} can be extracted",
            node.sql(),
            f"one of {', '.join(_PARTS)}",
        )
    return _extracted(node.word, rows.value(node.parts[0]), node)


def _extracted(part: str, value: Value, node: SyntaxNode) -> Value:
    """A part of a date, a moment or a time, as an integer."""
    sort = type_family(value)
    if sort == "interval":
        return _of_stretch(part, value, node)
    clock = part in ("HOUR", "MINUTE", "SECOND")
    allowed = ("datetime", "time") if clock else ("date", "datetime")
    if sort == "nothing":
        return pa.scalar(None, pa.int64())
    if sort not in allowed:
        raise UsageError(
            f"{part} is extracted from a {' or a '.join(allowed)}, this is a {sort}",
            node.sql(),
            wording(
                "CAST(… AS DATE), or set its format: ",
                Setting("type", "date:%d.%m.%Y", "COLUMN"),
            ),
        )
    return _second(value) if part == "SECOND" else _PARTS[part](value).cast(pa.int64())


def _part(part: str) -> Operator:
    return lambda node, rows: _extracted(part, rows.value(node.parts[0]), node)


DATE_FUNCTIONS: dict[str, Operator] = {
    "extract": _extract,
    "YEAR": _part("YEAR"),
    "MONTH": _part("MONTH"),
    "DAY": _part("DAY"),
}
