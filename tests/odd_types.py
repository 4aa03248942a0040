"""A column of every Arrow type there is, with the values that are hardest to hold."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

import pyarrow as pa

DAY = dt.datetime(2031, 1, 1, 5)
_TEXT = pa.array(["a", "b", None])


def _viewed(numbers: list[int | None], whole: pa.DataType, kind: pa.DataType) -> pa.Array:
    """Numbers taken for what they are not: values that no calendar has."""
    return pa.array(numbers, whole).view(kind)


def _far(kind: pa.DataType) -> pa.Array:
    return _viewed([2**62, 1, None], pa.int64(), kind)


def _listed(values: pa.Array) -> pa.Array:
    return pa.ListArray.from_arrays([0, 1, 2, len(values)], values)


# What the documents call a type, and columns of it.
ROWS: dict[str, list[pa.Array]] = {
    "int8 … int64, uint8 … uint64": [
        pa.array([1, -2, None], pa.int8()),
        pa.array([-(2**63), 2**53 + 1, None]),
        pa.array([2**64 - 1, 5, None], pa.uint64()),
    ],
    "halffloat": [pa.array([1.5, float("inf"), -0.0], pa.float16())],
    "float, double": [
        pa.array([0.1, 1e30, None], pa.float32()),
        pa.array([float("nan"), float("inf"), -0.0]),
        pa.array([1e-7, 1e16, 5e-324]),
    ],
    "decimal32, decimal64": [
        pa.array([Decimal("1.50"), None, Decimal("-0.01")], pa.decimal32(9, 2)),
        pa.array([Decimal("1.50"), None, Decimal("-0.01")], pa.decimal64(18, 2)),
    ],
    "decimal128, decimal256": [
        pa.array([Decimal("1.5"), -(Decimal(10) ** 34), None], pa.decimal128(38, 3)),
        pa.array([Decimal(10) ** 60, Decimal(1), None], pa.decimal256(76, 10)),
    ],
    "decimals of rounded tens": [
        pa.array([Decimal(1500), None, Decimal(-100)], pa.decimal128(10, -2)),
    ],
    "bool": [pa.array([True, False, None])],
    "date32": [pa.array([DAY.date(), dt.date(1, 1, 1), None])],
    "date64": [
        pa.array([DAY.date(), None, None]).cast(pa.date64()),
    ],
    "dates beyond the years 1 to 9999": [
        _viewed([2**31 - 1, -800_000, None], pa.int32(), pa.date32()),
        _viewed([86_400_000 * 10**7, 0, None], pa.int64(), pa.date64()),
    ],
    "timestamp": [
        pa.array([DAY, None, dt.datetime(9999, 12, 31)], pa.timestamp("us")),
        pa.array([DAY, None, None], pa.timestamp("s")),
    ],
    "timestamp with a zone": [
        pa.array([DAY, None, None], pa.timestamp("us", "Europe/Berlin")),
        pa.array([DAY, None, None], pa.timestamp("ns", "+05:30")),
    ],
    "timestamp with a zone that is not known": [
        _viewed([0, 1, None], pa.int64(), pa.timestamp("us", "Mars/Base")),
        _viewed([0, 1000, None], pa.int64(), pa.timestamp("ns", "+99:99")),
    ],
    "timestamp of nanoseconds that are used": [pa.array([1, 2, None], pa.timestamp("ns"))],
    "timestamps beyond the years 1 to 9999": [
        _far(pa.timestamp("s")), _far(pa.timestamp("us")), _far(pa.timestamp("ms", "UTC")),
    ],
    "time32, time64": [
        pa.array([5, None, 7], pa.time32("s")),
        pa.array([dt.time(5, 1), None, dt.time(1)], pa.time64("us")),
    ],
    "time of nanoseconds that are used": [pa.array([1, 2, None], pa.time64("ns"))],
    "times that no day has": [
        _viewed([-1, 86_400 * 2, None], pa.int32(), pa.time32("s")),
        _viewed([2**60, -5, None], pa.int64(), pa.time64("us")),
    ],
    "duration": [pa.array([5, None, 7], pa.duration("s"))],
    "durations beyond 999,999,999 days": [_far(pa.duration("s"))],
    "month_day_nano_interval": [
        pa.array([pa.MonthDayNano([1, 2, 3]), None, pa.MonthDayNano([-1, 0, 0])]),
    ],
    "string, large_string, string_view": [
        pa.array(["9", "10", "x"]),
        pa.array(["9", "10", None], pa.large_string()),
        pa.array(["a", "", None], pa.string_view()),
    ],
    "null": [pa.nulls(3)],
    "binary, large_binary, binary_view, fixed_size_binary": [
        pa.array([b"a", None, b"\xff"]),
        pa.array([b"a", None, b"\xff"], pa.large_binary()),
        pa.array([b"a", None, b"long enough to be out of line"], pa.binary_view()),
        pa.array([b"ab", None, b"\xff\0"], pa.binary(2)),
    ],
    "list, large_list, fixed_size_list, list_view, large_list_view": [
        pa.array([[1], None, [2, None]]),
        pa.array([[1], None, []], pa.large_list(pa.int64())),
        pa.array([[1, 2], None, [2, None]], pa.list_(pa.int64(), 2)),
        pa.array([[1], None, []], pa.list_view(pa.int64())),
        pa.array([[1], None, []], pa.large_list_view(pa.int64())),
        _listed(_far(pa.timestamp("us"))),
        _listed(pa.array([1, 2, None], pa.timestamp("ns"))),
        _listed(_TEXT.dictionary_encode()),
        _listed(pa.array([Decimal("1.50"), None, None])),
        _listed(pa.array([{"a": 1}, None, {"a": None}])),
    ],
    "map": [pa.array([[("a", 1)], None, [("b", None)]], pa.map_(pa.string(), pa.int64()))],
    "struct": [
        pa.array([{"a": 1}, None, {"a": 3}]),
        pa.array([{"a": {"b": 1}}, None, {"a": None}]),
        pa.StructArray.from_arrays([_TEXT, _TEXT], ["a", "a"]),
    ],
    "struct without fields": [pa.array([{}, None, {}], pa.struct([]))],
    "dictionary": [
        _TEXT.dictionary_encode(),
        pa.array([1, None, 2], pa.timestamp("ns")).dictionary_encode(),
        pa.DictionaryArray.from_arrays([0, 1, None], pa.array([[1], [2, 3]])),
        pa.DictionaryArray.from_arrays([0, 1, None], pa.array([{"a": 1}, {"a": 2}])),
        pa.DictionaryArray.from_arrays([0, 1, None], _TEXT.dictionary_encode()),
        pa.DictionaryArray.from_arrays([0, 1, None], pa.nulls(2)),
    ],
    "run_end_encoded": [pa.RunEndEncodedArray.from_arrays([2, 3], ["a", None])],
    "dense_union, sparse_union": [
        pa.UnionArray.from_dense(
            pa.array([0, 1, 0], pa.int8()),
            pa.array([0, 0, 1], pa.int32()),
            [pa.array([1, 2]), _TEXT],
        ),
        pa.UnionArray.from_sparse(pa.array([0, 1, 0], pa.int8()), [pa.array([1, 2, 3]), _TEXT]),
    ],
    "uuid": [
        pa.ExtensionArray.from_storage(
            pa.uuid(), pa.array([b"0123456789abcdef", None, b"\xff" * 16], pa.binary(16))
        )
    ],
    "bool8": [pa.ExtensionArray.from_storage(pa.bool8(), pa.array([1, None, 0], pa.int8()))],
    "json and other extensions": [
        pa.ExtensionArray.from_storage(pa.json_(), pa.array(['{"a":1}', None, "[]"])),
        pa.ExtensionArray.from_storage(pa.opaque(pa.int64(), "x", "y"), pa.array([1, None, 2])),
        pa.ExtensionArray.from_storage(
            pa.fixed_shape_tensor(pa.int32(), [2]),
            pa.array([[1, 2], None, [3, 4]], pa.list_(pa.int32(), 2)),
        ),
    ],
}  # fmt: skip
COLUMNS = {
    f"{name.partition(',')[0]} {number}": column
    for name, columns in ROWS.items()
    for number, column in enumerate(columns)
}
