"""Rows in the order of their values, and what can be put in order at all.

A rule that orders goes by value: numbers, dates and times. A column whose cells
are nearly numbers, or dates of which nothing says how they are written, is text,
and among texts ``9`` comes after ``10``. So it is refused, with the cells in the
way; who means the letters says so with ``--type COLUMN=text``.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.findings import agreeing, pluralize
from plait.core.base.wording import Setting, Text, wording
from plait.core.codes.dense_codes import count_codes, first_row_of_each_code, order_of_codes
from plait.core.table.key_spec import check_column
from plait.core.table.table import Table
from plait.core.text.cells import is_text_type
from plait.core.text.dictionary import TextDictionary
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import DATE, DATETIME, DECIMAL, TEXT, TIME, ColumnType
from plait.core.types.inference import may_parse_mask, parse_column, to_arrow_type
from plait.core.types.missing_markers import marker_flags
from plait.core.types.near_types import PLAIN
from plait.core.types.value_formats import FORMS, ValueFormat

_LEAST_SHARE = 0.5
_SORT = wording(Setting("sort"))
_MOST_SHOWN = 3
_PLAIN_NUMBER = r"^(0|-?[1-9][0-9]*|-?(0|[1-9][0-9]*)\.[0-9]+)$"
_DATED = r"(?i)^[0-9]{1,4}\s?[-./: ]|[a-z]{3} ?[0-9]|[0-9][a-z]{3}|[0-9]\.? [a-z]"

Flags = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class TextOrderDoubt:
    """Why the texts of a column may not be put in the order of their letters.

    Parameters
    ----------
    kind : str
        What many of them are: ``number``, ``date``, ``datetime`` or ``time``.
    fits : array of bool
        Which of the texts.
    forms : tuple of ColumnType
        As ``--type`` takes them, when the cells could be read so.
    """

    kind: str
    fits: Flags
    forms: tuple[ColumnType, ...]


def check_sortable(table: Table, name: str, doing: Text) -> None:
    """See that the cells of a column can be put in order by value, or are just text.

    Parameters
    ----------
    doing : text
        What wants the order, for the message: the setting ``sort``, ``the rule max``.

    Raises
    ------
    UsageError
        With the cells in the way and the options that settle it.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> check_sortable(table_from_columns("t", {"V": ["9", "10", "tbc"]}), "V", "the rule max")
    Traceback (most recent call last):
    ...
    plait.core.base.errors.UsageError: t, column V: the rule max would compare these cells as \
