"""How the values of a type are written: ``1.234,5``, ``31.03.2031``, ``yes``.

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

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.types.column_type import DECLARABLE, ColumnType, Family
from plait.core.types.date_formats import date_regex, parse_dates
from plait.core.types.month_names import NAME_LETTER

EXPONENTS = ColumnType("decimal", "1e3")
BARE_POINT = ColumnType("decimal", ".5")
MONEY = ("€", "$", "£", "¥")
SPACES = "[ \u00a0\u202f]"
MOST_EXPONENT = 60
# At most 18 digits: more in one cell are a list of codes, or an identifier.
_WHOLE = r"0|[1-9][0-9]{0,2}(%s[0-9]{3}){1,5}|[1-9][0-9]{0,17}"
_BARE_POINT = r"^-?((0|[1-9][0-9]{0,17})(\.[0-9]+)?|\.[0-9]+)$"
_EXPONENT = (
    r"^(?P<s>-?)(?P<w>0|[1-9][0-9]{0,75})"
    r"(?:\.(?P<f>[0-9]+))?(?:[eE](?P<e>[+-]?[0-9]{1,3}))?$"
)

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
    "%d de %B de %Y",
)
# A year of two digits does not say its century, and has no form with hyphens among numbers: those
# are codes more often.
_SHORT_YEARS = ("%d.%m.%y", "%d/%m/%y", "%m/%d/%y", "%y/%m/%d", "%d-%b-%y", "%d %b %y")
_CENTURIES = "years from 69 to 99 are of the 20th century, others of the 21st"
_FIRST_DAYS = {
    "Q%q %Y": "the first day of the quarter is taken",
    "Q%q/%Y": "the first day of the quarter is taken",
    "%Y-Q%q": "the first day of the quarter is taken",
    "%Y Q%q": "the first day of the quarter is taken",
    "%G-W%V": "the Monday of the week is taken",
}
_CLOCKS = ("%H:%M", "%H:%M:%S", "%H:%M:%S.%f", "%I:%M %p")


@dataclass(frozen=True)
class NumberFormat:
    """A way to write numbers.

    Parameters
    ----------
    name : str
        A kind and an example: ``decimal:1.234,5``.
    pattern : str
        What every cell matches.
    telling : tuple of str
        Patterns each of which some cell must hold, or the form is not shown by any.
    point : str
        The decimal point; empty for whole numbers.
    group : str
        What is between groups of three digits.
    beside : str
        A sign beside the number: of money, or ``%``.
    """

    name: str
    pattern: str
    telling: tuple[str, ...]
    point: str
    group: str
    beside: str = ""

    def read(self, cells: pa.Array) -> pa.Array:
        """The numbers as plain text, whole ones as integers."""
        if self.name == str(EXPONENTS):
            return expand_exponent(cells)
        if self.name == str(BARE_POINT):
            return pc.replace_substring_regex(cells, r"^(-?)\.", "\\10.")
        if self.beside:
            cells = pc.replace_substring_regex(cells, f"{re.escape(self.beside)}|{SPACES}", "")
        group = SPACES if self.group == " " else re.escape(self.group)
        plain = pc.replace_substring_regex(cells, group, "")
        if self.point == ",":
            plain = pc.replace_substring(plain, ",", ".")
        return plain if self.point else pc.cast(plain, pa.int64())


def number_formats() -> Iterator[NumberFormat]:
    """All of them, the usual ones first."""
    for point, group in ((".", ","), (",", ".")):
        yield from _grouped(point, group, re.escape(group))
    for point in (",", "."):
        yield from _grouped(point, " ", SPACES)
    for sign in ("%", *MONEY):
        for point, group in ((".", ","), (",", ".")):
            yield _beside(sign, point, group)
    yield NumberFormat(str(EXPONENTS), _EXPONENT, ("[eE]", r"\.|[eE][+-]"), ".", "")
    yield NumberFormat(str(BARE_POINT), _BARE_POINT, (r"^-?\.",), ".", "")


def _grouped(point: str, group: str, sign: str) -> Iterator[NumberFormat]:
    whole = _WHOLE % sign
    if group != " " or point == ",":
        yield NumberFormat(f"integer:1{group}234", rf"^-?({whole})$", (sign,), "", group)
    yield NumberFormat(
        f"decimal:1{group}234{point}5",
        rf"^-?({whole})(\{point}[0-9]+)?$",
        (sign if group == " " else ",",),
        point,
        group,
    )


def _beside(sign: str, point: str, group: str) -> NumberFormat:
    """A number with a sign before or behind it."""
    either = rf"{re.escape(group)}|{SPACES}"
    number = rf"({_WHOLE % f'({either})'})(\{point}[0-9]+)?"
    mark = re.escape(sign)
    behind = rf"-?{number}{SPACES}?{mark}"
    before = rf"-?{mark}{SPACES}?-?{number}"
    pattern = rf"^({behind})$" if sign == "%" else rf"^({before}|{behind})$"
    example = f"1{group}234{point}5"
    name = f"decimal:{example} %" if sign == "%" else f"decimal:{sign} {example}"
    telling = (mark, "[.,]") if point == "," else (mark,)
    return NumberFormat(name, pattern, telling, point, group, sign)


def expand_exponent(cells: pa.Array) -> pa.Array:
    """Numbers with all their digits in place of an exponent; missing where those are too many.

    >>> expand_exponent(pa.array(["1.25e3", "5E-2", "7.5", "1e400"])).to_pylist()
    ['1250', '0.05', '7.5', None]
    """
    parts = pc.extract_regex(cells, _EXPONENT)
    sign, whole, part, power = (pc.struct_field(parts, name) for name in "swfe")
    power = pc.utf8_ltrim(pc.fill_null(power, ""), "+")
    exponents = pc.cast(pc.if_else(pc.equal(power, ""), "0", power), pa.int64())
    made = pa.nulls(len(cells), pa.string())
    known = pc.fill_null(exponents, 0).to_numpy()
    for exponent in sorted(set(known.tolist())):
        if abs(exponent) <= MOST_EXPONENT:
            here = pa.array(known == exponent)
            made = pc.if_else(here, _moved(whole, part, exponent), made)
    made = pc.if_else(pc.is_null(cells), pa.scalar(None, pa.string()), made)
    return pc.binary_join_element_wise(sign, made, "")


def _moved(whole: pa.Array, part: pa.Array, places: int) -> pa.Array:
    """The digits before and behind the point, with it so many places further right."""
    if places > 0:
        part = pc.utf8_rpad(part, places, "0")
        whole = pc.binary_join_element_wise(whole, pc.utf8_slice_codeunits(part, 0, places), "")
        part = pc.utf8_slice_codeunits(part, places)
    elif places < 0:
        whole = pc.utf8_lpad(whole, 1 - places, "0")
        part = pc.binary_join_element_wise(pc.utf8_slice_codeunits(whole, places), part, "")
        whole = pc.utf8_slice_codeunits(whole, 0, places)
    whole = pc.utf8_ltrim(whole, "0")
    whole = pc.if_else(pc.equal(whole, ""), "0", whole)
    joined = pc.binary_join_element_wise(whole, part, ".")
    return pc.if_else(pc.equal(part, ""), whole, joined)


@dataclass(frozen=True)
class ValueFormat:
    """A way in which values of a kind are written.

    Parameters
    ----------
    type : ColumnType
        What ``--type`` takes for it.
    pattern : str
        A regular expression that every cell of that form matches.
    read : callable
        Turns text cells that match into an Arrow array, missing where a cell
        has no value, as the 31st of February.
    telling : tuple of str
        Patterns each of which some cell must hold, or the form is not shown by any.
    outline : str, optional
        The outline of every cell of that form, where they all have the same one.
    assumes : str
        What is assumed to read it so: somebody has to ask for such a form.
    """

    type: ColumnType
    pattern: str
    read: Callable[[pa.Array], pa.Array]
    telling: tuple[str, ...] = ()
    outline: str | None = None
    assumes: str = ""

    @property
    def family(self) -> Family:
        """The family of the values."""
        return self.type.family


def _truth(yes: str, no: str) -> Callable[[pa.Array], pa.Array]:
    def read(cells: pa.Array) -> pa.Array:
        lower = pc.utf8_lower(cells)
        return pc.if_else(
            pc.equal(lower, yes), True, pc.if_else(pc.equal(lower, no), False, pa.scalar(None))
        )

    return read


def _dated(family: Family, form: str, assumes: str = "") -> ValueFormat:
    outline = (
        None if "%z" in form else _outline(re.sub("%[bBp]", "a", re.sub("%[^bBp]", "0", form)))
    )
    return ValueFormat(
        ColumnType(family, form),
        date_regex(form),
        lambda cells: parse_dates(cells, form, family),
        outline=outline,
        assumes=assumes,
    )


def _either(family: Family, forms: Sequence[str]) -> ValueFormat:
    """Several forms of one kind: a cell is read by the first that it is written in."""
    each = [_dated(family, form) for form in forms]
    bare = (re.sub(r"\?P<\w+>", "", e.pattern) for e in each)

    def read(cells: pa.Array) -> pa.Array:
        return pc.coalesce(*(one.read(cells) for one in each))

    return ValueFormat(ColumnType(family, "|".join(forms)), "|".join(bare), read)


def _outline(text: str) -> str:
    """The text with ``a`` for letters and ``0`` for digits, without full stops behind letters.

    >>> _outline("5. Apr. 2031"), _outline("5.4.2031, 10:30 a.m.")
    ('0. a 0', '0.0.0, 0:0 a')
    """
    text = re.sub(rf"(?<={NAME_LETTER})\.", "", text)
    return re.sub("[0-9]+", "0", re.sub(f"{NAME_LETTER}+", "a", text))


def _all_forms() -> dict[ColumnType, ValueFormat]:
    made = [
        ValueFormat(
            ColumnType.parse(number_format.name),
            number_format.pattern,
            number_format.read,
            number_format.telling,
        )
        for number_format in number_formats()
    ]
    for yes, no in (("yes", "no"), ("y", "n"), ("t", "f")):
        made.append(
            ValueFormat(
                ColumnType("boolean", f"{yes}/{no}"), rf"(?i)^({yes}|{no})$", _truth(yes, no)
            )
        )
    made += [_dated("date", form) for form in _DAYS]
    made += [_dated("time", form) for form in _CLOCKS]
    made += [
        _dated("datetime", f"{day}{between}{clock}")
        for day in ("%Y-%m-%d", *_DAYS)
        for between in (" ", "T", ", ")
        for clock in _CLOCKS
    ]
    made += [_dated("date", form, _CENTURIES) for form in _SHORT_YEARS]
    made += [
        _dated("datetime", f"{day} {clock}", _CENTURIES)
        for day in _SHORT_YEARS
        for clock in _CLOCKS[:2]
    ]
    made += [_dated("date", form, assumes) for form, assumes in _FIRST_DAYS.items()]
    made.append(_dated("datetime", "%Y-%m-%dT%H:%M:%S%z"))
    made.append(_dated("datetime", "%Y-%m-%d %H:%M:%S%z"))
    made.append(_dated("datetime", "%Y-%m-%dT%H:%M:%S.%f%z"))
    return {form.type: form for form in made}


FORMS = _all_forms()


def format_for_type(type_: ColumnType) -> ValueFormat:
    """The form of that type, or a new one where it is written by a pattern of dates.

    Raises
    ------
    UsageError
        For a way to write that is not known.
    """
    if type_ in FORMS:
        return FORMS[type_]
    if (type_.has_day or type_.family == "time") and "%" in type_.written:
        patterns = type_.written.split("|")
        return _either(type_.family, patterns) if patterns[1:] else _dated(type_.family, *patterns)
    name = str(type_)
    raise UsageError(
        f"unknown type {name!r}",
        remedy=suggest_name(name, [*DECLARABLE, *map(str, FORMS)])
        or f"one of {', '.join(DECLARABLE)}",
    )


def declarable_type(text: str) -> ColumnType:
    """The type of that name, which ``--type`` and plans take.

    Raises
    ------
    UsageError
        For a name that is none.

    Examples
    --------
    >>> declarable_type("date:%d.%m.%Y")
    ColumnType(family='date', written='%d.%m.%Y')
    """
    type_ = ColumnType.parse(text)
    if text not in DECLARABLE:
        format_for_type(type_)
    return type_


def formats_matching_sample(glance: pa.ChunkedArray) -> list[ValueFormat]:
    """The forms that all cells of a sample are written in; the cells are not empty.

    >>> [str(form.type) for form in formats_matching_sample(pa.chunked_array([["3/4/2031"]]))]
    ['date:%d/%m/%Y', 'date:%m/%d/%Y']
    """
    likely = formats_of_cell(glance[0].as_py())
    return [form for form in likely if _all_match(glance, form.pattern)]


def formats_of_cell(text: str) -> Iterator[ValueFormat]:
    """The forms that one cell is written in.

    >>> [str(form.type) for form in formats_of_cell("31/3/2031")]
    ['date:%d/%m/%Y', 'date:%m/%d/%Y']
    """
    for form in formats_by_outline([text]):
        if re.match(form.pattern, text):
            yield form


def formats_by_outline(texts: Iterable[str]) -> Iterator[ValueFormat]:
    """The forms that some of the texts may be written in, by their outlines.

    To try every pattern takes longer than most commands.
    """
    there = {_outline(text) for text in texts}
    by_outline = _by_outline()
    found = {o for outline in (None, *there) for o in by_outline.get(outline, ())}
    forms = list(FORMS.values())
    digits = any("0" in outline for outline in there)  # without one there is a truth at most
    return (forms[f] for f in sorted(found) if digits or forms[f].family == "boolean")


@cache
def _by_outline() -> dict[str | None, list[int]]:
    """The places of the forms of each outline; of those of any, under ``None``."""
    made: dict[str | None, list[int]] = {}
    for at, form in enumerate(FORMS.values()):
        made.setdefault(form.outline, []).append(at)
    return made


def _all_match(cells: pa.ChunkedArray, pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(cells, pattern)).as_py())


def parse_with_format(cells: pa.Array, form: ValueFormat) -> pa.Array:
    """Text cells read by a form; missing stays missing.

    Raises
    ------
    pyarrow.ArrowInvalid
        When a cell is not written so, or has no value.
    """
    if not bool(pc.all(pc.match_substring_regex(cells, form.pattern)).as_py() in (True, None)):
        raise pa.ArrowInvalid(f"a cell is not written as {form.type}")
    made = form.read(cells)
    if made.null_count > cells.null_count:
        raise pa.ArrowInvalid(f"a cell has no value as {form.type}")
    return made


def resolve_formats(forms: Sequence[ValueFormat], chunks: Sequence[pa.Array]) -> list[ValueFormat]:
    """The forms in which all cells can be read and give different values.

    Whether ``3/4/2031`` is in March or in April is proved by some cell or not
    at all; then both forms are returned.
    """
    return _narrowest([form for form in forms if _holds(form, chunks)])


def _holds(form: ValueFormat, chunks: Sequence[pa.Array]) -> bool:
    seen_values: set[bool] = set()
    try:
        for chunk in chunks:
            with_format = parse_with_format(chunk, form)
            if form.family == "boolean":
                seen_values |= {
                    v for v in (True, False) if pc.any(pc.equal(with_format, v)).as_py()
                }
    except pa.ArrowInvalid:
        return False
    if not all(map(partial(_seen, chunks), form.telling)):
        return False
    return form.family != "boolean" or len(seen_values) == 2


def _seen(chunks: Sequence[pa.Array], pattern: str) -> bool:
    """Whether some cell holds what a pattern says."""
    return any(pc.any(pc.match_substring_regex(chunk, pattern)).as_py() for chunk in chunks)


def _narrowest(forms: Sequence[ValueFormat]) -> list[ValueFormat]:
    """Without those that only read the same more widely: decimals of which none has a fraction."""
    types = {form.type for form in forms}
    return [
        form
        for form in forms
        if not (form.family == "decimal" and ColumnType("integer", form.type.written[:5]) in types)
    ]
