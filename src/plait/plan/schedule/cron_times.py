"""When a plan runs: the five fields of crontab, and which times those are."""

from __future__ import annotations

import calendar
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, tzinfo
from itertools import islice

from plait.core.base.errors import UsageError
from plait.core.base.names import closest_name

_NAMES = ("minute", "hour", "day of the month", "month", "day of the week")
_BOUNDS = ((0, 59), (0, 23), (1, 31), (1, 12), (0, 7))
DAYS = ("sun", "mon", "tue", "wed", "thu", "fri", "sat")
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_MOST_DAYS = 366 * 9  # a 29 February comes again within eight years


@dataclass(frozen=True)
class CronExpression:
    """The times at which a plan runs.

    Parameters
    ----------
    fields : tuple of str
        As crontab has them: minute, hour, day of the month, month, day of the week.
    words : str
        The same in words.
    """

    fields: tuple[str, str, str, str, str]
    words: str

    def __str__(self) -> str:
        return " ".join(self.fields)

    def values(self) -> tuple[frozenset[int], ...]:
        """The numbers that each field means; Sunday is 0."""
        found = [_values(*f) for f in zip(self.fields, range(5), strict=True)]
        days = frozenset(0 if day == 7 else day for day in found[4])
        return (*found[:4], days)

    @property
    def either_day(self) -> bool:
        """Whether it is enough that one of the two fields of days fits: crontab's own rule."""
        return not self.fields[2].startswith("*") and not self.fields[4].startswith("*")

    def fits(self, day: datetime) -> bool:
        """Whether it runs on a day."""
        _, _, days, months, weekdays = self.values()
        of_month, of_week = day.day in days, (day.weekday() + 1) % 7 in weekdays
        one = of_month or of_week if self.either_day else of_month and of_week
        return one and day.month in months


def daily(text: str) -> CronExpression:
    """Every day at a time of day.

    >>> str(daily("06:00"))
    '0 6 * * *'
    """
    hour, minute = _clock(text, "daily", "06:00")
    return CronExpression(
        (str(minute), str(hour), "*", "*", "*"), f"every day at {hour:02}:{minute:02}"
    )


def weekly(day: str, text: str) -> CronExpression:
    """Every week on a day, ``mon`` or ``monday``, at a time of day."""
    hour, minute = _clock(text, "weekly", "mon 06:00")
    known = {name: name for name in DAYS} | {name.lower()[:3]: name for name in DAYS}
    message = known.get(day.lower()[:3]) if len(day) > 2 else None
    whole = [name.lower() for name in calendar.day_name]
    if message is None or not any(name.startswith(day.lower()) for name in whole):
        near = closest_name(day, DAYS)
        raise UsageError(f"unknown day {day!r}", remedy=near or f"one of {', '.join(DAYS)}")
    at = DAYS.index(message)
    name = calendar.day_name[(at - 1) % 7]
    return CronExpression(
        (str(minute), str(hour), "*", "*", str(at)), f"every {name} at {hour:02}:{minute:02}"
    )


def monthly(day: str, text: str) -> CronExpression:
    """Every month on a day, from 1 to 31, at a time of day; a month without it has none."""
    hour, minute = _clock(text, "monthly", "1 06:00")
    if not day.isdecimal() or not 1 <= int(day) <= 31:
        raise UsageError(f"no month has a day {day!r}", remedy="write 1 to 31: 1 06:00")
    words = f"every month on day {int(day)} at {hour:02}:{minute:02}"
    words += "; months without that day are skipped" if int(day) > 28 else ""
    return CronExpression((str(minute), str(hour), str(int(day)), "*", "*"), words)


def parse_cron(text: str) -> CronExpression:
    """As the five fields of crontab say.

    Raises
    ------
    UsageError
        For fields that are none, or that mean no day there is.
    """
    fields = tuple(text.split())
    if len(fields) != 5:
        raise UsageError(
            f"{text!r} has {len(fields)} fields, and crontab has five",
            remedy="minute, hour, day of the month, month, day of the week: '*/15 8-17 * * 1-5'",
        )
    when = CronExpression(fields, f"as in a crontab: {' '.join(fields)}")
    when.values()
    if next(_days(when, datetime(2028, 1, 1)), None) is None:
        raise UsageError(
            f"{text!r} never falls on a real date", remedy="check the day and the month"
        )
    return when


