"""Arrow data as columns of a table, and headings made distinct.

``docs/types.md`` has the table: each type there is, and what it is read as.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.base.limits import LIMITS, LimitExceededError
from plait.core.base.names import unused_name
from plait.core.base.wording import Setting, wording
from plait.core.text.cells import combine_chunks
from plait.core.text.json_text import format_json
from plait.core.types.date_formats import FIRST_DAY, LAST_DAY

_DAY = 86_400
_A_SECOND = {"s": 1, "ms": 1_000, "us": 1_000_000}
_LONGEST = 999_999_999 * _DAY  # seconds of the longest stretch that has a value


def flatten_nested_column(
    name: str, column: pa.ChunkedArray
) -> Iterator[tuple[str, pa.ChunkedArray]]:
    """A column as columns of single values, with their names.

    A structure is a column for each of its fields, named ``outer.inner``; lists are JSON
    text, bytes hexadecimal; dictionaries, views and the rarer units become the plain type,
    values that no calendar has become text.

    >>> kind = pa.struct([("yard", pa.string()), ("hive", pa.int64())])
    >>> place = pa.chunked_array([pa.array([{"yard": "A", "hive": 7}], kind)])
    >>> [(name, column.to_pylist()) for name, column in flatten_nested_column("place", place)]
    [('place.yard', ['A']), ('place.hive', [7])]
    """
    column = _unwrapped(column)
    kind = column.type
    if pa.types.is_struct(kind) and kind.num_fields:
        for number in range(kind.num_fields):
            field = kind.field(number)
            yield from flatten_nested_column(
                f"{name}.{field.name}", pc.struct_field(column, [number])
            )
    else:
        yield name, _single(column)


def _unwrapped(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """What is within an extension, a dictionary or runs, to the last."""
    while True:
        kind = column.type
        if isinstance(kind, pa.BaseExtensionType):
            column = _each(column, _storage)
        elif pa.types.is_dictionary(kind):
            column = _each(column, _decoded)
        elif pa.types.is_run_end_encoded(kind):
            column = _each(column, pc.run_end_decode)
        else:
            return column


def _each(column: pa.ChunkedArray, make: Callable[[pa.Array], pa.Array]) -> pa.ChunkedArray:
    """Every piece made into another; a column without pieces has one of no rows."""
    pieces = column.chunks or [pa.nulls(0, column.type)]
    return pa.chunked_array([make(piece) for piece in pieces])


def _storage(array: pa.Array) -> pa.Array:
    if array.type == pa.uuid():
        made = [None if t is None else str(t) for t in array.to_pylist()]
        return pa.array(made, pa.string())
    return array.cast(pa.bool_()) if array.type == pa.bool8() else array.storage


def _decoded(array: pa.DictionaryArray) -> pa.Array:
    """The values that the codes stand for, of whatever type."""
    return array.dictionary.take(array.indices.cast(pa.int64()))


def _single(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A column of single values in a type that is reckoned with."""
    kind = column.type
    if pa.types.is_null(kind):
        return column.cast(pa.string())
    if pa.types.is_string_view(kind) or pa.types.is_large_string(kind):
        return _in_short_offsets(column)
    if pa.types.is_float16(kind):
        return _plain_floats(column.cast(pa.float32()))
    if pa.types.is_decimal(kind):
        return _with_places(column)
    if pa.types.is_timestamp(kind):
        return _moments(column)
    if pa.types.is_date(kind) or pa.types.is_time(kind) or pa.types.is_duration(kind):
        return _of_the_calendar(column)
    if pa.types.is_integer(kind) or pa.types.is_boolean(kind) or pa.types.is_string(kind):
        return column
    return _plain_floats(column) if pa.types.is_floating(kind) else _as_json(column)


