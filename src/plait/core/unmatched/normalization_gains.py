"""What each looser comparison of keys would gain, and which keys it would run together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.dense_codes import combine_codes, count_codes
from plait.core.codes.key_codes import KeyCodes, KeyColumnCodes, merge_codes
from plait.core.codes.normalize import (
    ALL_WAYS,
    FORM_WAYS,
    SAME_WORDS,
    Ignored,
    IgnoredWords,
    normalize_texts,
    words_of_texts,
)
from plait.core.keys.match import KeyMatch
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import TEXT

MOST_TEXTS = 300_000
_MOST_WORDS = 12  # tried, each by itself
_RISKIEST_FIRST = (
    "punctuation",
    "word-order",
    "accents",
    "leading-zeros",
    "space",
    "case",
    "number-form",
    "date-form",
)

Flags = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class NormalizationGain:
    """What ignoring something in the comparison would change.

    Parameters
    ----------
    ways : tuple of str
        What would be ignored; names that ``--ignore`` takes.
    rows, keys : int
        Left rows and keys that match nothing now and would match then.
    right_rows, right_keys : int
        The same of the right.
    collisions : int
        Right keys that are different now and would be one key then: left rows
        would match several of them.
    left_collisions : int
        The same of the left.
    words : tuple of str
        Words that would be ignored: ``--ignore-words``.
    """

    ways: tuple[str, ...]
    rows: int
    keys: int
    right_rows: int
    right_keys: int
    collisions: int
    left_collisions: int
    words: tuple[str, ...] = ()

    @property
    def anything(self) -> bool:
        """Whether any key would match that does not now."""
        return self.keys + self.right_keys > 0


@dataclass(frozen=True, eq=False)
class NormalizedKeys:
    """The loose form of each key as a code: as the left spells it, and as the right does."""

    left: Codes
    right: Codes
    size: int


def single_normalization_gains(key_match: KeyMatch, ways: Sequence[str]) -> list[NormalizationGain]:
    """What each of some ways would gain by itself; those that gain nothing left out."""
    keys = key_match.coding.distinct
    normalization_gains = [normalization_gain(key_match, keys, [way]) for way in ways]
    return sorted((f for f in normalization_gains if f.anything), key=lambda one: -one.rows)


def best_normalization_gain(
    key_match: KeyMatch, ways: Sequence[str] | None = None
) -> NormalizationGain | None:
    """The fewest ways that together match as many of the unmatched left rows as all of them.

    Where every left key matches, it is the right rows that count.

    Parameters
    ----------
    ways : sequence of str, optional
        As ``useful_normalizations`` gives them, where that is known already.

    Returns
    -------
    NormalizationGain or None
        ``None`` when no looser comparison would match any of them.

    Notes
    -----
    Works on one row for each key. A way that brings no two texts of any key
    column together is passed over without looking at the keys.
    """
    ways = useful_normalizations(key_match.coding) if ways is None else ways
    # Where words are put in order, what is between them tells which they are: not all at once.
    together = [SAME_WORDS, tuple(way for way in ALL_WAYS if way != "space")]
    if not ways and not any(_brings_together(key_match.coding, some) for some in together):
        return None
    keys = key_match.coding.distinct
    alone = ((key_match.left_counts > 0) & (key_match.right_counts == 0)).any()
    worth: Callable[[NormalizationGain], int] = (
        (lambda one: one.rows) if alone else (lambda one: one.right_rows)
    )
    useful = tuple(way for way in ways if way != "word-order")
    tried = [some for some in (useful, *together) if some]
    best = max((normalization_gain(key_match, keys, some) for some in tried), key=worth)
    chosen = list(best.ways)
    for way in (r for r in _RISKIEST_FIRST if r in chosen):
        fewer = [c for c in chosen if c != way]
        smaller = normalization_gain(key_match, keys, fewer) if fewer else None
        if smaller and worth(smaller) >= worth(best):
            chosen, best = fewer, smaller
    return best if worth(best) else None


def words_gain(key_match: KeyMatch) -> NormalizationGain | None:
    """The words of which each by itself matches several keys, and runs none together.

    Returns
    -------
    NormalizationGain or None
        What ignoring them together would change; ``None`` where no word helps, and for very many
        keys.

    Notes
    -----
    Of the words that stand in most keys without a match.
    """
    coding = key_match.coding
    if exceeds_key_text_limit(coding):
        return None
    keys = coding.distinct
    lost = np.flatnonzero((key_match.left_counts > 0) != (key_match.right_counts > 0))
    times: Counter[str] = Counter()
    for column, part in zip(coding.key_columns, keys, strict=True):
        if TEXT in column.types:
            texts = column.texts.take(pa.array(part[lost], mask=part[lost] < 0))
            times.update(words_of_texts(texts))
    common = [word for word, number in times.most_common(_MOST_WORDS) if number > 1]
    useful = []
    for word in common:
        gain = normalization_gain(key_match, keys, [IgnoredWords((word,))])
        helps = max(gain.keys, gain.right_keys) > 1  # what helps once is part of a name
        if helps and not (gain.collisions or gain.left_collisions):
            useful.append(word)
    if not useful:
        return None
    together = normalization_gain(key_match, keys, [IgnoredWords(tuple(useful))])
    return replace(together, ways=(), words=tuple(useful))


def exceeds_key_text_limit(coding: KeyCodes) -> bool:
    """Whether there are more different key texts than a join tries looser comparisons on."""
    return sum(column.size for column in coding.key_columns) > MOST_TEXTS


def useful_normalizations(coding: KeyCodes) -> list[str]:
    """The ways each of which brings some texts of a key column together."""
    return [way for way in ALL_WAYS if _brings_together(coding, [way])]


def _brings_together(coding: KeyCodes, ways: Sequence[str]) -> bool:
    for column in coding.key_columns:
        forms = _forms(column, ways)
        if all(bool(pc.all(pc.equal(form, column.texts)).as_py()) for form in forms):
            continue  # none is changed, and looking for equal ones takes much longer
        codes = np.arange(column.size, dtype=np.int32)
        made, texts = merge_codes((codes, codes), column.texts, forms)
        if len(texts) < column.size or (made[0] != made[1]).any():
            return True
    return False


def _forms(column: KeyColumnCodes, ways: Sequence[Ignored]) -> list[pa.Array]:
    """The loose form of each text; as left and right have it, where they write otherwise."""
    types = column.types if set(ways) & set(FORM_WAYS) else column.types[:1]
    words = [way for way in column.ignored if isinstance(way, IgnoredWords)]
    return [normalize_texts(column.texts, [*words, *ways], type_) for type_ in types]


def normalize_keys(
    coding: KeyCodes, keys: Sequence[Codes], ways: Sequence[Ignored]
) -> NormalizedKeys:
    """The keys with some ways of being different left out of account.

    Parameters
    ----------
    coding : KeyCodes
        Of two tables.
    keys : sequence of int32 arrays
        As ``KeyCodes.distinct`` has them.
    """
    left: tuple[Codes, ...] = ()
    right: tuple[Codes, ...] = ()
    size = 0
    for column, part in zip(coding.key_columns, keys, strict=True):
        forms = _forms(column, ways)
        (here, there), texts = merge_codes((part, part), column.texts, forms)
        if not left:
            left, right, size = (here,), (there,), len(texts)
        else:
            (one, two), size = combine_codes([*left, *right], size, [here, there], len(texts))
            left, right = (one,), (two,)
    return NormalizedKeys(left[0], right[0], size)


def normalization_gain(
    key_match: KeyMatch, keys: Sequence[Codes], ways: Sequence[Ignored]
) -> NormalizationGain:
    """What ignoring these ways together would change."""
    loose = normalize_keys(key_match.coding, keys, ways)
    left, right = key_match.left_counts > 0, key_match.right_counts > 0
    gained = left & ~right & _standing(loose.right[right], loose.left, loose.size)
    right_gained = right & ~left & _standing(loose.left[left], loose.right, loose.size)
    return NormalizationGain(
        tuple(way for way in ways if isinstance(way, str)),
        int(key_match.left_counts[gained].sum()),
        int(gained.sum()),
        int(key_match.right_counts[right_gained].sum()),
        int(right_gained.sum()),
        _collisions(loose.right[right], loose.size),
        _collisions(loose.left[left], loose.size),
    )


def _standing(known: Codes, codes: Codes, size: int) -> Flags:
    """Which of the codes are known; a key of which nothing is left is none."""
    there = np.zeros(size + 1, bool)
    there[known] = True
    there[size] = False
    return there[codes]


def _collisions(codes: Codes, size: int) -> int:
    """Keys of a side that share their loose form with another of that side."""
    forms = count_codes(codes, size)
    return int(forms[forms > 1].sum())
