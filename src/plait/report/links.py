"""Links of a page: to places in it, and to files beside it."""

from __future__ import annotations

from urllib.parse import quote


def anchor(name: str) -> str:
    """A name as the end of a link in the page.

    >>> anchor("may visits"), anchor("mai")
    ('may~20visits', 'mai')
    """
    return "".join(
        sign if (sign.isascii() and sign.isalnum()) or sign in "-_" else f"~{ord(sign):x}"
        for sign in name
    )


def link(target: str) -> str:
    """A place in the page, or a file beside it, as a link has it.

    >>> link("#step-1"), link("aside/8-may visits.csv")
    ('#step-1', 'aside/8-may%20visits.csv')
    """
    return target if target.startswith("#") else quote(target)
