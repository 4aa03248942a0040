"""The key sets of several tables against each other: who holds which keys."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.base.wording import Setting, wording
from plait.core.codes.dense_codes import Counts, dense_rank

MOST_TABLES = 62
_MOST_PAIRED = 8


T = TypeVar("T")


@dataclass(frozen=True)
class KeySetOverlap:
    """The keys of two tables against each other; ``rows`` are rows on those keys.

    ``cardinality`` is as found, left to right, judged on the keys that match.
    """

    left: str
    right: str
    keys_in_both: int
    keys_only_left: int
    keys_only_right: int
    left_rows_in_both: int
    right_rows_in_both: int
    rows_only_left: int
    rows_only_right: int
    cardinality: str


@dataclass(frozen=True)
class KeySetRegion:
    """Keys that are in exactly these sources.

    Parameters
    ----------
    rows : tuple of int
        On these keys, in each of the sources.
    """

    sources: tuple[str, ...]
    keys: int
    rows: tuple[int, ...]


def pairwise_overlaps(names: Sequence[str], counts: Sequence[Counts]) -> list[KeySetOverlap]:
    """Each two of the tables; of more than eight, the first against each other."""
    every = combinations(range(len(names)), 2)
    return [
        _pair((names[one], names[two]), counts[one], counts[two])
        for one, two in every
        if len(names) <= _MOST_PAIRED or one == 0
    ]


def _pair(names: tuple[str, str], left: Counts, right: Counts) -> KeySetOverlap:
    here, there = left > 0, right > 0
    both = here & there
    sides = ["many" if (one[both] > 1).any() else "one" for one in (left, right)]
    return KeySetOverlap(
        *names,
        int(both.sum()),
        int((here & ~there).sum()),
        int((there & ~here).sum()),
        int(left[both].sum()),
        int(right[both].sum()),
        int(left[~there].sum()),
        int(right[~here].sum()),
        "-to-".join(sides),
    )


def key_set_regions(names: Sequence[str], counts: Sequence[Counts]) -> list[KeySetRegion]:
    """How many keys each combination of sources holds; those of most keys first.

    Examples
    --------
    >>> one, two = np.array([2, 1, 0]), np.array([1, 0, 3])
    >>> [(found.sources, found.keys) for found in key_set_regions(["a", "b"], [one, two])]
    [(('a', 'b'), 1), (('a',), 1), (('b',), 1)]
    """
    mask = membership_masks(counts)
    patterns, inverse, _ = dense_rank(mask)
    keys = np.bincount(inverse)
    found = []
    for number, pattern in enumerate(patterns.tolist()):
        holders = [n for n in range(len(names)) if pattern >> n & 1]
        if holders:
            rows = tuple(int(counts[n][inverse == number].sum()) for n in holders)
            sources = tuple(names[n] for n in holders)
            found.append(KeySetRegion(sources, int(keys[number]), rows))
    return sorted(found, key=lambda f: (-f.keys, -len(f.sources)))


def membership_masks(counts: Sequence[Counts]) -> npt.NDArray[np.int64]:
    """For each key a bit for each table that holds it."""
    if len(counts) > MOST_TABLES:
        raise UsageError(
            f"cannot compare the keys of {len(counts)} sources at once",
            remedy=f"first stack those with the same columns, or name at most {MOST_TABLES}",
        )
    mask = np.zeros(len(counts[0]), np.int64)
    for number, count in enumerate(counts):
        mask |= (count > 0).astype(np.int64) << number
    return mask


def _suggest_source(name: str, names: Sequence[str], known: Sequence[str]) -> str:
    if name in ("left", "right", "both"):
        return f"there are {len(names)} sources; name them: {', '.join(names)}, joined by +"
    return suggest_name(name, known) or f"one of {', '.join(known)}"


def parse_membership(wanted: str, names: Sequence[str]) -> int:
    """The bits of ``both``, ``left``, ``right``, or of names joined by ``+``.

    >>> parse_membership("both", ["a", "b"]), parse_membership("b", ["a", "b", "c"])
    (3, 2)

    Raises
    ------
    UsageError
        For a word or name that is none.
    """
    words = {"left": 1, "right": 2, "both": 3} if len(names) == 2 else {}
    if wanted in words:
        return words[wanted]
    mask = 0
    for name in wanted.split("+"):
        if name not in names:
            known = [*words, *names]
            raise UsageError(
                wording(Setting("only", wanted), f" names no source {name!r}"),
                remedy=_suggest_source(name, names, known),
            )
        mask |= 1 << list(names).index(name)
    return mask


def resolve_sides(sides: Sequence[Sequence[T]], apart: bool) -> list[tuple[T, ...]]:
    """What is set against what: extracts together, beside another side and unless taken apart.

    >>> resolve_sides([["may", "june"], ["hives"]], False), resolve_sides([["may", "june"]], False)
    ([('may', 'june'), ('hives',)], [('may',), ('june',)])
    """
    if apart or len(sides) < 2:
        return [(one,) for side in sides for one in side]
    return [tuple(side) for side in sides]
