"""Looser ways to compare keys: the spellings that ``--ignore`` takes for equal.

The functions work on distinct texts, not on rows, and make no cell of any
result: they only decide which keys count as the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.text.cells import to_text
from plait.core.types.column_type import TEXT, ColumnType
from plait.core.types.inference import canonical_number_text
from plait.core.types.value_formats import format_for_type


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
WAYS: dict[str, Callable[[pa.Array], pa.Array]] = {
    "accents": _accents,
    "case": _case,
    "punctuation": _punctuation,
    "space": _space,
    "leading-zeros": _leading_zeros,
}
ALL_WAYS = (*FORM_WAYS, *WAYS)


def check_normalizations(ignore: Iterable[str]) -> tuple[str, ...]:
    """The names in the order in which they are applied.

    Raises
    ------
    UsageError
        For a name that is not one of ``ALL_WAYS``.
    """
    ignore = set(ignore)
    for name in sorted(ignore - set(ALL_WAYS)):
        raise UsageError(
            f"nothing called {name!r} can be ignored",
            remedy=suggest_name(name, ALL_WAYS) or f"one of {', '.join(ALL_WAYS)}",
        )
    return tuple(way for way in ALL_WAYS if way in ignore)


def normalize_texts(texts: pa.Array, ignore: Iterable[str], type_: ColumnType = TEXT) -> pa.Array:
    """The texts with what is ignored taken out of them.

    Parameters
    ----------
    ignore : iterable of str
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
    """
    for way in check_normalizations(ignore):
        texts = FORM_WAYS[way](texts, type_) if way in FORM_WAYS else WAYS[way](texts)
    return texts
