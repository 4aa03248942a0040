"""Which kind of value a column holds, decided over all of its cells.

Cells are text. A column is ``integer``, ``decimal``, ``boolean``, ``date`` or
``datetime`` only when every cell that is not missing can be read so and would
be written back the same; one leading zero, one sign too many, one digit too
many, and it is ``text``. Values written otherwise have a kind that names how:
``decimal:1.234,5``, ``date:%d.%m.%Y`` (see ``plait.core.types.value_formats``).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from decimal import Decimal
from functools import partial

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.wording import Setting, wording
from plait.core.job.executor import map_ordered
from plait.core.job.spill_columns import apply_in_batches
from plait.core.text.cells import combine_chunks, empty_to_null, is_text_type, to_text
from plait.core.text.decimals import MOST_DIGITS, DecimalOverflowError, smallest_decimal_type
from plait.core.text.words import TextBuffers
from plait.core.types.column_type import EMPTY, TEXT, ColumnType, Family
from plait.core.types.date_formats import FIRST_DAY
from plait.core.types.exact_numbers import max_digits
from plait.core.types.missing_markers import blank_markers, has_markers
from plait.core.types.month_names import MONTH_BEGINNINGS
from plait.core.types.value_formats import (
    ValueFormat,
    format_for_type,
    formats_matching_sample,
    formats_of_cell,
    parse_with_format,
    resolve_formats,
)

_PATTERNS: dict[Family, str] = {
    "integer": r"^-?(0|[1-9][0-9]{0,18})$",
    "decimal": r"^-?((0|[1-9][0-9]{0,17})|(0|[1-9][0-9]{0,75})\.[0-9]+)$",
    "boolean": r"^(true|false|True|False|TRUE|FALSE)$",
    "date": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$",
    "datetime": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?$",
}
_MONTHS = "|".join(MONTH_BEGINNINGS)
_TYPED_START = (
    rf"(?i)^([-+.]?[0-9]|true|false|yes$|no$|[ynft]$|{_MONTHS}|q[1-4]"
    r"|[-?#€$£¥]|n/?a$|null|none|nan)"
)
_GLANCE, _PIECES = 200, 40
_WHOLE_DIGITS = 18
_FLOAT = r"^-?[0-9]+(\.[0-9]+)?[eE][-+]?[0-9]{1,3}$"
_ZERO, _MINUS, _POINT = ord("0"), ord("-"), ord(".")


def may_parse_mask(texts: pa.Array) -> npt.NDArray[np.bool_]:
    """Which texts may be a number, a date, a time or a truth, by how they begin.

    >>> may_parse_mask(pa.array(["12 kg", "Mar 5", "yard 7"])).tolist()
    [True, True, False]
    """
    begins: npt.NDArray[np.bool_] = pc.match_substring_regex(texts, _TYPED_START).to_numpy(
        zero_copy_only=False
    )
    return begins


def infer_column_type(column: pa.ChunkedArray) -> ColumnType:
    """The type of a column; ``empty`` when all cells are missing.

    >>> columns = (["7", "12"], ["7", "7.5"], ["007", "12"], ["", None])
    >>> [str(infer_column_type(pa.chunked_array([cells]))) for cells in columns]
    ['integer', 'decimal', 'text', 'empty']
    """
    allowed = _allowed(column)
    if allowed[0].native is not None or allowed[0] == EMPTY:
        return allowed[0]
    for plain in allowed[:-1]:
        if all(map_ordered(partial(_formed, plain.family), column.chunks, rows=len(column))):
            return plain if _has_values(column, plain) else TEXT
    written = matching_formats(column)
    return written[0].type if len(written) == 1 and not written[0].assumes else TEXT


def matching_formats(column: pa.ChunkedArray) -> list[ValueFormat]:
    """The forms other than the plain one in which all cells of a column can be read.

    Several, when nothing proves one: the column is text then.

    >>> [str(form.type) for form in matching_formats(pa.chunked_array([["3/4/2031", "5/6/2031"]]))]
    ['date:%d/%m/%Y', 'date:%m/%d/%Y']
    """
    glance = _glance(column)
    fitting_ = formats_matching_sample(glance) if len(glance) else []
    if any(form.family == "boolean" for form in fitting_) and any(map(has_markers, column.chunks)):
        fitting_ = [form for form in fitting_ if form.family != "boolean"]
    if not fitting_:
        return []
    return resolve_formats(fitting_, [_telling(chunk) for chunk in column.chunks])


def _formed(family: Family, array: pa.Array) -> bool:
    """Whether all cells are of the family's plain form, apart from markers for missing.

    Those count as missing among numbers, dates and times only.
    """
    if _FORMS[family](array) or family == "boolean":
        return _FORMS[family](array)
    return has_markers(array) and _FORMS[family](blank_markers(array))


def guess_column_type(column: pa.ChunkedArray) -> ColumnType:
    """The type that the first cells of some of a column's pieces allow.

    Takes next to no time; ``parse_column`` then tells whether all cells are so.
    """
    return _allowed(column)[0]


def _allowed(column: pa.ChunkedArray) -> list[ColumnType]:
    """The types that a glance at some cells allows, narrowest first."""
    if not is_text_type(column.type):
        return [ColumnType.of_arrow(column.type)]
    glance = _glance(column)
    if not len(glance):
        return [TEXT if any(len(_present(chunk)) for chunk in column.chunks) else EMPTY]
    plain = [ColumnType(f) for f, pattern in _PATTERNS.items() if _all_match(glance, pattern)]
    return [*plain, TEXT]


def _glance(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A few cells of some pieces that are neither empty nor a marker for missing."""
    step = max(1, column.num_chunks // _PIECES)
    heads = [chunk.slice(0, _GLANCE) for chunk in column.chunks[::step]]
    glance = _telling(combine_chunks(pa.chunked_array(heads, column.type)))
    if not len(glance):
        glance = next(filter(len, map(_telling, column.chunks)), glance)
    return pa.chunked_array([glance])


def _telling(array: pa.Array) -> pa.Array:
    return _present(blank_markers(array))


def _has_values(column: pa.ChunkedArray, plain: ColumnType) -> bool:
    """Whether cells of the right form all have a value: there is no 30th of February."""
    to = to_arrow_type(plain, column)
    if plain.family == "decimal" and is_text_type(to):
        return False  # together they need more digits than there are
    try:
        parsed = partial(parse_column, type_=plain, to=to)
        for _ in map_ordered(parsed, column.chunks, rows=len(column)):
            pass
    except pa.ArrowInvalid:
        return False
    return True


def to_arrow_type(type_: ColumnType, column: pa.ChunkedArray) -> pa.DataType:
    """The Arrow type that holds a column of this type exactly.

    Decimals have as many digits as their column, up to 76, and stay text beyond.
    """
    if not is_text_type(column.type):
        return column.type
    if type_.family == "decimal":
        before, after = _digits_needed(type_, column)
        return (
            smallest_decimal_type(before + after, after)
            if before + after <= MOST_DIGITS
            else column.type
        )
    return type_.simplest_arrow or column.type


def exact_arrow_type(type_: ColumnType, column: pa.ChunkedArray) -> pa.DataType:
    """The Arrow type that numbers are reckoned with exactly: no floats, unless they are some.

    Raises
    ------
    UsageError
        When a number of the column has more digits than there are.
    """
    to = to_arrow_type(type_, column)
    if type_.family == "decimal" and is_text_type(to):
        raise UsageError(
            f"a number is too long: {DecimalOverflowError()}",
            remedy=wording(Setting("type", "text", "COLUMN")),
        )
    return to


def _digits_needed(type_: ColumnType, column: pa.ChunkedArray) -> tuple[int, int]:
    """The most digits before and after the point of the numbers of a column of decimals."""
    read = _telling if type_.is_plain else partial(_read, form=format_for_type(type_))
    return _most_digits(map_ordered(read, column.chunks, rows=len(column)))


def looks_like_value(text: str) -> bool:
    """Whether one cell by itself looks like a number, a date or a time.

    >>> looks_like_value("12.5"), looks_like_value("2031-04-05"), looks_like_value("yard 7")
    (True, True, False)
    """
    plain = any(re.match(pattern, text) for pattern in _PATTERNS.values())
    return plain or any(True for _ in formats_of_cell(text))


def parse_column(array: pa.Array, type_: ColumnType, to: pa.DataType) -> pa.Array:
    """The cells as an Arrow type; empty ones and markers for missing are missing.

    Parameters
    ----------
    type_ : ColumnType
        What the cells are thought to be; ``text`` changes nothing.

    Raises
    ------
    pyarrow.ArrowInvalid
        When a cell is not of that kind, or has no value in that type.

    Examples
    --------
    >>> cells = pa.array(["0.5", "", "12"])
    >>> parse_column(cells, ColumnType("decimal"), pa.decimal128(3, 1)).to_pylist()
    [Decimal('0.5'), None, Decimal('12.0')]
    """
    if not is_text_type(array.type):
        return _cast(array, to)
    if not type_.is_plain:
        array = _read(array, format_for_type(type_))
        return array if array.type == to else parse_column(array, type_.plain, to)
    formed = _FORMS.get(type_.family)
    if formed and not formed(array):
        array = blank_markers(array)
        if type_.family == "boolean" or not formed(array):
            raise pa.ArrowInvalid(f"a cell is not of type {type_}")
    return _cast(array, to)


def _read(array: pa.Array, form: ValueFormat) -> pa.Array:
    return parse_with_format(empty_to_null(blank_markers(array)), form)


def _cast(array: pa.Array, to: pa.DataType) -> pa.Array:
    was_text = is_text_type(array.type)
    if was_text:
        array = empty_to_null(array)
    if array.type == to:
        return array
    made = pc.cast(array, to)
    if (
        was_text
        and (pa.types.is_date(to) or pa.types.is_timestamp(to))
        and _is_before_year_one(made)
    ):
        raise pa.ArrowInvalid("year 0 does not exist")
    return made


def _is_before_year_one(dates: pa.Array) -> bool:
    first = pc.min(dates.cast(pa.date32(), safe=False).view(pa.int32())).as_py()
    return first is not None and first < FIRST_DAY


def _present(array: pa.Array) -> pa.Array:
    return empty_to_null(array).drop_null()


def _all_match(cells: pa.Array | pa.ChunkedArray, pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(cells, pattern)).as_py())


