"""Numbers as people write them: ``1.234,5``, ``1 234,5``, ``12 %``, ``€ 1,200.50``, ``1.2e3``."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

MONEY = ("€", "$", "£", "¥")
SPACES = "[ \u00a0\u202f]"
MOST_EXPONENT = 60
# At most 18 digits: more in one cell are a list of codes, or an identifier.
_WHOLE = r"0|[1-9][0-9]{0,2}(%s[0-9]{3}){1,5}|[1-9][0-9]{0,17}"
_EXPONENT = (
    r"^(?P<s>-?)(?P<w>0|[1-9][0-9]{0,75})"
    r"(?:\.(?P<f>[0-9]+))?(?:[eE](?P<e>[+-]?[0-9]{1,3}))?$"
)


@dataclass(frozen=True)
class NumberForm:
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
        if self.name == "decimal:1e3":
            return without_exponent(cells)
        if self.beside:
            cells = pc.replace_substring_regex(cells, f"{re.escape(self.beside)}|{SPACES}", "")
        group = SPACES if self.group == " " else re.escape(self.group)
        plain = pc.replace_substring_regex(cells, group, "")
        if self.point == ",":
            plain = pc.replace_substring(plain, ",", ".")
        return plain if self.point else pc.cast(plain, pa.int64())


def number_forms() -> Iterator[NumberForm]:
    """All of them, the usual ones first."""
    for point, group in ((".", ","), (",", ".")):
        yield from _grouped(point, group, re.escape(group))
    for point in (",", "."):
        yield from _grouped(point, " ", SPACES)
    for sign in ("%", *MONEY):
        for point, group in ((".", ","), (",", ".")):
            yield _beside(sign, point, group)
    yield NumberForm("decimal:1e3", _EXPONENT, ("[eE]", r"\.|[eE][+-]"), ".", "")


def _grouped(point: str, group: str, sign: str) -> Iterator[NumberForm]:
    whole = _WHOLE % sign
    if group != " " or point == ",":
        yield NumberForm(f"integer:1{group}234", rf"^-?({whole})$", (sign,), "", group)
    yield NumberForm(
        f"decimal:1{group}234{point}5",
        rf"^-?({whole})(\{point}[0-9]+)?$",
        (sign if group == " " else ",",),
        point,
        group,
    )


def _beside(sign: str, point: str, group: str) -> NumberForm:
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
    return NumberForm(name, pattern, telling, point, group, sign)


def without_exponent(cells: pa.Array) -> pa.Array:
    """Numbers with all their digits in place of an exponent; missing where those are too many.

    >>> without_exponent(pa.array(["1.25e3", "5E-2", "7.5", "1e400"])).to_pylist()
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
