"""When plans run: month ends, leap days, the change of clocks; against minutes counted singly."""

from __future__ import annotations

import random
import time
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest

from cases import cases
from plait.core.base.errors import UsageError
from plait.plan.schedule.cron_times import (
    CronExpression,
    daily,
    monthly,
    next_run_times,
    next_runs,
    parse_cron,
    weekly,
)

BERLIN = ZoneInfo("Europe/Berlin")


def fits(fields: list[str], moment: datetime) -> bool:
    """Whether crontab's manual says that a minute is one of them."""

    def one(text: str, value: int, low: int, high: int) -> bool:
        for part in text.split(","):
            span, _, step = part.partition("/")
            begin, _, end = span.partition("-")
            first = low if begin == "*" else int(begin)
            last = high if begin == "*" else int(end or (high if step else begin))
            if first <= value <= last and (value - first) % int(step or 1) == 0:
                return True
        return False

    minute, hour, day, month, weekday = fields
    week = (moment.weekday() + 1) % 7
    on_day = one(day, moment.day, 1, 31)
    on_week = one(weekday, week, 0, 7) or (week == 0 and one(weekday, 7, 0, 7) and weekday != "*")
    either = not day.startswith("*") and not weekday.startswith("*")
    days = on_day or on_week if either else on_day and on_week
    return (
        days
        and one(minute, moment.minute, 0, 59)
        and one(hour, moment.hour, 0, 23)
        and one(month, moment.month, 1, 12)
    )


def test_next_runs_are_those_that_counting_minutes_finds():
    rng = random.Random(7)
    for _ in range(cases(90)):
        fields = [
            rng.choice(["*", "0", "59", "*/15", "5-50/9", "3,7"]),
            rng.choice(["*", "6", "0,23", "8-17"]),
            rng.choice(["*", "1", "31", "29", "*/10", "13-15"]),
            rng.choice(["*", "2", "1-3"]),
            rng.choice(["*", "1", "0", "7", "1-5", "*/2"]),
        ]
        begin = datetime(2032, rng.randint(1, 3), rng.randint(1, 28), 5, 30, tzinfo=UTC)
        expected, moment = [], begin
        while len(expected) < 5 and moment < begin + timedelta(days=40):
            moment += timedelta(minutes=1)
            if fits(fields, moment):
                expected.append(moment)
        try:
            when = parse_cron(" ".join(fields))
        except UsageError:
            assert not expected, fields
            continue
        found = next_run_times(when, begin, 5, UTC)
        assert found[: len(expected)] == expected, fields


def test_a_day_that_a_month_has_not_is_passed_over():
    runs = next_run_times(monthly("31", "06:00"), datetime(2031, 1, 31, 7, tzinfo=UTC), 3, UTC)
    assert [one.strftime("%m-%d") for one in runs] == ["03-31", "05-31", "07-31"]


def test_a_leap_day_comes_every_four_years():
    runs = next_run_times(parse_cron("0 6 29 2 *"), datetime(2031, 1, 1, tzinfo=UTC), 2, UTC)
    assert [one.year for one in runs] == [2032, 2036]


def test_an_hour_that_the_change_of_clocks_leaves_out_comes_later():
    """In Berlin the clock went from 02:00 to 03:00 on 30 March 2031."""
    runs = next_run_times(daily("02:30"), datetime(2031, 3, 29, 3, tzinfo=BERLIN), 2, BERLIN)
    assert [one.isoformat() for one in runs] == [
        "2031-03-30T03:30:00+02:00",
        "2031-03-31T02:30:00+02:00",
    ]


def test_an_hour_that_comes_twice_is_taken_once():
    """In Berlin the clock went from 03:00 back to 02:00 on 26 October 2031."""
    runs = next_run_times(daily("02:30"), datetime(2031, 10, 25, 12, tzinfo=BERLIN), 3, BERLIN)
    assert [one.strftime("%d %H:%M") for one in runs] == ["26 02:30", "27 02:30", "28 02:30"]
    assert len({one.astimezone(UTC) for one in runs}) == 3


def test_the_clock_of_this_machine_is_gone_by(monkeypatch):
    """Its distance from UTC now is not that of a day after the change of clocks."""
    monkeypatch.setenv("TZ", "Europe/Berlin")
    time.tzset()
    try:
        runs = next_run_times(daily("06:00"), datetime(2031, 3, 29, 5, tzinfo=UTC).astimezone(), 2)
        assert [one.isoformat() for one in runs] == [
            "2031-03-30T06:00:00+02:00",
            "2031-03-31T06:00:00+02:00",
        ]
    finally:
        monkeypatch.undo()
        time.tzset()


def test_runs_are_after_the_moment_however_it_is_written():
    moment = datetime(2031, 5, 3, 4, 0, tzinfo=UTC)  # 06:00 in Berlin
    assert next(next_runs(daily("06:00"), moment, BERLIN)).day == 4
    assert next(next_runs(daily("06:01"), moment, BERLIN)).day == 3


@pytest.mark.parametrize(
    ("made", "fields"),
    [
        (daily("6:05"), "5 6 * * *"),
        (weekly("mon", "06:00"), "0 6 * * 1"),
        (weekly("Sunday", "23:59"), "59 23 * * 0"),
        (monthly("1", "00:00"), "0 0 1 * *"),
        (parse_cron("*/15 8-17 * * mon-fri"), "*/15 8-17 * * mon-fri"),
    ],
)
def test_the_fields_of_crontab(made: CronExpression, fields: str):
    assert str(made) == fields and made.words
