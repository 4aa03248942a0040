"""The form that nearly all cells of a text column are written in, and the few that are not."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import MOST_EXAMPLES
from plait.core.types.dateforms import pattern_of, read_dates
from plait.core.types.forms import FORMS, Form, base, forms_of_outlines
from plait.core.types.kinds import kind_of, written_forms

_LEAST_SHARE = 0.9
_GLANCE = 400
_LEAST_RIVAL = 0.5
_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$"

Counts = npt.NDArray[np.int64]


def _dated(kind: str, form: str) -> Form:
    return Form(kind, pattern_of(form), lambda cells: read_dates(cells, form, kind))


PLAIN = {
    form.name: form
    for form in (
        Form("integer", r"^[+-]?[0-9]{1,18}$", lambda cells: pc.utf8_ltrim(cells, "+")),
        Form("decimal", _NUMBER, lambda cells: pc.utf8_ltrim(cells, "+")),
        _dated("date", "%Y-%m-%d"),
        _dated("datetime", "%Y-%m-%d %H:%M:%S"),
        _dated("time", "%H:%M"),
    )
}


@dataclass(frozen=True)
class Nearly:
    """A form, the cells that are not written in it, and forms that read as many otherwise.

    Parameters
    ----------
    form : str
        Its name, as ``--type`` takes it.
    fits, unfit : int
        Cells.
    rivals : tuple of str
        Forms that nothing proves to be less right.
    examples : tuple of str
        Some of the unfit texts.
    """

    form: str
    fits: int
    unfit: int
    rivals: tuple[str, ...]
    examples: tuple[str, ...]

    @property
    def share(self) -> float:
        """The share of cells that fit."""
        return self.fits / max(self.fits + self.unfit, 1)


def nearly_written(texts: pa.Array, times: Counts, kinds: Iterable[str]) -> Nearly | None:
    """The form of one of some kinds that most cells are written in.

    Parameters
    ----------
    texts : pyarrow.Array
        Distinct texts, none of them empty.
    times : array of int64
        Cells of each.
    kinds : iterable of str
        In order of preference, where two forms fit as many.

    Returns
    -------
    Nearly or None
        ``None`` when no form fits any cell that is looked at first.

    Examples
    --------
    >>> cells = pa.array(["13.4.2031", "5.4.2031", "soon"])
    >>> found = nearly_written(cells, np.array([1, 8, 1]), ["date"])
    >>> found.form, found.unfit, found.examples
    ('date:%d.%m.%Y', 1, ('soon',))
    """
    fitting = readings(texts, kinds, _GLANCE)
    counts = {name: int(times[fits].sum()) for name, fits in fitting.items()}
    best = max(counts, key=counts.__getitem__, default=None)
    if best is None or not counts[best]:
        return None
    unfit = np.flatnonzero(~fitting[best])
    return Nearly(
        best,
        counts[best],
        int(times.sum()) - counts[best],
        tuple(_rivals(best, fitting, counts)),
        tuple(texts[int(n)].as_py() for n in unfit[:MOST_EXAMPLES]),
    )


def all_but_a_few(texts: pa.Array, times: Counts) -> Nearly | None:
    """The form of a column that is text only because of a few of its cells, if it is so.

    >>> all_but_a_few(pa.array(["12.5", "9", "ca. 7"]), np.array([9, 8, 1])).form
    'decimal'
    >>> all_but_a_few(pa.array(["007", "012", "A"]), np.array([9, 8, 1]))  # no numbers at all
    """
    found = nearly_written(texts, times, PLAIN)
    few = found is not None and found.unfit and found.share >= _LEAST_SHARE
    return found if few and found is not None and _proved(found.form, texts) else None


def _proved(name: str, texts: pa.Array) -> bool:
    """Whether the cells that fit would be of that type by themselves."""
    fitting = texts.filter(pa.array(fits(PLAIN.get(name) or FORMS[name], texts)))
    column = pa.chunked_array([fitting])
    return name in (kind_of(column), *(form.name for form in written_forms(column)))


def readings(
    texts: pa.Array, kinds: Iterable[str], glance: int
) -> dict[str, npt.NDArray[np.bool_]]:
    """Which texts each form of some kinds reads, if one of the first is written in it."""
    first = texts.slice(0, glance)
    likely = set(forms_of_outlines(first.to_pylist()))
    return {
        form.name: fits(form, texts)
        for kind in kinds
        for form in _forms(kind)
        if (form.name in likely or form.name in PLAIN)
        if pc.any(pc.match_substring_regex(first, form.pattern)).as_py()
    }


def _forms(kind: str) -> list[Form]:
    plain = [PLAIN[kind]] if kind in PLAIN else []
    return plain + [form for form in FORMS.values() if form.kind == kind]


def fits(form: Form, texts: pa.Array) -> npt.NDArray[np.bool_]:
    """Which texts are written so and have a value: there is no 31st of February."""
    written = pc.match_substring_regex(texts, form.pattern).to_numpy(zero_copy_only=False)
    rows = np.flatnonzero(written)
    made = form.read(texts.take(pa.array(rows)))
    good = np.zeros(len(texts), bool)
    good[rows] = made.is_valid().to_numpy(zero_copy_only=False)
    return good


def _rivals(
    best: str,
    fitting: dict[str, npt.NDArray[np.bool_]],
    counts: dict[str, int],
) -> Iterable[str]:
    """Dates that another form reads as well, or that it alone reads in part."""
    kind = base(best)
    if kind not in ("date", "datetime"):
        return
    for name, reads in fitting.items():
        like = name != best and base(name) == kind
        if not like or counts[name] < _LEAST_RIVAL * counts[best]:
            continue
        if (reads & fitting[best]).any() and (
            counts[name] == counts[best] or (reads & ~fitting[best]).any()
        ):
            yield name