def _clock(text: str, option: str, example: str) -> tuple[int, int]:
    hour, sign, minute = text.partition(":")
    written = sign and hour.isdecimal() and minute.isdecimal() and len(minute) == 2
    if written and int(hour) < 24 and int(minute) < 60:
        return int(hour), int(minute)
    raise UsageError(f"{text!r} is not a time of day", remedy=f"write --{option} {example}")


def _values(text: str, at: int) -> frozenset[int]:
    """The numbers of a field: ``*``, ``5``, ``1-5``, ``*/15``, ``mon``, and several with commas."""
    low, high = _BOUNDS[at]
    found: set[int] = set()
    for part in text.split(","):
        span, sign, step = part.partition("/")
        width = _number(step, at, 1, 99) if sign else 1
        if span == "*":
            first, last = low, high if at < 4 else 6
        else:
            begin, dash, end = span.partition("-")
            first = _number(begin, at, low, high)
            last = _number(end, at, low, high) if dash else (high if sign else first)
        if first > last:
            raise UsageError(
                f"the range {part!r} runs backwards: {_NAMES[at]}",
                remedy="put the lower value first",
            )
        found.update(range(first, last + 1, width))
    return frozenset(found)


def _number(text: str, at: int, low: int, high: int) -> int:
    names = {
        3: dict(zip(_MONTHS, range(1, 13), strict=True)),
        4: dict(zip(DAYS, range(7), strict=True)),
    }
    known = names.get(at, {}).get(text.lower())
    if known is not None:
        return known
    if not text.isdecimal() or not low <= int(text) <= high:
        raise UsageError(
            f"{text!r} is not a valid {_NAMES[at]}", remedy=f"a number from {low} to {high}, or *"
        )
    return int(text)


def _days(when: CronExpression, begin: datetime) -> Iterator[datetime]:
    """The days on which it runs, from one on."""
    for number in range(_MOST_DAYS):
        day = begin + timedelta(days=number)
        if when.fits(day):
            yield day


def next_runs(
    when: CronExpression, moment: datetime, zone: tzinfo | None = None
) -> Iterator[datetime]:
    """The next times at which a plan runs.

    Parameters
    ----------
    moment : datetime
        With its distance from UTC; times are after it.
    zone : tzinfo, optional
        Of the clock that the scheduler goes by; without it this machine's.

    Notes
    -----
    A time that the change of clocks leaves out comes as much later; one that comes twice is
    taken once. So do cron and systemd.

    Examples
    --------
    >>> leap = next_runs(monthly("29", "06:00"), datetime(2032, 2, 1, tzinfo=UTC), UTC)
    >>> next(leap).isoformat()
    '2032-02-29T06:00:00+00:00'
    """
    here = moment.astimezone(zone).replace(tzinfo=None)
    midnight = here.replace(hour=0, minute=0, second=0, microsecond=0) - timedelta(days=1)
    minutes, hours, *_ = when.values()
    last = moment
    for day in _days(when, midnight):
        for hour in sorted(hours):
            for minute in sorted(minutes):
                there = _on_the_clock(day.replace(hour=hour, minute=minute), zone)
                if there > last:
                    last = there
                    yield there


def _on_the_clock(time: datetime, zone: tzinfo | None) -> datetime:
    """A time of a clock on the wall; where the clock has left it out, as much later."""
    if zone is None:
        return time.astimezone(UTC).astimezone()
    return time.replace(tzinfo=zone).astimezone(UTC).astimezone(zone)


def next_run_times(
    when: CronExpression, moment: datetime, number: int = 3, zone: tzinfo | None = None
) -> list[datetime]:
    """The next few of them."""
    return list(islice(next_runs(when, moment, zone), number))