def _matching(pattern: str) -> Callable[[pa.Array], bool]:
    """Whether all cells of an array that are not missing match a pattern."""
    return lambda array: _all_match(_present(array), pattern) or not len(_present(array))


def _digits_in(signs: bytes) -> Callable[[pa.Array], bool]:
    """Whether all bytes of an array are digits or one of some signs, and its numbers plain."""

    def holds(array: pa.Array) -> bool:
        cells = TextBuffers(array)
        found = cells.non_digits
        return found <= set(signs) and _plain(cells, found)

    return holds


def _plain(cells: TextBuffers, signs: set[int]) -> bool:
    """No leading zero, no bare minus, no point first or last."""
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
    return not odd.any()


def _short_enough(array: pa.Array) -> bool:
    """Whether whole numbers are such as a 64-bit integer holds: longer ones are identifiers."""
    if TextBuffers(array).longest <= _WHOLE_DIGITS:
        return True
    whole = array.filter(pc.invert(pc.match_substring(array, ".")))
    return _digits(whole)[0] <= _WHOLE_DIGITS


def _length_is(length: int) -> Callable[[pa.Array], bool]:
    def holds(array: pa.Array) -> bool:
        lengths = TextBuffers(array).lengths
        return bool(((lengths == length) | (lengths == 0)).all())

    return holds