def _plain_floats(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Floats of which none is not-a-number, which is missing, and none a zero with a minus."""
    if pc.any(pc.is_nan(column)).as_py():
        column = pc.if_else(pc.is_nan(column), pa.scalar(None, column.type), column)
    return pc.add(column, pa.scalar(0.0, column.type))


def _in_short_offsets(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Text as nearly all columns have it, unless a piece is too long for that."""
    try:
        return column.cast(pa.string())
    except pa.ArrowInvalid:
        return column.cast(pa.large_string())


def _with_places(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Decimals of 128 or 256 bits, those of rounded tens with all digits."""
    kind = column.type
    if kind.scale < 0:
        digits = kind.precision - kind.scale
        if digits > 76:
            return _text(column, lambda value: format(value, "f"))
        return column.cast(pa.decimal128(digits) if digits <= 38 else pa.decimal256(digits))
    if kind.bit_width < 128:
        return column.cast(pa.decimal128(kind.precision, kind.scale))
    return column


def _moments(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Moments to the microsecond, in zones that are known; as text where that is not enough."""
    kind = column.type
    if kind.tz and not _is_known(kind.tz):
        column = _each(column, lambda piece: piece.view(pa.int64()).view(pa.timestamp(kind.unit)))
        column = column.cast(pa.timestamp(kind.unit, "UTC"))
    if kind.unit == "ns":
        try:
            return column.cast(pa.timestamp("us", column.type.tz))
        except pa.ArrowInvalid:
            return column.cast(pa.string())
    second = _A_SECOND[kind.unit]
    least, most = FIRST_DAY * _DAY * second, (LAST_DAY + 1) * _DAY * second - 1
    if column.type.tz not in (None, "UTC") and not _far_from_ends(column, least, most, second):
        # There another zone has a day that the calendar has not. The moments are the same in UTC.
        column = column.cast(pa.timestamp(kind.unit, "UTC"))
    return _within(column, least, most, f" {kind.unit} since 1970-01-01")


def _far_from_ends(column: pa.ChunkedArray, least: int, most: int, second: int) -> bool:
    """Whether all moments are more than a day from both ends of the calendar."""
    ends = pc.min_max(_each(column, lambda piece: piece.view(pa.int64()))).as_py()
    if ends["min"] is None:
        return True
    return bool(ends["min"] >= least + _DAY * second and ends["max"] <= most - _DAY * second)


def _is_known(zone: str) -> bool:
    """Whether moments can be told in a zone."""
    try:
        moment = pa.array([0]).cast(pa.timestamp("s", zone))
        moment.cast(pa.string())
        moment.to_pylist()
    except (pa.ArrowException, ValueError, LookupError, OSError):
        return False
    return True


def _of_the_calendar(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Days, times of day, and stretches of time; as text where some are none."""
    kind = column.type
    if pa.types.is_date64(kind):
        days = _each(column, lambda piece: pc.divide(piece.view(pa.int64()), _DAY * 1000))
        whole = _each(days, lambda piece: pc.multiply(piece, _DAY * 1000))
        if whole.equals(_each(column, lambda piece: piece.view(pa.int64()))):
            far = pc.max(pc.abs(days)).as_py() or 0
            if far < 2**31:
                days32 = _each(days.cast(pa.int32()), lambda piece: piece.view(pa.date32()))
                return _of_the_calendar(days32)
        moments = _each(column, lambda piece: piece.view(pa.int64()).view(pa.timestamp("ms")))
        return _moments(moments)
    if pa.types.is_date(kind):
        return _within(column, FIRST_DAY, LAST_DAY, " days from 1970-01-01")
    if pa.types.is_time(kind):
        second = 10**9 if kind.unit == "ns" else _A_SECOND[kind.unit]
        column = _within(column, 0, _DAY * second - 1, f" {kind.unit} from midnight")
    elif kind.unit != "ns":
        most = min(_LONGEST * _A_SECOND[kind.unit], 2**63 - 1)
        column = _within(column, -most, most, f" {kind.unit}")
    if getattr(column.type, "unit", "") != "ns":
        return column
    try:
        return column.cast(pa.duration("us") if pa.types.is_duration(kind) else pa.time64("us"))
    except pa.ArrowInvalid:
        return column.cast(pa.string())


def _within(column: pa.ChunkedArray, least: int, most: int, unit: str) -> pa.ChunkedArray:
    """The column, or if some values are not between two bounds all as text, with no digit lost."""
    kind = column.type
    whole = pa.int32() if kind.bit_width == 32 else pa.int64()
    numbers = _each(column, lambda piece: piece.view(whole))
    ends = pc.min_max(numbers)
    low, high = ends["min"].as_py(), ends["max"].as_py()
    if low is None or (low >= least and high <= most):
        return column
    inside = pc.and_(
        pc.greater_equal(numbers, pa.scalar(max(least, -(2 ** (kind.bit_width - 1))), whole)),
        pc.less_equal(numbers, pa.scalar(min(most, 2 ** (kind.bit_width - 1) - 1), whole)),
    )
    known = pc.if_else(inside, column, pa.scalar(None, kind)).cast(pa.string())
    said = pc.binary_join_element_wise(numbers.cast(pa.string()), unit, "")
    return pc.coalesce(known, said)


def _as_json(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Lists, bytes and all that is left as text, cell by cell."""
    column = _each(column, _readable)
    return _text(column, format_json)


def _text(column: pa.ChunkedArray, write: Callable[[Any], str]) -> pa.ChunkedArray:
    def written(piece: pa.Array) -> pa.Array:
        cells = [None if value is None else write(value) for value in piece.to_pylist()]
        return pa.array(cells, pa.string())

    return _each(column, written)


def _readable(array: pa.Array) -> pa.Array:
    """An array whose values Python can hold: those within lists and structures are made so too."""
    kind = array.type
    if pa.types.is_map(kind):
        pairs = array.keys, array.items
        return pa.MapArray.from_arrays(_ends(array, array.offsets), *map(_readable, pairs))
    if _is_list(kind):
        sizes = pc.fill_null(pc.list_value_length(array), 0).cast(pa.int64())
        ends = pa.concat_arrays([pa.array([0]), pc.cumulative_sum(sizes)])
        return pa.LargeListArray.from_arrays(_ends(array, ends), _readable(array.flatten()))
    if pa.types.is_struct(kind):
        return _readable_fields(array)
    if pa.types.is_union(kind) or pa.types.is_interval(kind):
        return pa.array([_scalar_text(a) for a in array], pa.string())
    if pa.types.is_binary_view(kind):
        return array.cast(pa.large_binary())
    if _is_bytes(kind):
        return array
    made = _unwrapped(pa.chunked_array([array]))
    if made.type != kind:
        return _readable(combine_chunks(made))
    return combine_chunks(_single(made))


def _is_list(kind: pa.DataType) -> bool:
    several = (pa.types.is_list, pa.types.is_large_list, pa.types.is_fixed_size_list)
    views = (pa.types.is_list_view, pa.types.is_large_list_view)
    return any(holds(kind) for holds in (*several, *views))


def _is_bytes(kind: pa.DataType) -> bool:
    several = (pa.types.is_binary, pa.types.is_large_binary, pa.types.is_fixed_size_binary)
    return any(holds(kind) for holds in several)


def _ends(array: pa.Array, offsets: pa.Array) -> pa.Array:
    """Offsets that say which lists are missing."""
    return pa.concat_arrays([pc.if_else(array.is_valid(), offsets[:-1], None), offsets[-1:]])


def _readable_fields(array: pa.StructArray) -> pa.Array:
    names = [array.type.field(number).name for number in range(array.type.num_fields)]
    if not names or len(set(names)) < len(names):
        return pa.array([_scalar_text(a) for a in array], pa.string())
    fields = [_readable(array.field(number)) for number in range(len(names))]
    return pa.StructArray.from_arrays(fields, names, mask=array.is_null())


def _scalar_text(one: pa.Scalar) -> str | None:
    """A single value of a rare type as text."""
    if not one.is_valid:
        return None
    if isinstance(one, pa.MonthDayNanoIntervalScalar):
        value = one.as_py()
        return f"P{value.months}M{value.days}DT{value.nanoseconds / 1e9:.9f}S"
    try:
        value = one.as_py()
    except (ValueError, OverflowError, pa.ArrowException):
        return str(one)
    return value if isinstance(value, str) else format_json(value)


def clean_headings(
    names: Sequence[str], where: str, following: int | None = None, most: int = LIMITS.columns
) -> tuple[list[str], list[Finding]]:
    """Names without padding, none empty and none twice, and findings about those changed.

    Parameters
    ----------
    where : str
        The source, for errors and findings.
    following : int, optional
        The number of the line behind the header: where some names are empty, that may be
        the header after all.
    most : int
        How many columns a table may have.

    Raises
    ------
    LimitExceededError

    Examples
    --------
    >>> clean_headings(["hive", " kg", "", "kg"], "may.csv")[0]
    ['hive', 'kg', 'column 3', 'kg (2)']
    """
    if len(names) > most:
        raise LimitExceededError(
            "columns", f"there are {len(names):,} columns, over {most:,}", where
        )
    tried: dict[str, int] = {}
    usable: dict[str, None] = {}  # in order, and quick to look into
    changed: dict[str, list[FindingExample]] = {"padded": [], "empty": [], "repeated": []}
    for number, name in enumerate(names, 1):
        wanted = name.strip() or f"column {number}"
        chosen = unused_name(wanted, usable, tried)
        for kind, happened in (
            ("padded", bool(name.strip()) and name != name.strip()),
            ("empty", not name.strip()),
            ("repeated", chosen != wanted),
        ):
            if happened:
                changed[kind].append(
                    FindingExample(f"column {number}: {name!r} is read as {chosen!r}")
                )
        usable[chosen] = None
    findings = [
        Finding(
            f"header-{kind}",
            "note" if kind == "padded" else "warning",
            len(examples),
            f"{pluralize(len(examples), 'column heading')} {kind}",
            wording("if the next line is the header: ", Setting("header_line", following))
            if kind == "empty" and following
            else "name the columns in the source",
            Location(where),
            tuple(examples[:MOST_EXAMPLES]),
        )
        for kind, examples in changed.items()
        if examples
    ]
    return list(usable), findings
