"""Looser ways to compare keys: the spellings that ``--ignore`` takes for equal.

The functions work on distinct texts, not on rows, and make no cell of any
result: they only decide which keys count as the same.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.text.cells import to_text
from plait.core.types.column_type import TEXT, ColumnType
from plait.core.types.inference import canonical_number_text
from plait.core.types.value_formats import format_for_type

_APART = r"[\s\p{Z},;]+"  # what is between two words


@dataclass(frozen=True)
class IgnoredWords:
    """Words that do not count when keys are compared, however they are capitalised.

    Parameters
    ----------
    words : tuple of str
        A full stop behind a word is no part of it: ``Dr`` and ``Dr.`` are one.
    """

    words: tuple[str, ...]

    def __str__(self) -> str:
        return f"the words {', '.join(self.words)}"

    def removed(self, texts: pa.Array) -> pa.Array:
        """The texts without these words.

        >>> IgnoredWords(("Dr.", "prof")).removed(pa.array(["Prof. Dr. Ada", "Dre"])).to_pylist()
        ['Ada', 'Dre']
        """
        words = "|".join(re.escape(word.strip().rstrip(".")) for word in self.words)
        pattern = rf"(?i)(^|{_APART})(?:{words})\.?({_APART}|$)"
        rest = texts
        for _ in self.words:  # two such words in a row share what is between them
            fewer = pc.replace_substring_regex(rest, pattern, r"\1")
            if fewer.equals(rest):
                break
            rest = fewer
        ends = pc.replace_substring_regex(rest, rf"{_APART}$", "")
        return pc.if_else(pc.equal(rest, texts), texts, ends)


#: What ``ignore`` of an operation holds: the name of a way, or words.
Ignored = str | IgnoredWords


def _case(texts: pa.Array) -> pa.Array:
    # Upper first: it folds what has one capital and two small forms.
    return pc.replace_substring(pc.utf8_lower(pc.utf8_upper(texts)), "ß", "ss")


def _space(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"[\s\p{Z}]+", "")


def _punctuation(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"[\p{P}\p{S}]+", "")


def _accents(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(pc.utf8_normalize(texts, "NFKD"), r"\p{Mn}+", "")


def _word_order(texts: pa.Array) -> pa.Array:
    """The words of each text in the order of the alphabet: ``Hill, Ada`` is ``Ada Hill``."""
    trimmed = pc.replace_substring_regex(texts, rf"^{_APART}|{_APART}$", "")
    words = pc.split_pattern_regex(pc.fill_null(trimmed, ""), _APART)
    ranks = pc.rank(words.flatten(), tiebreaker="dense").to_numpy()
    joined = rearrange_words(words, ranks).cast(texts.type)
    return pc.if_else(pc.is_null(texts), pa.scalar(None, texts.type), joined)


def words_of_texts(texts: pa.Array) -> list[str]:
    """Every word of each text once, with capitals as they are and without a full stop behind it.

    >>> words_of_texts(pa.array(["Dr. Ada Hill, Dr.", None]))
    ['Dr', 'Ada', 'Hill']
    """
    words = pc.split_pattern_regex(pc.fill_null(texts, ""), _APART).to_pylist()
    return [word for some in words for word in dict.fromkeys(w.rstrip(".") for w in some) if word]


def rearrange_words(words: pa.ListArray, ranks: npt.NDArray[np.int64]) -> pa.Array:
    """Texts of words, those of each text in the order of their ranks.

    >>> rearrange_words(pa.array([["Ada", "Hill"], ["Bo"]]), np.array([1, 0, 0])).to_pylist()
    ['Hill Ada', 'Bo']
    """
    order = np.lexsort((ranks, np.asarray(pc.list_parent_indices(words))))
    begins = np.append(0, np.cumsum(np.asarray(pc.list_value_length(words)))).astype(np.int32)
    arranged = pa.ListArray.from_arrays(pa.array(begins), words.flatten().take(pa.array(order)))
    return pc.binary_join(arranged, " ")


def _leading_zeros(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"^\s*0+([0-9])", r"\1")


def _number_form(texts: pa.Array, type_: ColumnType) -> pa.Array:
    """``7.0``, ``+7`` and, in a column that is written so, ``1.234,5`` in one spelling each."""
    if not type_.is_plain and type_.is_number:
        texts = _read_where_written(texts, type_)
    numeric = pc.match_substring_regex(texts, r"^[+-]?[0-9]+(\.[0-9]+)?$")
    return pc.if_else(numeric, canonical_number_text(pc.utf8_ltrim(texts, "+")), texts)


def _date_form(texts: pa.Array, type_: ColumnType) -> pa.Array:
    """Dates in ISO form, where the column proves how they are written; midnight is the day."""
    if not type_.is_plain and type_.has_day:
        texts = _read_where_written(texts, type_)
    return pc.replace_substring_regex(
        texts, r"^([0-9]{4}-[0-9]{2}-[0-9]{2})[ T]00:00(:00(\.0+)?)?$", r"\1"
    )


def _read_where_written(texts: pa.Array, type_: ColumnType) -> pa.Array:
    form = format_for_type(type_)
    written = pc.match_substring_regex(texts, form.pattern)
    made = form.read(pc.if_else(written, texts, pa.scalar(None, texts.type)))
    return pc.coalesce(to_text(made).cast(texts.type), texts)


FORM_WAYS: dict[str, Callable[[pa.Array, ColumnType], pa.Array]] = {
    "number-form": _number_form,
    "date-form": _date_form,
}
#: Ways to spell the same words in the same order.
SPELLING_WAYS: dict[str, Callable[[pa.Array], pa.Array]] = {
    "accents": _accents,
    "case": _case,
    "punctuation": _punctuation,
    "space": _space,
    "leading-zeros": _leading_zeros,
}
# Words are put in order once they are spelt alike, and while it still shows where one ends.
_TEXT_WAYS = {
    **{name: SPELLING_WAYS[name] for name in ("accents", "case")},
    "word-order": _word_order,
    **{name: SPELLING_WAYS[name] for name in ("punctuation", "space", "leading-zeros")},
}
ALL_WAYS = (*FORM_WAYS, *_TEXT_WAYS)
#: Without what puts words in another order: nothing else makes one text of two persons' names.
SAME_WORDS = (*FORM_WAYS, *SPELLING_WAYS)


def check_normalizations(ignore: Iterable[Ignored]) -> tuple[Ignored, ...]:
    """What is ignored in the order in which it is applied: words first.

    Raises
    ------
    UsageError
        For a name that is not one of ``ALL_WAYS``.
    """
    every = tuple(ignore)
    names = {way for way in every if isinstance(way, str)}
    for name in sorted(names - set(ALL_WAYS)):
        raise UsageError(
            f"nothing called {name!r} can be ignored",
            remedy=suggest_name(name, ALL_WAYS) or f"one of {', '.join(ALL_WAYS)}",
        )
    words = (way for way in every if isinstance(way, IgnoredWords))
    return (*words, *(way for way in ALL_WAYS if way in names))


def normalize_texts(
    texts: pa.Array, ignore: Iterable[Ignored], type_: ColumnType = TEXT
) -> pa.Array:
    """The texts with what is ignored taken out of them.

    Parameters
    ----------
    ignore : iterable of str or IgnoredWords
        Of ``ALL_WAYS``.
    type_ : ColumnType
        How the column is written, for ``number-form`` and ``date-form``.

    Examples
    --------
    >>> normalize_texts(pa.array([" y-07", "Ÿ7"]), ["case", "space", "punctuation"]).to_pylist()
    ['y07', 'ÿ7']
    >>> dates = pa.array(["5.4.2031"])
    >>> normalize_texts(dates, ["date-form"], ColumnType.parse("date:%d.%m.%Y")).to_pylist()
    ['2031-04-05']
    >>> normalize_texts(pa.array(["Hill, Ada", "Ada Hill"]), ["word-order"]).to_pylist()
    ['Ada Hill', 'Ada Hill']
    """
    for way in check_normalizations(ignore):
        if isinstance(way, IgnoredWords):
            texts = way.removed(texts)
        else:
            texts = FORM_WAYS[way](texts, type_) if way in FORM_WAYS else _TEXT_WAYS[way](texts)
    return texts