text, where 10 comes before 9: 2 of 3 cells are numbers, 1 is not: 'tbc' (row 3) \
(type={'V': 'decimal'}, unfit='missing', or to compare them as text: type={'V': 'text'})
    """
    refuse_open_forms(table, name, doing)
    cells = table.chunks(name)
    sure = table.column(name).declared_type == TEXT or not is_text_type(cells.type)
    if sure or table.column_type(name) != TEXT:
        return
    dictionary = TextDictionary()
    codes = dictionary.encode_all(cells)
    raise_if_unsortable(table, name, doing, dictionary.texts(), codes)


def refuse_open_forms(table: Table, name: str, doing: Text) -> None:
    """Refuse to order cells of which nothing proves how they are written.

    Raises
    ------
    UsageError
    """
    forms = table.column(name).open_forms
    if forms:
        raise UsageError(
            wording(
                doing,
                " would compare these cells as text: the format of some sources is ambiguous, ",
                " or ".join(map(str, forms)),
            ),
            f"{table.name}, column {name}",
            wording(
                "choose one for those sources: ",
                Setting("type", str(forms[0]), name, source="SOURCE"),
            ),
        )


def raise_if_unsortable(
    table: Table, name: str, doing: Text, texts: pa.Array, codes: Codes
) -> None:
    """The same for cells that are coded already; ``texts`` by code."""
    if table.column(name).declared_type == TEXT:
        return
    times = count_codes(codes, len(texts))
    doubt = find_order_doubt(texts, times)
    if doubt is not None:
        raise _refusal(table, name, doing, doubt, texts, codes, times)


def find_order_doubt(texts: pa.Array, times: Counts) -> TextOrderDoubt | None:
    """Why texts may not be put in the order of their letters; ``None`` if they may.

    Parameters
    ----------
    texts : pyarrow.Array
        Distinct texts of a column that is text as a whole.
    times : array of int64
        The cells of each.

    Notes
    -----
    They may not where some would stand the other way round by value, nor where
    at least half of the cells have a value and others are in the way.

    Examples
    --------
    >>> find_order_doubt(pa.array(["A7", "12", "15"]), np.array([9, 1, 1])) is None
    True
    >>> doubt = find_order_doubt(pa.array(["10/5/2023", "9/5/2023"]), np.array([1, 1]))
    >>> [str(form) for form in doubt.forms]
    ['date:%d/%m/%Y', 'date:%m/%d/%Y']
    """
    marked = marker_flags(texts)
    likely = may_parse_mask(texts) & ~marked
    if not likely.any():
        return None
    told = times * ~marked
    return _numbers(texts, told, likely) or _moments(texts, told, likely)


def _numbers(texts: pa.Array, times: Counts, likely: Flags) -> TextOrderDoubt | None:
    some = texts.filter(pa.array(likely))
    written = PLAIN[DECIMAL].pattern
    plain = np.zeros(len(texts), bool)
    plain[likely] = pc.match_substring_regex(some, written).to_numpy(zero_copy_only=False)
    grouped = [form for form in FORMS.values() if form.family == "decimal"]
    for form in grouped:
        if plain.any() and not all(_has(some, t) for t in form.telling):
            continue
        fits = np.zeros(len(texts), bool)
        fits[likely] = pc.match_substring_regex(some, form.pattern).to_numpy(zero_copy_only=False)
        if (fits & ~plain).any() and fits.sum() > plain.sum():
            return _doubt("number", texts, times, fits, (form.type,), form)
    return _doubt("number", texts, times, plain, (DECIMAL,), None)


def _has(texts: pa.Array, sign: str) -> bool:
    return bool(pc.any(pc.match_substring_regex(texts, sign)).as_py())


def _doubt(
    kind: str,
    texts: pa.Array,
    times: Counts,
    fits: Flags,
    forms: tuple[ColumnType, ...],
    form: ValueFormat | None,
) -> TextOrderDoubt | None:
    """Numbers that stand otherwise by value, or that make up half of the cells."""
    if not fits.any():
        return None
    some = texts.filter(pa.array(fits))
    values = some if form is None else form.read(some)
    numbers = pc.utf8_ltrim(values, "+").cast(pa.float64())
    plain = pc.match_substring_regex(some, _PLAIN_NUMBER).to_numpy(zero_copy_only=False)
    share = float(times[fits][plain if form is None else slice(None)].sum())
    unfit = times[~fits].sum() > 0
    if _turned(some, numbers) or (unfit and share >= _LEAST_SHARE * times.sum()):
        return TextOrderDoubt(kind, fits, forms)
    return None


def _turned(texts: pa.Array, values: pa.Array) -> bool:
    """Whether two texts stand the other way round by value."""
    order = pc.array_sort_indices(texts)
    arranged = values.take(order).drop_null()
    return bool(pc.any(pc.less(arranged[1:], arranged[:-1])).as_py())


def _moments(texts: pa.Array, times: Counts, likely: Flags) -> TextOrderDoubt | None:
    dated = np.zeros(len(texts), bool)
    some = texts.filter(pa.array(likely))
    dated[likely] = pc.match_substring_regex(some, _DATED).to_numpy(zero_copy_only=False)
    if not dated.any():
        return None
    for plain in (DATE, DATETIME, TIME):
        read = dict(_readings(plain, texts, dated))
        if not read:
            continue
        fits = np.logical_or.reduce([there for there, _ in read.values()])
        best = max(int(times[there].sum()) for there, _ in read.values())
        forms = tuple(form for form, (there, _) in read.items() if int(times[there].sum()) == best)
        turned = any(_turned(texts.filter(pa.array(there)), made) for there, made in read.values())
        if turned or times[fits].sum() >= _LEAST_SHARE * times.sum():
            return TextOrderDoubt(plain.family, fits, forms)
    return None


_SORT_AS_TEXT = ("%G-W%V", "%Y-Q%q", "%Y Q%q")  # 2031-W14 stands before 2031-W40 as it is


def _readings(
    plain: ColumnType, texts: pa.Array, dated: Flags
) -> Iterator[tuple[ColumnType, tuple[Flags, pa.Array]]]:
    """For each form that reads some texts: which, and their values."""
    rows = np.flatnonzero(dated)
    some = texts.take(pa.array(rows))
    written = [
        form
        for form in FORMS.values()
        if form.family == plain.family and form.type.written not in _SORT_AS_TEXT
    ]
    for form in (PLAIN[plain], *written):
        if not pc.any(pc.match_substring_regex(some, form.pattern)).as_py():
            continue
        made = form.read(some)
        valid = made.is_valid().to_numpy(zero_copy_only=False)
        if valid.any():
            there = np.zeros(len(texts), bool)
            there[rows[valid]] = True
            values = made.filter(pa.array(valid))
            values = values.cast(pa.int32() if plain == DATE else pa.int64())
            yield form.type, (there, values)


def _refusal(
    table: Table,
    name: str,
    doing: Text,
    doubt: TextOrderDoubt,
    texts: pa.Array,
    codes: Codes,
    times: Counts,
) -> UsageError:
    text = _in_words(table, doubt, texts, codes, times)
    unfit = bool((~doubt.fits).any())
    typed = [Setting("type", str(form), name) for form in doubt.forms[:2]]
    return UsageError(
        wording(doing, f" would compare these cells as text{_example(texts, doubt)}: {text}"),
        f"{table.name}, column {name}",
        wording(
            *typed[:1],
            *(part for setting in typed[1:] for part in (" or ", setting)),
            *([Setting("unfit", "missing")] if unfit else []),
            ", or to compare them as text: ",
            Setting("type", "text", name),
        ),
    )


def count_numeric_texts(table: Table, name: str) -> str:
    """How many cells of a column of text are numbers, and which are not; nothing if few are.

    >>> from plait.core.table.table import table_from_columns
    >>> count_numeric_texts(table_from_columns("t", {"V": ["9", "10", "tbc"]}), "V")
    "2 of 3 cells are numbers, 1 is not: 'tbc' (row 3)"
    """
    dictionary = TextDictionary()
    codes = dictionary.encode_all(table.coded(name))
    texts = dictionary.texts()
    times = count_codes(codes, len(texts))
    doubt = find_order_doubt(texts, times)
    if doubt is None or doubt.kind != "number":
        return ""
    return _in_words(table, doubt, texts, codes, times)


def _in_words(
    table: Table, doubt: TextOrderDoubt, texts: pa.Array, codes: Codes, times: Counts
) -> str:
    first = first_row_of_each_code(codes, len(texts))
    out = np.flatnonzero(~doubt.fits)
    out = out[np.argsort(first[out], kind="stable")]
    fit, unfit = int(times[doubt.fits].sum()), int(times[out].sum())
    what = (
        f"{fit:,} of {pluralize(fit + unfit, 'cell')} {agreeing(fit, 'is a', 'are')} {doubt.kind}"
    )
    what += "s" if fit != 1 else ""
    if unfit:
        text = ", ".join(
            map(partial(_format_offending_text, table, texts, first), out[:_MOST_SHOWN].tolist())
        )
        more = ", …" if len(out) > _MOST_SHOWN else ""
        what += f", {unfit:,} {agreeing(unfit, 'is', 'are')} not: {text}{more}"
    elif len(doubt.forms) > 1:
        what += f", which may be written as {' or '.join(map(str, doubt.forms))}"
    else:
        what += ", written so that they are text"
    return what


def _format_offending_text(table: Table, texts: pa.Array, counts: Counts, code: int) -> str:
    row = int(counts[code])
    text = next((source_row.within for source_row in table.source_rows(row)), f"row {row + 1:,}")
    return f"{texts[code].as_py()!r} ({text})"


def _example(texts: pa.Array, doubt: TextOrderDoubt) -> str:
    """Two cells that would stand the wrong way round."""
    if doubt.kind != "number" or doubt.forms != (DECIMAL,):
        return ""
    some = texts.filter(pa.array(doubt.fits))
    order = pc.array_sort_indices(some)
    arranged = some.take(order)
    values = pc.utf8_ltrim(arranged, "+").cast(pa.float64())
    at = pc.index(pc.less(values[1:], values[:-1]), True).as_py()
    if at < 0:
        return ""
    return f", where {arranged[at].as_py()} comes before {arranged[at + 1].as_py()}"


def sort_rows(table: Table, columns: Sequence[str], doing: Text = _SORT) -> npt.NDArray[np.int64]:
    """Row numbers in the order of some columns, ties as they stand, missing last.

    Parameters
    ----------
    columns : sequence of str
        The first counts most; ``desc`` behind a name puts the greatest first.
    doing : text
        What wants the order, for messages.

    Raises
    ------
    UsageError
        For a column that is not there, or text that is nearly something else.

    Notes
    -----
    Columns are sorted by in turn from the last to the first, each by its rank
    (least significant digit first; Knuth vol. 3, section 5.2.5). Numbers and
    dates sort by value, texts by their signs in Unicode.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> sort_rows(table_from_columns("t", {"a": ["10", "9", "", "9"]}), ["a"]).tolist()
    [1, 3, 0, 2]
    """
    order = np.arange(table.rows)
    for name in reversed(columns):
        column, falling = _direction(name, table)
        check_column(column, table)
        rank, size = dense_ranks(table, column, falling, doing)
        order = order[order_of_codes(rank[order], size + 1)]
    return order


def _direction(name: str, table: Table) -> tuple[str, bool]:
    """The column in ``NAME``, ``NAME asc`` or ``NAME desc``, and whether it falls."""
    column, _, way = name.rpartition(" ")
    if table.has_column(name) or way.lower() not in ("asc", "desc"):
        return name, False
    return column.strip(), way.lower() == "desc"


def dense_ranks(table: Table, name: str, falling: bool, doing: Text) -> tuple[Codes, int]:
    """For each row the rank of its value among the distinct ones, missing last.

    ``doing`` is what wants the order, for messages.

    Returns
    -------
    size : int
        The rank of what is missing; no rank is greater.

    Raises
    ------
    UsageError
        For text of which many cells are numbers, dates or times: it has no sure order.
    """
    refuse_open_forms(table, name, doing)
    cells = table.chunks(name)
    type_ = table.column_type(name)
    dictionary = TextDictionary()
    if is_text_type(cells.type):
        codes = dictionary.encode_all(cells)
        texts = dictionary.texts()
        if type_.family == "text":
            raise_if_unsortable(table, name, doing, texts, codes)
        values = parse_column(texts, type_, to_arrow_type(type_, pa.chunked_array([texts])))
        ranked = _ranked(values, falling)
    else:
        values = pa.chunked_array(cells.chunks, cells.type).combine_chunks()
        codes, ranked = np.arange(table.rows, dtype=np.int32), _ranked(values, falling)
    size = len(ranked)
    return np.append(ranked, np.int32(size))[codes], size


def _ranked(values: pa.Array, falling: bool) -> Codes:
    """Equal values have equal ranks; missing ones the greatest."""
    if not len(values):
        return np.zeros(0, np.int32)
    order = pc.array_sort_indices(
        values, order="descending" if falling else "ascending", null_placement="at_end"
    ).to_numpy()
    arranged = values.take(pa.array(order))
    new = pc.fill_null(pc.not_equal(arranged[1:], arranged[:-1]), True).to_numpy(
        zero_copy_only=False
    )
    rank = np.concatenate([[0], np.cumsum(new)])
    absent = arranged.is_null().to_numpy(zero_copy_only=False)
    rank[absent] = len(values)
    ranks = np.empty(len(values), np.int32)
    ranks[order] = rank
    return ranks
