"""The nearest row: a join on equal keys and the closest number, date or time."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.findings import Finding, Location, pluralize
from plait.core.base.names import suggest_name
from plait.core.base.wording import Setting, wording
from plait.core.codes.dense_codes import dense_rank
from plait.core.codes.key_codes import KeyCodes
from plait.core.codes.sort import check_sortable
from plait.core.table.key_spec import check_column, parse_key_columns
from plait.core.table.table import Table
from plait.core.text.cells import is_text_type
from plait.core.text.decimals import to_arithmetic_type, to_scaled_integers
from plait.core.types import exact_numbers
from plait.core.types.column_type import EMPTY, ColumnType
from plait.core.types.inference import exact_arrow_type, parse_column

DIRECTIONS = ("before", "after", "either")
_UNITS = {
    "s": 1_000_000,
    "min": 60_000_000,
    "h": 3_600_000_000,
    "d": 86_400_000_000,
    "w": 604_800_000_000,
}
_NOTHING = "nothing"
_DAY = 86_400_000_000

_FLOAT = np.dtype(np.float64)
_WHOLE_DIGITS = 18

Values = npt.NDArray[Any]
Flags = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class NearestSpec:
    """Which columns are compared, and which way a partner may lie.

    ``before`` takes the right row with the largest value that is not above the
    left one, ``after`` the smallest that is not below, ``either`` the closer.
    """

    left: str
    right: str
    direction: str


@dataclass(frozen=True, eq=False)
class _Measure:
    """A column as whole numbers of its smallest unit, of which 10 ** places are one; or floats.

    Dates and times are microseconds.
    """

    kind: str
    values: Values
    there: Flags
    places: int


def parse_nearest(spec: str) -> NearestSpec:
    """Read ``COLUMN:before``, ``LEFT=RIGHT:either``.

    Raises
    ------
    UsageError

    Examples
    --------
    >>> parse_nearest("Seen=Measured:before")
    NearestSpec(left='Seen', right='Measured', direction='before')
    """
    columns, sign, direction = spec.rpartition(":")
    if not sign:
        columns, direction = spec, ""
    if direction not in DIRECTIONS:
        raise UsageError(
            wording(Setting("nearest", spec), " needs a direction: before, after or either"),
            remedy=suggest_name(direction, DIRECTIONS)
            if direction
            else wording(Setting("nearest", f"{columns}:before")),
        )
    pairs = parse_key_columns(columns)
    if len(pairs) != 1:
        raise UsageError(
            wording(Setting("nearest"), f" takes one column, {columns!r} are {len(pairs)}")
        )
    return NearestSpec(*pairs[0], direction)


def parse_distance(text: str, temporal: bool) -> Fraction:
    """A distance: ``7d`` in microseconds, or a plain number.

    Raises
    ------
    UsageError

    Examples
    --------
    >>> parse_distance("2h", True), parse_distance("0.5", False)
    (Fraction(7200000000, 1), Fraction(1, 2))
    """
    match = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([a-z]*)\s*", text)
    if match is None or (match[2] not in _UNITS if temporal else match[2]):
        message = f"a number and one of {', '.join(_UNITS)}" if temporal else "a number"
        raise UsageError(
            wording(Setting("within", text), " is not a distance"), remedy=f"write {message}"
        )
    return Fraction(match[1]) * (_UNITS[match[2]] if temporal else 1)


def encode_nearest_keys(
    left: Table, right: Table, coding: KeyCodes, spec: NearestSpec, within: str | None
) -> tuple[KeyCodes, tuple[Finding, ...]]:
    """Keys coded anew, so that a row and its nearest partner have one code.

    Parameters
    ----------
    coding : KeyCodes
        Of the keys that must be equal.
    within : str, optional
        How far a partner may lie, as ``7d`` or ``0.5``.

    Returns
    -------
    coding : KeyCodes
        Each right row has a code of its own; a left row has that of its partner,
        another where it has none, and -1 where its key or value is missing.
    findings : tuple of Finding
        Rows with several equally near partners.

    Raises
    ------
    UsageError
        When the two columns are not of one kind, or not to be measured.

    Notes
    -----
    The right rows are sorted by key and value; two binary searches for each left
    row find those next to it. Of several as near the first in the table is taken,
    and of one before and one after as near the one before.
    """
    check_column(spec.left, left)
    check_column(spec.right, right)
    one, two = _measured(left, spec.left, right, spec.right)
    kinds = {one.kind, two.kind} - {_NOTHING}
    limit = None
    if within is not None and kinds:
        limit = _limit(parse_distance(within, "number" not in kinds), one, two)
    codes = coding.codes[0], coding.codes[1]
    rows = np.lexsort((dense_rank(two.values)[1], codes[1]))
    rows = rows[(codes[1][rows] >= 0) & two.there[rows]]
    partner, tied = _partners(
        (codes[0], one.values), (codes[1][rows], two.values[rows]), spec.direction, limit
    )
    asking = (codes[0] >= 0) & one.there
    partner[~asking] = -1
    found = np.append(rows, -1)[partner]
    mine = np.where(found >= 0, found, np.where(asking, right.rows + codes[0], -1))
    theirs = np.where((codes[1] >= 0) & two.there, np.arange(right.rows), -1)
    size = right.rows + coding.code_count
    key_codes = replace(
        coding, codes=(mine.astype(np.int32), theirs.astype(np.int32)), code_count=size
    )
    return key_codes, _tie_findings(left, right, int((tied & (found >= 0)).sum()))


def _limit(within: Fraction, one: _Measure, two: _Measure) -> float:
    """The distance in what is measured; between whole numbers it is a whole number too."""
    if _FLOAT in (one.values.dtype, two.values.dtype):
        return float(within)
    whole: int = math.floor(within * 10**one.places)
    return whole


def _measured(
    left: Table, left_name: str, right: Table, right_name: str
) -> tuple[_Measure, _Measure]:
    measures = [_measure(left, left_name), _measure(right, right_name)]
    (one, other) = (kind for kind, _ in measures)
    # A column without any value is near nothing, whatever the other holds.
    if one != other and _NOTHING not in (one, other):
        raise UsageError(
            f"{left_name} of {left.name} is a {one}, {right_name} of {right.name} a {other}",
            remedy=wording(
                "nearest needs numbers on both sides, or dates, or times: ", Setting("type")
            ),
        )
    there = [values.is_valid().to_numpy(zero_copy_only=False) for _, values in measures]
    alike = exact_numbers.unify_numbers([values for _, values in measures])
    places = alike[0].type.scale if pa.types.is_decimal(alike[0].type) else 0
    left_units, right_units = map(_units, alike)
    return (
        _Measure(one, left_units, there[0], places),
        _Measure(other, right_units, there[1], places),
    )


def _units(values: pa.Array) -> Values:
    """Numbers as floats, or else as whole numbers of the smallest unit."""
    whole = to_scaled_integers(values) if pa.types.is_decimal(values.type) else values
    if (
        pa.types.is_decimal(whole.type)
        and exact_numbers.narrow_decimal(whole).type.precision <= _WHOLE_DIGITS
    ):
        whole = whole.cast(pa.int64())
    if not pa.types.is_decimal(whole.type):
        units: Values = whole.fill_null(0).to_numpy()
        return units
    # Too long for 64 bits: whole numbers of Python, slower and as exact.
    return np.array([int(t or 0) for t in whole.to_pylist()], object)


def _measure(table: Table, name: str) -> tuple[str, pa.Array]:
    """What a column measures, and its values: exact numbers, or microseconds."""
    cells = table.chunks(name)
    type_ = table.column_type(name)
    if type_ == EMPTY:
        return _NOTHING, pa.nulls(table.rows, pa.int64())
    to = exact_arrow_type(type_, cells)
    if is_text_type(to):
        check_sortable(table, name, wording(Setting("nearest")))
        raise _not_measurable(table, name, type_)
    chunks = [parse_column(chunk, type_, to) for chunk in cells.chunks]
    made = pa.chunked_array(chunks, to).combine_chunks()
    if exact_numbers.is_number(to):
        return "number", to_arithmetic_type(made)
    if pa.types.is_date32(to):
        days = made.cast(pa.int32()).cast(pa.int64())
        return "date", pc.multiply(days, _DAY)
    if pa.types.is_timestamp(to):
        return "date", made.cast(pa.timestamp("us", to.tz), safe=False).cast(pa.int64())
    if pa.types.is_time(to):
        return "time", made.cast(pa.time64("us")).cast(pa.int64())
    raise _not_measurable(table, name, type_)


def _not_measurable(table: Table, name: str, type_: ColumnType) -> UsageError:
    return UsageError(
        wording(
            f"{name} of {table.name} is {type_.family}; ",
            Setting("nearest"),
            " needs numbers, dates or times",
        ),
        remedy=wording("give it a type: ", Setting("type", "date:%d.%m.%Y", name), ", or the like"),
    )


def _partners(
    left: tuple[Values, Values],
    right: tuple[Values, Values],
    direction: str,
    limit: float | None,
) -> tuple[npt.NDArray[np.int64], Flags]:
    """For each left row a place among the sorted right rows, -1 for none; and whether tied."""
    codes, values = left
    other_codes, other_values = right
    known = dense_rank(other_values)[0]
    step = len(known) + 1
    place = other_codes.astype(np.int64) * step + np.searchsorted(known, other_values)
    key = codes.astype(np.int64) * step
    below = np.searchsorted(place, key + np.searchsorted(known, values, side="right")) - 1
    above = np.searchsorted(place, key + np.searchsorted(known, values))
    partners = []
    for at in (below, above):
        inside = (at >= 0) & (at < len(place))
        safe = np.where(inside, at, 0)
        same = inside & (np.append(other_codes, -2)[safe] == codes)
        with np.errstate(invalid="ignore"):  # from one infinity to another there is not a distance
            gap = np.abs(np.append(other_values, other_values.dtype.type(0))[safe] - values)
        there = same if limit is None else same & (gap <= limit).astype(bool)
        partners.append((at, gap, there))
    (below, before, one), (above, after, other) = partners
    if direction != "either":
        chosen, found = (below, one) if direction == "before" else (above, other)
        between = np.zeros(len(codes), bool)
    else:
        nearer = one & ~(other & (after < before).astype(bool))
        chosen, found = np.where(nearer, below, above), one | other
        between = one & other & (before == after).astype(bool) & (before > 0).astype(bool)
    at = np.where(found, chosen, 0)
    standing = np.append(place, -1)[at]
    first = np.searchsorted(place, standing)
    several = np.searchsorted(place, standing, side="right") - first > 1
    return np.where(found, first, -1), found & (several | between)


def _tie_findings(left: Table, right: Table, tied: int) -> tuple[Finding, ...]:
    if not tied:
        return ()
    return (
        Finding(
            "nearest-tie",
            "warning",
            tied,
            f"{pluralize(tied, 'row')} of {left.name} with several equally near rows in "
            f"{right.name}; an earlier value was preferred to a later one, then the "
            "first row in the table",
            "",
            Location(left.name),
        ),
    )
