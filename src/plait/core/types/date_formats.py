"""Dates and times as they are written: a form such as ``%d.%m.%Y``, and cells read by it."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.types.month_names import MONTH_NUMBERS, NAME_LETTER

_DIRECTIVE_PATTERNS = {
    "d": r"(?P<d>[0-9]{1,2})",
    "m": r"(?P<m>[0-9]{1,2})",
    "Y": r"(?P<Y>[0-9]{4})",
    "y": r"(?P<y>[0-9]{2})",
    "b": rf"(?P<b>{NAME_LETTER}{{3,6}})\.?",
    "B": rf"(?P<b>{NAME_LETTER}{{3,11}})\.?",
    "q": r"(?P<q>[1-4])",
    "G": r"(?P<G>[0-9]{4})",
    "V": r"(?P<V>[0-9]{2})",
    "H": r"(?P<H>[0-9]{1,2})",
    "I": r"(?P<I>[0-9]{1,2})",
    "M": r"(?P<M>[0-9]{2})",
    "S": r"(?P<S>[0-9]{2})",
    "f": r"(?P<f>[0-9]{1,6})",
    "p": r"(?P<p>[AaPp])\.?[Mm]\.?",
    "z": r"(?P<z>Z|[+-][0-9]{2}:?[0-9]{2})",
    "%": "%",
}
#: The days of the calendar, 0001-01-01 and 9999-12-31, from 1970-01-01.
FIRST_DAY, LAST_DAY = -719_162, 2_932_896
_CENTURY_TURNS = 69  # as POSIX has it: 69 is 1969, 68 is 2068
_DAY = 86_400_000_000

Numbers = npt.NDArray[np.int64]


@lru_cache(maxsize=64)
def date_regex(form: str) -> str:
    """The regular expression of a form, with a named group for each part.

    Raises
    ------
    UsageError
        For a sign that is not known, or one that comes twice.

    Examples
    --------
    >>> date_regex("%Y/%m")
    '^(?P<Y>[0-9]{4})/(?P<m>[0-9]{1,2})$'
    """
    made, place = "", 0
    for match in re.finditer(r"%(.?)", form):
        if match[1] not in _DIRECTIVE_PATTERNS:
            raise UsageError(
                f"date formats have no code %{match[1]}",
                remedy=f"one of %{' %'.join(_DIRECTIVE_PATTERNS)}",
            )
        made += re.escape(form[place : match.start()]) + _DIRECTIVE_PATTERNS[match[1]]
        place = match.end()
    made += re.escape(form[place:])
    groups = re.findall(r"\(\?P<(\w)>", made)
    if len(set(groups)) < len(groups) or not groups:
        raise UsageError(
            f"{form!r} is not a date format", remedy="such as %d.%m.%Y or %d %B %Y %H:%M"
        )
    return f"^{made}$"


def parse_dates(cells: pa.Array, form: str, kind: str) -> pa.Array:
    """Cells read by a form; missing where they cannot be, or there is no such day or time.

    Parameters
    ----------
    cells : pyarrow.Array
        Text.
    form : str
        As ``%d.%m.%Y``: day, month and year as numbers; ``%b`` and ``%B`` are names of
        months, in English, French, German, Spanish, Italian, Portuguese or Dutch. ``%q`` is a
        quarter, of which its first day is taken; ``%G`` and ``%V`` are year and week of ISO 8601,
        of which its Monday.

    Returns
    -------
    pyarrow.Array
        Of date32, timestamp[us] (in UTC where the form has a zone) or time64[us].

    Examples
    --------
    >>> parse_dates(pa.array(["5.4.2031", "31.2.2031"]), "%d.%m.%Y", "date").to_pylist()
    [datetime.date(2031, 4, 5), None]
    """
    found = pc.extract_regex(cells, date_regex(form))
    parts = {field.name: pc.struct_field(found, field.name) for field in found.type}
    good = ~found.is_null().to_numpy(zero_copy_only=False)
    days, moment = np.zeros(len(cells), np.int64), np.zeros(len(cells), np.int64)
    if kind != "time":
        days, valid = _days(parts, len(cells))
        good &= valid
    if kind != "date":
        moment, valid = _moment(parts, len(cells))
        good &= valid
    absent = ~good
    if kind == "date":
        return pa.array(days.astype(np.int32), mask=absent).view(pa.date32())
    if kind == "time":
        return pa.array(moment, mask=absent).view(pa.time64("us"))
    zone = "UTC" if "z" in parts else None
    return pa.array(days * _DAY + moment, mask=absent).view(pa.timestamp("us", zone))


def _number(parts: dict[str, pa.Array], sign: str, length: int, default: int) -> Numbers:
    if sign not in parts:
        return np.full(length, default, np.int64)
    numbers: Numbers = pc.fill_null(pc.cast(parts[sign], pa.int64()), default).to_numpy()
    return numbers


def _days(parts: dict[str, pa.Array], length: int) -> tuple[Numbers, npt.NDArray[np.bool_]]:
    """Days since 1970-01-01, and which of them there are."""
    if "V" in parts:
        return _mondays(_number(parts, "G", length, 1970), _number(parts, "V", length, 1))
    year = _number(parts, "Y", length, 1970)
    if "y" in parts:
        short = _number(parts, "y", length, 0)
        year = short + np.where(short < _CENTURY_TURNS, 2000, 1900)
    month = _month(parts["b"]) if "b" in parts else _number(parts, "m", length, 1)
    if "q" in parts:
        month = _number(parts, "q", length, 1) * 3 - 2
    day = _number(parts, "d", length, 1)
    months = (year - 1970) * 12 + np.clip(month, 1, 12) - 1
    days = months.astype("M8[M]").astype("M8[D]") + (day - 1)
    same = days.astype("M8[M]").astype(np.int64) == months
    valid = same & (month >= 1) & (month <= 12) & (day >= 1) & (year >= 1)
    return days.astype(np.int64), valid


def _mondays(year: Numbers, week: Numbers) -> tuple[Numbers, npt.NDArray[np.bool_]]:
    """The first days of weeks; the first week of a year has its fourth of January."""
    fourth = (year - 1970).astype("M8[Y]").astype("M8[D]").astype(np.int64) + 3
    monday = fourth - (fourth + 3) % 7  # the first of January 1970 was a Thursday
    days = monday + (week - 1) * 7
    # The Thursday of a week is in the year that the week is of.
    thursdays = (days + 3).astype("M8[D]").astype("M8[Y]").astype(np.int64) + 1970
    return days, (week >= 1) & (thursdays == year)


def _month(names: pa.Array) -> Numbers:
    place = pc.index_in(pc.utf8_lower(names), pa.array(list(MONTH_NUMBERS)))
    numbers = np.append(list(MONTH_NUMBERS.values()), 0)
    found: Numbers = numbers[pc.fill_null(pc.cast(place, pa.int64()), -1).to_numpy()]
    return found


def _moment(parts: dict[str, pa.Array], length: int) -> tuple[Numbers, npt.NDArray[np.bool_]]:
    """Microseconds since midnight, and which of them there are."""
    hour = _number(parts, "H", length, 0)
    valid = hour < 24
    if "I" in parts:
        twelve = _number(parts, "I", length, 12)
        valid = (twelve >= 1) & (twelve <= 12)
        hour = twelve % 12
        if "p" in parts:
            hour = hour + 12 * _is(parts["p"], "p")
    minute, second = _number(parts, "M", length, 0), _number(parts, "S", length, 0)
    micro = _fraction(parts["f"]) if "f" in parts else 0
    moment = ((hour * 60 + minute) * 60 + second) * 1_000_000 + micro
    if "z" in parts:
        moment = moment - _zone(parts["z"]) * 60_000_000
    return moment, valid & (minute < 60) & (second < 60)


def _is(texts: pa.Array, sign: str) -> npt.NDArray[np.bool_]:
    same: npt.NDArray[np.bool_] = pc.fill_null(
        pc.equal(pc.utf8_lower(texts), sign), False
    ).to_numpy(zero_copy_only=False)
    return same


def _fraction(digits: pa.Array) -> Numbers:
    numbers: Numbers = pc.fill_null(pc.cast(pc.utf8_rpad(digits, 6, "0"), pa.int64()), 0).to_numpy()
    return numbers


def _zone(texts: pa.Array) -> Any:
    """Minutes east of UTC."""
    plain = pc.replace_substring(pc.if_else(pc.equal(texts, "Z"), "+0000", texts), ":", "")
    number = pc.fill_null(pc.cast(pc.utf8_slice_codeunits(plain, 1, 5), pa.int64()), 0).to_numpy()
    sign = np.where(_is(pc.utf8_slice_codeunits(plain, 0, 1), "-"), -1, 1)
    return sign * (number // 100 * 60 + number % 100)
