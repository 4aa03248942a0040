"""Numbers, shares and sizes for people, and links within a page."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from urllib.parse import quote

_FEW = 3


def format_percent(part: int, whole: int) -> str:
    """A share; never 0% of something nor 100% of less than all.

    >>> [format_percent(*share) for share in ((1, 1000), (999, 1000), (1, 2), (0, 0))]
    ['<1%', '>99%', '50%', '0%']
    """
    if not whole or not part:
        return "0%"
    share = round(100 * part / whole)
    if share == 0:
        return "<1%"
    return ">99%" if share == 100 and part < whole else f"{share}%"


def format_bytes(size: int) -> str:
    """A size in bytes, with three figures at most.

    >>> format_bytes(999), format_bytes(56_300), format_bytes(2_400_000)
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


def format_change(step: Decimal | None) -> str:
    """By how much a number changed, with its sign.

    >>> format_change(Decimal("1250.50")), format_change(Decimal("-2")), format_change(None)
    ('+1,250.50', '−2', '·')
    """
    if step is None:
        return "·"
    text = f"{abs(step):,f}"
    return f"−{text}" if step < 0 else f"+{text}"


def format_source_columns(came: Sequence[tuple[str, str]]) -> str:
    """The sources and columns that a column was made from, in few words.

    >>> format_source_columns([("may", "kg"), ("june", "kg"), ("hives", "weight")])
    'kg in may, june; weight in hives'
    """
    by_column: dict[str, list[str]] = {}
    for source, column in came:
        by_column.setdefault(column, []).append(source)
    texts = []
    for column, sources in by_column.items():
        text = ", ".join(sources[:_FEW])
        more = f" and {len(sources) - _FEW} more" if len(sources) > _FEW else ""
        texts.append(f"{column} in {text}{more}")
    return "; ".join(texts[:_FEW]) + (" …" if len(texts) > _FEW else "")


def link_target(name: str) -> str:
    """A name as the end of a link in the page.

    >>> link_target("may visits"), link_target("mai")
    ('may~20visits', 'mai')
    """
    return "".join(
        sign if (sign.isascii() and sign.isalnum()) or sign in "-_" else f"~{ord(sign):x}"
        for sign in name
    )


def file_link(target: str) -> str:
    """A place in the page, or a file beside it, as a link has it.

    >>> file_link("#step-1"), file_link("aside/8-may visits.csv")
    ('#step-1', 'aside/8-may%20visits.csv')
    """
    return target if target.startswith("#") else quote(target)
