"""Figures in words: shares and sizes; and where a column came from."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

_FEW = 3


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


def came_from(came: Sequence[tuple[str, str]]) -> str:
    """The sources and columns that a column was made from, in few words.

    >>> came_from([("may", "kg"), ("june", "kg"), ("hives", "weight")])
    'kg in may, june; weight in hives'
    """
    by_column: dict[str, list[str]] = {}
    for source, column in came:
        by_column.setdefault(column, []).append(source)
    said = []
    for column, sources in by_column.items():
        shown = ", ".join(sources[:_FEW])
        more = f" and {len(sources) - _FEW} more" if len(sources) > _FEW else ""
        said.append(f"{column} in {shown}{more}")
    return "; ".join(said[:_FEW]) + (" …" if len(said) > _FEW else "")