_FORMS: dict[Family, Callable[[pa.Array], bool]] = {
    "integer": _digits_in(b"-"),
    "decimal": lambda array: _digits_in(b"-.")(array) and _short_enough(array),
    "boolean": _matching(_PATTERNS["boolean"]),
    "date": _length_is(10),
    "datetime": _matching(_PATTERNS["datetime"]),
}


def _most_digits(chunks: Iterable[pa.Array]) -> tuple[int, int]:
    """The most digits before and after the point in some pieces of a column."""
    before, after = 1, 0
    for chunk in chunks:
        whole, part = _digits(chunk)
        before, after = max(before, whole), max(after, part)
    return before, after


def _digits(array: pa.Array) -> tuple[int, int]:
    """The most digits before and after the point."""
    return max_digits(pc.utf8_ltrim(array, "-"))


def canonical_number_text(texts: pa.Array) -> pa.Array:
    """Numbers in one spelling each, so that equal numbers are equal texts.

    >>> canonical_number_text(pa.array(["7", "7.0", "-0.0", "7.50", "1e+15"])).to_pylist()
    ['7', '7', '0', '7.5', '1000000000000000']
    """
    texts = _without_exponents(to_text(texts))
    pointed = pc.match_substring(texts, ".")
    short = pc.utf8_rtrim(pc.utf8_rtrim(texts, "0"), ".")
    texts = pc.if_else(pointed, short, texts)
    return pc.if_else(pc.equal(texts, "-0"), "0", texts)


def _without_exponents(texts: pa.Array) -> pa.Array:
    """Floats as typed sources have them, ``1e+15``, with all their digits."""
    mask = pc.fill_null(pc.match_substring_regex(texts, _FLOAT), False)
    if not pc.any(mask).as_py():
        return texts
    digits = [format(Decimal(text), "f") for text in texts.filter(mask).to_pylist()]
    return pc.replace_with_mask(texts, mask, pa.array(digits, texts.type))


def value_texts(texts: pa.Array, type_: ColumnType) -> pa.Array:
    """Texts of a column in one spelling for each value, so that equal values are equal texts.

    Parameters
    ----------
    texts : pyarrow.Array
        Cells, or distinct cells, of a column.
    type_ : ColumnType
        Of that column. Text is its own value; so is a marker for missing.

    Examples
    --------
    >>> value_texts(pa.array(["TRUE", "true", "False"]), ColumnType("boolean")).to_pylist()
    ['true', 'true', 'false']
    >>> dates = pa.array(["5.4.2031", "05.04.2031", "-"])
    >>> value_texts(dates, ColumnType("date", "%d.%m.%Y")).to_pylist()
    ['2031-04-05', '2031-04-05', '-']
    >>> value_texts(pa.array(["7.0", "7.00", "NA"]), ColumnType("decimal")).to_pylist()
    ['7', '7', 'NA']
    """
    if type_.family == "boolean" and type_.is_plain:
        return pc.utf8_lower(texts)
    if type_.family in ("text", "empty", "other"):
        return texts
    if type_.is_plain_number:
        return apply_in_batches(canonical_number_text, texts)
    try:
        arrow = to_arrow_type(type_, pa.chunked_array([texts]))
        values = to_text(parse_column(texts, type_, arrow))
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return texts  # cells of a typed source, which are their own values
    values = values.cast(texts.type)
    spelt = apply_in_batches(canonical_number_text, values) if type_.is_number else values
    return pc.coalesce(spelt, texts)
