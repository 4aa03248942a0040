"""Looser ways to compare keys: the spellings that ``--ignore`` takes for equal.

The functions work on distinct texts, not on rows, and make no cell of any
result: they only decide which keys count as the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.errors import UsageError
from plait.core.names import nearest


def _case(texts: pa.Array) -> pa.Array:
    # Upper first: it folds what has one capital and two small forms.
    return pc.replace_substring(pc.utf8_lower(pc.utf8_upper(texts)), "ß", "ss")


def _space(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"[\s\p{Z}]+", "")


def _punctuation(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"[\p{P}\p{S}]+", "")


def _accents(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(pc.utf8_normalize(texts, "NFKD"), r"\p{Mn}+", "")


def _leading_zeros(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"^\s*0+([0-9])", r"\1")


WAYS: dict[str, Callable[[pa.Array], pa.Array]] = {
    "accents": _accents,
    "case": _case,
    "punctuation": _punctuation,
    "space": _space,
    "leading-zeros": _leading_zeros,
}


def checked_ways(ignore: Iterable[str]) -> tuple[str, ...]:
    """The names in the order in which they are applied.

    Raises
    ------
    UsageError
        For a name that is not one of ``WAYS``.
    """
    ignore = set(ignore)
    for name in sorted(ignore - set(WAYS)):
        raise UsageError(
            f"nothing called {name!r} can be ignored",
            remedy=nearest(name, WAYS) or f"one of {', '.join(WAYS)}",
        )
    return tuple(way for way in WAYS if way in ignore)


def loosened(texts: pa.Array, ignore: Iterable[str]) -> pa.Array:
    """The texts with what is ignored taken out of them.

    >>> loosened(pa.array([" y-07", "Ÿ7"]), ["case", "space", "punctuation"]).to_pylist()
    ['y07', 'ÿ7']
    """
    for way in checked_ways(ignore):
        texts = WAYS[way](texts)
    return texts
