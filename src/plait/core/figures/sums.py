"""Sums of groups, exact for integers and decimals of any length, and means."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.codes.groups import Groups
from plait.core.codes.ordering import numbers_in_words
from plait.core.store.shelf import in_one_piece, in_steps, kept, stepwise
from plait.core.table.table import Table
from plait.core.text.cells import is_text
from plait.core.text.digits import MOST_DIGITS, TooManyDigitsError, decimal_text, plain, short_text
from plait.core.types import exact
from plait.core.types.forms import base
from plait.core.types.kinds import NUMBERS, as_kind, exact_type

_LIMB = np.int64(0xFFFFFFFF)
_LIMB_BITS = 32
_LARGEST = 2.0**62

Counts = npt.NDArray[np.int64]


def check_numbers(table: Table, name: str, figure: str) -> str:
    """The kind of a column that must hold numbers.

    Raises
    ------
    UsageError
    """
    cells = table.whole(name)
    kind = table.kind(name)
    if base(kind) not in NUMBERS and kind != "empty" and not exact.is_number(cells.type):
        said = numbers_in_words(table, name) if kind == "text" else ""
        raise UsageError(
            f"{name} is {kind}, and {figure} takes numbers{': ' * bool(said)}{said}",
            table.name,
            f"--type '{name}=decimal' --unfit missing, or another figure",
        )
    return kind


def numbers_of(table: Table, name: str, figure: str) -> pa.Array:
    """The numbers of a column, exact unless its source has floats: int64, a decimal, float64.

    Raises
    ------
    UsageError
        For a column of what is no number.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> numbers_of(from_columns("t", {"kg": ["0.10", "", "NA"]}), "kg", "sum").to_pylist()
    [Decimal('0.10'), None, None]
    """
    kind = check_numbers(table, name, figure)
    cells = table.whole(name)
    if kind == "empty":
        return pa.nulls(table.rows, pa.int64())
    to = exact_type(kind, cells)
    return plain(in_one_piece(kept((as_kind(chunk, kind, to) for chunk in cells.chunks), to)))


def exact_sums(values: pa.Array, groups: Groups) -> pa.Array:
    """The sum of each group; missing where all its values are.

    Parameters
    ----------
    values : pyarrow.Array
        One a row, as ``numbers_of`` gives them.
    groups : Groups

    Returns
    -------
    pyarrow.Array
        Decimals with as many places as the values, or floats.

    Raises
    ------
    UsageError
        When a sum needs more than 76 digits.

    Notes
    -----
    Values of more than 62 bits are cut into limbs of 32 bits, each of which is
    summed by itself, and the carries brought on afterwards (Knuth vol. 2,
    section 4.3.1).

    Examples
    --------
    >>> from plait.core.codes.groups import grouped
    >>> cells = exact.from_texts(pa.array(["99999999999999", "0.5", "0.000001", None]))
    >>> exact_sums(cells, grouped(np.array([0, 0, 0, 1]), 2)).to_pylist()
    [Decimal('99999999999999.500001'), None]
    """
    times = counted(values, groups)
    if pa.types.is_floating(values.type):
        sums = _added(_plain_numbers(values), groups)
        return pa.array(sums, mask=times == 0)
    scale = 0 if pa.types.is_integer(values.type) else values.type.scale
    words = _words(_limbs(values), groups)
    made = stepwise(lambda some: exact.from_words(some, scale), words)
    _check_size(made)
    nothing = pa.scalar(None, made.type)
    return stepwise(lambda some, no: pc.if_else(pa.array(no), nothing, some), made, times == 0)


def _plain_numbers(values: pa.Array) -> npt.NDArray[Any]:
    """Integers or floats of 64 bits as NumPy has them, 0 for those that are missing."""
    kind = np.int64 if pa.types.is_integer(values.type) else np.float64
    if values.type.bit_width != 64 or values.buffers()[1] is None:
        return np.asarray(values.fill_null(0).to_numpy(zero_copy_only=False))
    stored = np.frombuffer(values.buffers()[1], kind, len(values), values.offset * 8)
    if not values.null_count:
        return stored
    valid = values.is_valid().to_numpy(zero_copy_only=False)
    return in_steps(
        np.empty(len(stored), kind), lambda a, there: np.where(there, a, 0), stored, valid
    )


def counted(values: pa.Array, groups: Groups) -> Counts:
    """How many values there are in each group."""
    if not values.null_count or not len(groups.rows):
        return groups.counts.astype(np.int64, copy=False)
    there = values.is_valid().to_numpy(zero_copy_only=False).take(groups.rows)
    times: Counts = np.add.reduceat(there, groups.offsets[:-1], dtype=np.int64)
    return times


def _added(values: npt.NDArray[Any], groups: Groups) -> npt.NDArray[Any]:
    if not len(groups.rows):
        return np.zeros(groups.size, values.dtype)
    sums: npt.NDArray[Any] = np.add.reduceat(values[groups.rows], groups.offsets[:-1])
    return sums


def _limbs(values: pa.Array) -> list[npt.NDArray[np.int64]]:
    """The values as whole numbers of their smallest unit: one limb, or several of 32 bits."""
    words = _stored_words(values)
    highest = words[:, -1]
    if words.shape[1] == 1 and np.abs(highest.astype(np.float64)).sum() < _LARGEST:
        return [highest]
    limbs = []
    for number in range(words.shape[1]):
        word = words[:, number]
        limbs += [word & _LIMB, (word >> _LIMB_BITS) & _LIMB]
    limbs[-1] = highest >> _LIMB_BITS  # only the highest has a sign
    return limbs


def _stored_words(values: pa.Array) -> npt.NDArray[np.int64]:
    """The 64-bit words of each value, the lowest first; 0 for one that is missing."""
    if pa.types.is_integer(values.type):
        return _plain_numbers(values).reshape(-1, 1)
    size = values.type.bit_width // 64
    stored = np.frombuffer(values.buffers()[1], np.int64).reshape(-1, size)
    words = stored[values.offset : values.offset + len(values)]
    if values.null_count:
        words = np.where(values.is_valid().to_numpy(zero_copy_only=False)[:, None], words, 0)
    short = words[:, :1]
    # Most decimals are short: what they have above the first word is their sign.
    return short if size > 1 and (words[:, 1:] == short >> np.int64(63)).all() else words


def _words(limbs: list[npt.NDArray[np.int64]], groups: Groups) -> npt.NDArray[np.int64]:
    """The sums of each group, as words."""
    if len(limbs) == 1:
        low = _added(limbs[0], groups)
        return np.column_stack([low, low >> np.int64(63)])
    made = np.zeros((groups.size, 8), np.int64)
    carry = np.zeros(groups.size, np.int64)
    for number in range(8):
        total = carry + (_added(limbs[number], groups) if number < len(limbs) else 0)
        made[:, number] = total & _LIMB
        carry = total >> _LIMB_BITS
    low, high = made[:, ::2].astype(np.uint64), made[:, 1::2].astype(np.uint64)
    words: npt.NDArray[np.int64] = (low | (high << np.uint64(_LIMB_BITS))).view(np.int64)
    return words


def _check_size(sums: pa.Array) -> None:
    if sums.type.bit_width == 256 and len(sums):
        try:
            exact.narrowed(sums)
        except (TooManyDigitsError, pa.ArrowInvalid):
            raise UsageError(
                f"a sum has more than {MOST_DIGITS} digits", remedy="choose another rule"
            ) from None


def means(values: pa.Array, groups: Groups) -> pa.Array:
    """The mean of the values of each group, rounded to 20 places; missing without any.

    >>> from plait.core.codes.groups import grouped
    >>> cells = exact.from_texts(pa.array(["0.1", "0.2", "0.3"]))
    >>> means(cells, grouped(np.array([0, 0, 0]), 1)).to_pylist()
    [Decimal('0.20000000000000000000')]
    """
    return quotient(exact_sums(values, groups), pa.array(counted(values, groups)))


def quotient(left: pa.Array, right: Any) -> pa.Array:
    """A quotient of figures.

    Raises
    ------
    UsageError
        When it needs more digits than there are.
    """
    try:
        return _divided(left, right)
    except TooManyDigitsError:
        raise UsageError(
            f"a figure needs more than {MOST_DIGITS} digits", remedy="choose another figure"
        ) from None


def _divided(left: pa.Array, right: Any) -> pa.Array:
    if isinstance(right, pa.Scalar):
        return stepwise(lambda some: exact.divide(some, right), left)
    return stepwise(exact.divide, left, right)


def as_cells(values: pa.Array) -> pa.Array:
    """Figures as text: decimals with all their places, floats as short as they can be read back."""
    return stepwise(decimal_text if pa.types.is_decimal(values.type) else _short, values)


def as_short_cells(values: pa.Array) -> pa.Array:
    """The same, without zeros at the end of the places."""
    return stepwise(short_text if pa.types.is_decimal(values.type) else _short, values)


def _short(values: pa.Array) -> pa.Array:
    return values if is_text(values.type) else values.cast(pa.string())
