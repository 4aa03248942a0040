"""Names as people mistype them: the nearest right one, and headers that fold to the same."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Container, Iterable

_LEAST_LIKENESS = 60.0


def nearest(name: str, known: Iterable[str]) -> str:
    """``did you mean …?`` with the known name most like the given one, or nothing.

    >>> nearest("hvie", ["yard", "hive"])
    'did you mean hive?'
    >>> nearest("zzz", ["yard", "hive"])
    ''
    """
    found = nearest_name(name, known)
    return f"did you mean {found}?" if found else ""


def nearest_name(name: str, known: Iterable[str]) -> str | None:
    """The known name most like the given one, ignoring case; ``None`` when none is near."""
    from rapidfuzz import fuzz, process

    best = process.extractOne(
        name, list(known), scorer=fuzz.ratio, processor=folded, score_cutoff=_LEAST_LIKENESS
    )
    return best[0] if best else None


def folded(header: str) -> str:
    """A header without case, spaces and punctuation.

    >>> folded(" Hive-No. ")
    'hiveno'
    """
    return re.sub(r"[\W_]+", "", unicodedata.normalize("NFKC", header)).casefold()


def distinct_name(name: str, taken: Container[str]) -> str:
    """The name, or with the first free number behind it.

    >>> distinct_name("a", ["a", "a (2)"])
    'a (3)'
    """
    if name not in taken:
        return name
    number = 2
    while f"{name} ({number})" in taken:
        number += 1
    return f"{name} ({number})"
