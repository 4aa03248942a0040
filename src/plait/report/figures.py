"""Figures in words: shares and sizes."""

from __future__ import annotations

from decimal import Decimal


def percent(part: int, whole: int) -> str:
    """A share; never 0% of something nor 100% of less than all.

    >>> percent(1, 1000), percent(999, 1000), percent(1, 2), percent(0, 0)
    ('<1%', '>99%', '50%', '0%')
    """
    if not whole or not part:
        return "0%"
    share = round(100 * part / whole)
    if share == 0:
        return "<1%"
    return ">99%" if share == 100 and part < whole else f"{share}%"


def bytes_shown(size: int) -> str:
    """A size in bytes, with three figures at most.

    >>> bytes_shown(999), bytes_shown(56_300), bytes_shown(2_400_000)
    ('999 B', '56 kB', '2.4 MB')
    """
    if size < 1000:
        return f"{size} B"
    for unit in ("kB", "MB", "GB", "TB"):
        size_in = size / 1000
        if size_in < 1000:
            return f"{size_in:.1f} {unit}" if size_in < 10 else f"{size_in:.0f} {unit}"
        size = int(size_in)
    return f"{size} PB"


def step_shown(step: Decimal | None) -> str:
    """By how much a number changed, with its sign.

    >>> step_shown(Decimal("1250.50")), step_shown(Decimal("-2")), step_shown(None)
    ('+1,250.50', '−2', '·')
    """
    if step is None:
        return "·"
    text = f"{abs(step):,f}"
    return f"−{text}" if step < 0 else f"+{text}"
