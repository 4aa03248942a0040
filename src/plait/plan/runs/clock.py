"""What time it is: given to what needs to know, so that any time can be tried."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

Clock = Callable[[], datetime]


def now() -> datetime:
    """The time here, with its distance from UTC."""
    return datetime.now().astimezone()


def day_and_time(moment: str) -> str:
    """A time of a history as people read it, as it was on the clock of that place.

    >>> day_and_time("2031-05-03T06:00:00+02:00")
    '2031-05-03 06:00'
    """
    return moment[:16].replace("T", " ")
