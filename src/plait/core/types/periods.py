"""The month, week, quarter, year or day that the name of an extract says it is of."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import PurePath
from typing import Literal

from plait.core.base.errors import UsageError
from plait.core.types.month_names import MONTH_NUMBERS

Unit = Literal["day", "week", "month", "quarter", "year", "number"]
_MONTHS_A_YEAR, _QUARTERS_A_YEAR = 12, 4
_NAMES = "|".join(sorted(MONTH_NUMBERS, key=len, reverse=True))
_YEAR = r"(?P<y>(?:19|20)\d\d)"
_MONTH = r"(?P<m>0[1-9]|1[0-2])"
_DAY = r"(?P<d>0[1-9]|[12]\d|3[01])"
_PATTERNS: tuple[tuple[Unit, str], ...] = (
    ("day", rf"{_YEAR}[-_. ]?{_MONTH}[-_. ]?{_DAY}"),
    ("day", rf"{_DAY}[-_. ]{_MONTH}[-_. ]{_YEAR}"),
    ("week", rf"{_YEAR}[-_. ]?(?:w|kw|week)[-_. ]?(?P<w>0?[1-9]|[1-4]\d|5[0-3])"),
    ("quarter", rf"{_YEAR}[-_. ]?q(?P<q>[1-4])"),
    ("quarter", rf"q(?P<q>[1-4])[-_. ]?{_YEAR}"),
    ("month", rf"{_YEAR}[-_. ]?{_MONTH}"),
    ("month", rf"{_MONTH}[-_. ]{_YEAR}"),
    ("month", rf"{_YEAR}[-_. ]?(?P<name>{_NAMES})"),
    ("month", rf"(?P<name>{_NAMES})[-_. ]?{_YEAR}"),
    ("year", _YEAR),
)
_COMPILED = tuple(
    (unit, re.compile(rf"(?<![0-9]){pattern}(?![0-9])", re.IGNORECASE))
    for unit, pattern in _PATTERNS
)
_NUMBER = re.compile(r"(?<![0-9])(?P<n>\d{1,6})$")


@dataclass(frozen=True, order=True)
class Period:
    """A stretch of time, or a number, that follows others of its unit.

    Parameters
    ----------
    unit : str
        Days, weeks (ISO 8601), months, quarters, years, or just numbers.
    place : int
        Where it stands: the next one of its unit has the next place.

    Examples
    --------
    >>> march = period_of_name("inspections_2031-03")
    >>> march, str(march), str(Period("month", march.place + 10))
    (Period(unit='month', place=24374), '2031-03', '2032-01')
    >>> str(period_of_name("Visits Mai 2031.csv")), period_of_name("north")
    ('2031-05', None)
    """

    unit: Unit
    place: int

    def __str__(self) -> str:
        if self.unit == "day":
            return date.fromordinal(self.place).isoformat()
        if self.unit == "week":
            year, week, _ = self.first_day.isocalendar()
            return f"{year:04}-W{week:02}"
        if self.unit == "month":
            return f"{self.place // _MONTHS_A_YEAR:04}-{self.place % _MONTHS_A_YEAR + 1:02}"
        if self.unit == "quarter":
            return f"{self.place // _QUARTERS_A_YEAR:04}-Q{self.place % _QUARTERS_A_YEAR + 1}"
        return str(self.place)

    @property
    def first_day(self) -> date:
        """Its first day; ``ValueError`` for a number."""
        if self.unit == "day":
            return date.fromordinal(self.place)
        if self.unit == "week":
            return date.fromordinal(self.place * 7 + 1)
        if self.unit == "month":
            return date(self.place // _MONTHS_A_YEAR, self.place % _MONTHS_A_YEAR + 1, 1)
        if self.unit == "quarter":
            return date(self.place // _QUARTERS_A_YEAR, self.place % _QUARTERS_A_YEAR * 3 + 1, 1)
        if self.unit == "year":
            return date(self.place, 1, 1)
        raise ValueError("a number has no days")

    @property
    def next_day(self) -> date:
        """The day after its last one."""
        return Period(self.unit, self.place + 1).first_day


def period_of_day(day: date, unit: Unit) -> Period:
    """The period of a unit that a day is in.

    >>> str(period_of_day(date(2031, 12, 30), "week"))
    '2032-W01'
    """
    places = {
        "day": day.toordinal(),
        "week": (day.toordinal() - 1) // 7,
        "month": day.year * _MONTHS_A_YEAR + day.month - 1,
        "quarter": day.year * _QUARTERS_A_YEAR + (day.month - 1) // 3,
        "year": day.year,
    }
    return Period(unit, places[unit])


def period_of_name(name: str) -> Period | None:
    """The period in a name; ``None`` where it names none."""
    text = PurePath(name).name
    for unit, pattern in _COMPILED:
        match = pattern.search(text)
        if match and (period := _period(unit, match.groupdict())):
            return period
    return None


def periods_of_names(names: Sequence[str]) -> list[Period | None]:
    """The period of each name, all of one unit: that of most of them.

    Numbers at the end of names count where no name has a date.

    >>> [str(period) for period in periods_of_names(["visits-1", "visits-3"])]
    ['1', '3']
    """
    found = [period_of_name(name) for name in names]
    units = [period.unit for period in found if period]
    if not units:
        return [_number(name) for name in names]
    usual = max(dict.fromkeys(units), key=units.count)
    return [period if period and period.unit == usual else None for period in found]


def _number(name: str) -> Period | None:
    match = _NUMBER.search(PurePath(name).stem)
    return Period("number", int(match["n"])) if match else None


def _period(unit: Unit, parts: dict[str, str | None]) -> Period | None:
    year = int(parts["y"] or 0)
    try:
        if unit == "week":
            return period_of_day(date.fromisocalendar(year, int(parts["w"] or 0), 1), unit)
        month = MONTH_NUMBERS[(parts.get("name") or "").lower()] if parts.get("name") else 0
        month = month or int(parts.get("m") or 0) or int(parts.get("q") or 0) * 3 or 1
        return period_of_day(date(year, month, int(parts.get("d") or 1)), unit)
    except ValueError:
        return None  # there is no such day


def parse_period(text: str) -> Period | None:
    """A period as a person writes it: ``2031-03``, ``2031-W14``, ``2031``, or a number."""
    found = period_of_name(text)
    if found is None and text.strip().isdigit():
        return Period("number", int(text))
    return found


def parse_series(text: str, today: date) -> tuple[Period | None, Period]:
    """The first and the last period that somebody expects; no first one where it is not said.

    Raises
    ------
    UsageError

    Examples
    --------
    >>> [str(one) for one in parse_series("2031-01 .. 2031-12", date(2032, 1, 1))]
    ['2031-01', '2031-12']
    >>> [str(one) for one in parse_series("monthly, to last month", date(2032, 1, 7))]
    ['None', '2031-12']
    """
    first, dots, last = text.partition("..")
    if dots:
        ends = parse_period(first), parse_period(last)
        if ends[0] and ends[1] and ends[0].unit == ends[1].unit and ends[0] <= ends[1]:
            return ends[0], ends[1]
    else:
        words = [word.strip() for word in text.lower().split(",")]
        unit = next((_EACH[word] for word in words if word in _EACH), None)
        until = next((match for word in words if (match := _UNTIL.fullmatch(word))), None)
        others = [w for w in words if w not in (*_EACH, "whole") and not _UNTIL.fullmatch(w)]
        if unit and not others:
            now = period_of_day(today, unit)
            back = 1 if until is None or until[1] == "last" else 0
            return None, Period(unit, now.place - back)
    raise UsageError(
        f"{text!r} is no series of extracts",
        remedy="such as '2031-01 .. 2031-12' or 'monthly, to last month'",
    )


_EACH: dict[str, Unit] = {
    "daily": "day",
    "weekly": "week",
    "monthly": "month",
    "quarterly": "quarter",
    "yearly": "year",
}
_UNTIL = re.compile(r"to (last|this) (day|week|month|quarter|year)")
