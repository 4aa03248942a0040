"""Written forms of values beside the plain one: ``1.234,5``, ``yes``, ``5 April 2031``.

A form is named by a kind and an example of it, or a pattern: ``decimal:1.234,5``,
``boolean:yes/no``, ``date:%d.%m.%Y``. ``--type`` takes the same names.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cache, partial

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.account.names import nearest
from plait.core.types.dateforms import pattern_of, read_dates
from plait.core.types.numberforms import number_forms

VALUE_KINDS = ("integer", "decimal", "boolean", "date", "datetime", "time", "text")
_DAYS = (
    "%d.%m.%Y",
    "%d/%m/%Y",
    "%m/%d/%Y",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%Y/%m/%d",
    "%Y.%m.%d",
    "%d %B %Y",
    "%d. %B %Y",
    "%B %d, %Y",
    "%B %d %Y",
    "%d-%b-%Y",
)
_CLOCKS = ("%H:%M", "%H:%M:%S", "%H:%M:%S.%f", "%I:%M %p")


@dataclass(frozen=True)
class Form:
    """A way in which values of a kind are written.

    Parameters
    ----------
    name : str
        As ``--type`` takes it.
    pattern : str
        A regular expression that every cell of that form matches.
    read : callable
        Turns text cells that match into an Arrow array, missing where a cell
        has no value, as the 31st of February.
    telling : tuple of str
        Patterns each of which some cell must hold, or the form is not shown by any.
    outline : str, optional
        The outline of every cell of that form, where they all have the same one.
    """

    name: str
    pattern: str
    read: Callable[[pa.Array], pa.Array]
    telling: tuple[str, ...] = ()
    outline: str | None = None

    @property
    def kind(self) -> str:
        """The kind of the values."""
        return base(self.name)


def base(name: str) -> str:
    """The kind in a form's name.

    >>> base("date:%d.%m.%Y"), base("integer")
    ('date', 'integer')
    """
    return name.partition(":")[0]


def _truth(yes: str, no: str) -> Callable[[pa.Array], pa.Array]:
    def read(cells: pa.Array) -> pa.Array:
        lower = pc.utf8_lower(cells)
        return pc.if_else(
            pc.equal(lower, yes), True, pc.if_else(pc.equal(lower, no), False, pa.scalar(None))
        )

    return read


def _dated(kind: str, form: str) -> Form:
    outline = (
        None if "%z" in form else _outline(re.sub("%[bBp]", "a", re.sub("%[^bBp]", "0", form)))
    )
    return Form(
        f"{kind}:{form}",
        pattern_of(form),
        lambda cells: read_dates(cells, form, kind),
        outline=outline,
    )


def _either(kind: str, forms: Sequence[str]) -> Form:
    """Several forms of one kind: a cell is read by the first that it is written in."""
    each = [_dated(kind, form) for form in forms]
    bare = (re.sub(r"\?P<\w+>", "", one.pattern) for one in each)

    def read(cells: pa.Array) -> pa.Array:
        return pc.coalesce(*(one.read(cells) for one in each))

    return Form(f"{kind}:{'|'.join(forms)}", "|".join(bare), read)


def _outline(text: str) -> str:
    """The text with ``a`` for letters and ``0`` for digits, without full stops behind letters.

    >>> _outline("5. Apr. 2031"), _outline("5.4.2031, 10:30 a.m.")
    ('0. a 0', '0.0.0, 0:0 a')
    """
    text = re.sub(r"(?<=[A-Za-z])\.", "", text)
    return re.sub("[0-9]+", "0", re.sub("[A-Za-z]+", "a", text))


def _all_forms() -> dict[str, Form]:
    made = [Form(one.name, one.pattern, one.read, one.telling) for one in number_forms()]
    for yes, no in (("yes", "no"), ("y", "n"), ("t", "f")):
        made.append(Form(f"boolean:{yes}/{no}", rf"(?i)^({yes}|{no})$", _truth(yes, no)))
    made += [_dated("date", form) for form in _DAYS]
    made += [_dated("time", form) for form in _CLOCKS]
    made += [
        _dated("datetime", f"{day}{between}{clock}")
        for day in ("%Y-%m-%d", *_DAYS)
        for between in (" ", "T", ", ")
        for clock in _CLOCKS
    ]
    made.append(_dated("datetime", "%Y-%m-%dT%H:%M:%S%z"))
    made.append(_dated("datetime", "%Y-%m-%d %H:%M:%S%z"))
    made.append(_dated("datetime", "%Y-%m-%dT%H:%M:%S.%f%z"))
    return {form.name: form for form in made}


FORMS = _all_forms()


def form_of(name: str) -> Form:
    """The form of that name, or a new one where the name holds a date pattern.

    Raises
    ------
    UsageError
        For a name that is none.
    """
    if name in FORMS:
        return FORMS[name]
    kind, _, written = name.partition(":")
    if kind in ("date", "datetime", "time") and "%" in written:
        return _either(kind, written.split("|")) if "|" in written else _dated(kind, written)
    raise UsageError(
        f"unknown type {name!r}",
        remedy=nearest(name, [*VALUE_KINDS, *FORMS]) or f"one of {', '.join(VALUE_KINDS)}",
    )


def fitting(glance: pa.ChunkedArray) -> list[Form]:
    """The forms that all cells of a sample are written in; the cells are not empty.

    >>> [form.name for form in fitting(pa.chunked_array([["3/4/2031"]]))]
    ['date:%d/%m/%Y', 'date:%m/%d/%Y']
    """
    likely = of_cell(glance[0].as_py())
    return [form for form in likely if _all_match(glance, form.pattern)]


def of_cell(text: str) -> Iterator[Form]:
    """The forms that one cell is written in.

    >>> [form.name for form in of_cell("31/3/2031")]
    ['date:%d/%m/%Y', 'date:%m/%d/%Y']
    """
    for name in forms_of_outlines([text]):
        if re.match(FORMS[name].pattern, text):
            yield FORMS[name]


def forms_of_outlines(texts: Iterable[str]) -> Iterator[str]:
    """The names of the forms that some of the texts may be written in, by their outlines.

    To try every pattern takes longer than most commands.
    """
    there = {_outline(text) for text in texts}
    by_outline = _by_outline()
    found = {at for outline in (None, *there) for at in by_outline.get(outline, ())}
    forms = list(FORMS.values())
    digits = any("0" in outline for outline in there)  # without one there is a truth at most
    return (forms[at].name for at in sorted(found) if digits or forms[at].kind == "boolean")


@cache
def _by_outline() -> dict[str | None, list[int]]:
    """The places of the forms of each outline; of those of any, under ``None``."""
    made: dict[str | None, list[int]] = {}
    for at, form in enumerate(FORMS.values()):
        made.setdefault(form.outline, []).append(at)
    return made


def _all_match(cells: pa.ChunkedArray, pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(cells, pattern)).as_py())


def read_form(cells: pa.Array, form: Form) -> pa.Array:
    """Text cells read by a form; missing stays missing.

    Raises
    ------
    pyarrow.ArrowInvalid
        When a cell is not written so, or has no value.
    """
    if not bool(pc.all(pc.match_substring_regex(cells, form.pattern)).as_py() in (True, None)):
        raise pa.ArrowInvalid(f"a cell is not written as {form.name}")
    made = form.read(cells)
    if made.null_count > cells.null_count:
        raise pa.ArrowInvalid(f"a cell has no value as {form.name}")
    return made


def settled(forms: Sequence[Form], chunks: Sequence[pa.Array]) -> list[Form]:
    """The forms in which all cells can be read and give different values.

    Whether ``3/4/2031`` is in March or in April is proved by some cell or not
    at all; then both forms are returned.
    """
    return _narrowest([form for form in forms if _holds(form, chunks)])


def _holds(form: Form, chunks: Sequence[pa.Array]) -> bool:
    seen_values: set[bool] = set()
    try:
        for chunk in chunks:
            made = read_form(chunk, form)
            if form.kind == "boolean":
                seen_values |= {v for v in (True, False) if pc.any(pc.equal(made, v)).as_py()}
    except pa.ArrowInvalid:
        return False
    if not all(map(partial(_seen, chunks), form.telling)):
        return False
    return form.kind != "boolean" or len(seen_values) == 2


def _seen(chunks: Sequence[pa.Array], pattern: str) -> bool:
    """Whether some cell holds what a pattern says."""
    return any(pc.any(pc.match_substring_regex(chunk, pattern)).as_py() for chunk in chunks)


def _narrowest(forms: Sequence[Form]) -> list[Form]:
    """Without those that only read the same more widely: decimals of which none has a fraction."""
    names = {form.name for form in forms}
    return [
        form
        for form in forms
        if not (form.kind == "decimal" and f"integer:{form.name[8:13]}" in names)
    ]
