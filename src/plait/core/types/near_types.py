"""The type that all but a few cells of a column have, and dates in several formats."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import MOST_EXAMPLES
from plait.core.types.column_type import (
    DATE,
    DATETIME,
    DECIMAL,
    INTEGER,
    TIME,
    ColumnType,
    Family,
)
from plait.core.types.date_formats import date_regex, parse_dates
from plait.core.types.inference import infer_column_type, matching_formats, may_parse_mask
from plait.core.types.value_formats import FORMS, ValueFormat, formats_by_outline

NEAR_TYPE_MIN_SHARE = 0.9
_GLANCE = 400
_LEAST_RIVAL = 0.5
_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$"

Counts = npt.NDArray[np.int64]

MIXED_DATES_MIN_SHARE = 0.95
_LEAST_CELLS = 2
_MOST_FORMS = 4
_SAMPLE = 500


def _dated(type_: ColumnType, form: str) -> ValueFormat:
    return ValueFormat(
        type_, date_regex(form), lambda cells: parse_dates(cells, form, type_.family)
    )


PLAIN = {
    form.type: form
    for form in (
        ValueFormat(INTEGER, r"^[+-]?[0-9]{1,18}$", lambda cells: pc.utf8_ltrim(cells, "+")),
        ValueFormat(DECIMAL, _NUMBER, lambda cells: pc.utf8_ltrim(cells, "+")),
        _dated(DATE, "%Y-%m-%d"),
        _dated(DATETIME, "%Y-%m-%d %H:%M:%S"),
        _dated(TIME, "%H:%M"),
    )
}


@dataclass(frozen=True)
class NearType:
    """A form, the cells that are not written in it, and forms that read as many otherwise.

    Parameters
    ----------
    form : ColumnType
        Its name, as ``--type`` takes it.
    fits, unfit : int
        Cells.
    rivals : tuple of ColumnType
        Forms that nothing proves to be less right.
    examples : tuple of str
        Some of the unfit texts.
    """

    form: ColumnType
    fits: int
    unfit: int
    rivals: tuple[ColumnType, ...]
    examples: tuple[str, ...]

    @property
    def share(self) -> float:
        """The share of cells that fit."""
        return self.fits / max(self.fits + self.unfit, 1)


def find_near_format(texts: pa.Array, times: Counts, families: Iterable[Family]) -> NearType | None:
    """The form of one of some families that most cells are written in.

    Parameters
    ----------
    texts : pyarrow.Array
        Distinct texts, none of them empty.
    times : array of int64
        Cells of each.
    families : iterable of str
        In order of preference, where two forms fit as many.

    Returns
    -------
    NearType or None
        ``None`` when no form fits any cell that is looked at first.

    Examples
    --------
    >>> cells = pa.array(["13.4.2031", "5.4.2031", "soon"])
    >>> found = find_near_format(cells, np.array([1, 8, 1]), ["date"])
    >>> str(found.form), found.unfit, found.examples
    ('date:%d.%m.%Y', 1, ('soon',))
    """
    fitting = match_formats(texts, families, _GLANCE)
    counts = {form: int(times[fits].sum()) for form, fits in fitting.items()}
    best = max(counts, key=counts.__getitem__, default=None)
    if best is None or not counts[best]:
        return None
    unfit = np.flatnonzero(~fitting[best])
    return NearType(
        best,
        counts[best],
        int(times.sum()) - counts[best],
        tuple(_rivals(best, fitting, counts)),
        tuple(texts[int(n)].as_py() for n in unfit[:MOST_EXAMPLES]),
    )


def find_near_type(texts: pa.Array, times: Counts) -> NearType | None:
    """The form of a column that is text only because of a few of its cells, if it is so.

    >>> str(find_near_type(pa.array(["12.5", "9", "ca. 7"]), np.array([9, 8, 1])).form)
    'decimal'
    >>> find_near_type(pa.array(["007", "012", "A"]), np.array([9, 8, 1]))  # no numbers at all
    """
    near_format = find_near_format(texts, times, (plain.family for plain in PLAIN))
    few = near_format is not None and near_format.unfit and near_format.share >= NEAR_TYPE_MIN_SHARE
    return (
        near_format
        if few and near_format is not None and _proved(near_format.form, texts)
        else None
    )


def _proved(form: ColumnType, texts: pa.Array) -> bool:
    """Whether the cells that fit would be of that type by themselves."""
    fitting = texts.filter(pa.array(fits_format(PLAIN.get(form) or FORMS[form], texts)))
    column = pa.chunked_array([fitting])
    return form in (infer_column_type(column), *(each.type for each in matching_formats(column)))


def match_formats(
    texts: pa.Array, families: Iterable[Family], glance: int
) -> dict[ColumnType, npt.NDArray[np.bool_]]:
    """Which texts each form of some families reads, if one of the first is written in it."""
    first = texts.slice(0, glance)
    likely = {form.type for form in formats_by_outline(first.to_pylist())}
    return {
        form.type: fits_format(form, texts)
        for family in families
        for form in _forms(family)
        if (form.type in likely or form.type in PLAIN)
        if pc.any(pc.match_substring_regex(first, form.pattern)).as_py()
    }


def _forms(family: Family) -> list[ValueFormat]:
    every = (*PLAIN.values(), *FORMS.values())
    return [form for form in every if form.family == family]


def fits_format(form: ValueFormat, texts: pa.Array) -> npt.NDArray[np.bool_]:
    """Which texts are written so and have a value: there is no 31st of February."""
    written = pc.match_substring_regex(texts, form.pattern).to_numpy(zero_copy_only=False)
    rows = np.flatnonzero(written)
    made = form.read(texts.take(pa.array(rows)))
    good = np.zeros(len(texts), bool)
    good[rows] = made.is_valid().to_numpy(zero_copy_only=False)
    return good


def _rivals(
    best: ColumnType,
    fitting: dict[ColumnType, npt.NDArray[np.bool_]],
    counts: dict[ColumnType, int],
) -> Iterable[ColumnType]:
    """Dates that another form reads as well, or that it alone reads in part."""
    if not best.has_day:
        return
    for form, reads in fitting.items():
        like = form != best and form.family == best.family
        if not like or counts[form] < _LEAST_RIVAL * counts[best]:
            continue
        if (reads & fitting[best]).any() and (
            counts[form] == counts[best] or (reads & ~fitting[best]).any()
        ):
            yield form


@dataclass(frozen=True)
class MixedDateFormats:
    """Forms that together read nearly all cells of a column.

    Parameters
    ----------
    forms : tuple of (ColumnType, int, str)
        As ``--type`` takes them, the cells that each is the first to read, and one of these.
    unfit : int
        Cells that none reads.
    rivals : tuple of ColumnType
        Forms that read as many, and nothing proves less right.
    """

    forms: tuple[tuple[ColumnType, int, str], ...]
    unfit: int
    rivals: tuple[ColumnType, ...]

    @property
    def type(self) -> ColumnType:
        """What ``--type`` takes for all of them."""
        written = (form.written or _PATTERNS[form] for form, _, _ in self.forms)
        return ColumnType(self.forms[0][0].family, "|".join(written))


_PATTERNS = {DATE: "%Y-%m-%d", DATETIME: "%Y-%m-%d %H:%M:%S"}


def find_mixed_date_formats(texts: pa.Array, times: Counts) -> MixedDateFormats | None:
    """The forms of dates that a text column mixes; ``None`` where it does not.

    Parameters
    ----------
    texts : pyarrow.Array
        Distinct texts, none of them empty.
    times : array of int64
        Cells of each.

    Examples
    --------
    >>> cells = pa.array(["2031-04-05", "2031-04-06", "13.4.2031", "14.4.2031"])
    >>> str(find_mixed_date_formats(cells, np.array([3, 2, 1, 1])).type)
    'date:%Y-%m-%d|%d.%m.%Y'
    """
    if (
        not len(texts)
        or not may_parse_mask(texts.slice(0, _SAMPLE)).mean() >= MIXED_DATES_MIN_SHARE
    ):
        return None
    for family in (DATE.family, DATETIME.family):
        mixed_date_formats = _of_family(family, texts, times)
        if mixed_date_formats is not None:
            return mixed_date_formats
    return None


def _of_family(family: Family, texts: pa.Array, times: Counts) -> MixedDateFormats | None:
    reads = match_formats(texts, [family], _SAMPLE)
    left = np.ones(len(texts), bool)
    chosen: list[tuple[ColumnType, int, str]] = []
    rivals: list[ColumnType] = []
    while reads and len(chosen) < _MOST_FORMS:
        counts = {form: int(times[read & left].sum()) for form, read in reads.items()}
        best = max(counts, key=counts.__getitem__)
        if counts[best] < _LEAST_CELLS:
            break
        rivals += _alike(best, reads, left)
        first = int(np.flatnonzero(reads[best] & left)[0])
        chosen.append((best, counts[best], texts[first].as_py()))
        left &= ~reads.pop(best)
    unfit = int(times[left].sum())
    if len(chosen) < 2 or unfit > (1 - MIXED_DATES_MIN_SHARE) * times.sum():
        return None
    return MixedDateFormats(tuple(chosen), unfit, tuple(rivals))


def _alike(
    best: ColumnType, reads: dict[ColumnType, npt.NDArray[np.bool_]], left: npt.NDArray[np.bool_]
) -> Iterable[ColumnType]:
    """Other forms that read exactly the same cells."""
    mine = reads[best] & left
    return [form for form, read in reads.items() if form != best and (read[mine]).all()]
