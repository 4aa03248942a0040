"""How delimited text is written where the next program wants it otherwise.

``--write delimiter=semicolon,decimal=comma,encoding=utf-8-bom,dates=%d.%m.%Y,places=2``: what a
spreadsheet of another country opens with a double click. Values stay what they are, apart from
decimals that are rounded to ``places``; text stays as it stands.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields
from functools import partial

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import OutputError, UsageError
from plait.core.base.names import suggest_name
from plait.core.table.table import Table
from plait.core.text.cells import is_text_type, to_text
from plait.core.text.decimals import MOST_DIGITS, format_decimal, smallest_decimal_type
from plait.core.types import exact_numbers
from plait.core.types.column_type import ColumnType
from plait.core.types.date_formats import date_regex
from plait.core.types.inference import canonical_number_text, parse_column, to_arrow_type
from plait.core.types.value_formats import format_for_type

_DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "pipe": "|"}
_DECIMALS = {"point": ".", "comma": ","}
_ENCODINGS = {
    "utf-8": "utf-8",
    "utf-8-bom": "utf-8",
    "utf-16": "utf-16-le",
    "windows-1252": "cp1252",
    "iso-8859-1": "latin-1",
    "iso-8859-15": "iso8859-15",
}
_MARKS = {"utf-8-bom": codecs.BOM_UTF8, "utf-16": codecs.BOM_UTF16_LE}
_PLAIN = r"^-?[0-9]+(\.[0-9]+)?$"
_MOST_PLACES = 30
_DAY = 10  # letters of 2031-04-05

Converter = Callable[[pa.Array], pa.Array]


@dataclass(frozen=True)
class TextFormat:
    """How a table is written as delimited text.

    Parameters
    ----------
    delimiter : str, optional
        One character; without it that of the file's ending.
    decimal : str
        The sign before the decimals of numbers.
    encoding : str
        ``utf-8``, ``utf-8-bom``, ``utf-16``, ``windows-1252``, ``iso-8859-1`` or ``iso-8859-15``.
    dates : str, optional
        A pattern for dates, ``%d.%m.%Y``; the time of a datetime stays behind it as it is.
    places : int, optional
        To which decimals are rounded, halves away from zero; whole numbers stay.
    guard_formulas : bool
        Put a ``'`` before cells that a spreadsheet would run as formulas.
    """

    delimiter: str | None = None
    decimal: str = "."
    encoding: str = "utf-8"
    dates: str | None = None
    places: int | None = None
    guard_formulas: bool = False

    @property
    def converts(self) -> bool:
        """Whether cells are written otherwise than they stand."""
        return self.decimal != "." or self.dates is not None or self.places is not None

    @property
    def mark(self) -> bytes:
        """The mark that some encodings have before everything else."""
        return _MARKS.get(self.encoding, b"")

    def encode(self, data: memoryview) -> bytes | memoryview:
        """Text in UTF-8 in the encoding that is wanted.

        Raises
        ------
        OutputError
            For a letter that the encoding does not have.
        """
        encoding = _ENCODINGS[self.encoding]
        if encoding == "utf-8":
            return data
        try:
            return bytes(data).decode("utf-8", "surrogateescape").encode(encoding)
        except UnicodeEncodeError as error:
            letter = error.object[error.start]
            line = error.object[: error.start].rpartition("\n")[2]
            raise OutputError(
                f"{letter!r} cannot be written in {self.encoding}",
                f"the line that begins with {line[:40]!r}",
                "choose encoding=utf-8-bom, which has every letter",
            ) from None


PLAIN_TEXT = TextFormat()
SETTINGS = tuple(field.name for field in fields(TextFormat) if field.name != "guard_formulas")
_PART = re.compile(rf"(?:^|,)\s*({'|'.join(SETTINGS)})\s*=")


def parse_text_format(text: str) -> TextFormat:
    """How text is written, from ``delimiter=semicolon,decimal=comma``.

    Raises
    ------
    UsageError

    Examples
    --------
    >>> parse_text_format("delimiter=semicolon,decimal=comma,dates=%d.%m.%Y,places=2")
    TextFormat(delimiter=';', decimal=',', encoding='utf-8', dates='%d.%m.%Y', places=2, \
guard_formulas=False)
    """
    begins = list(_PART.finditer(text))
    if not begins or begins[0].start():
        name = text.partition("=")[0].strip()
        raise UsageError(
            f"nothing called {name!r} is said of how to write",
            remedy=suggest_name(name, SETTINGS) or f"one of {', '.join(SETTINGS)}, as NAME=VALUE",
        )
    ends = [match.start() for match in begins[1:]] + [len(text)]
    return make_text_format(
        {match[1]: text[match.end() : end].strip() for match, end in zip(begins, ends, strict=True)}
    )


def make_text_format(settings: Mapping[str, object], guard_formulas: bool = False) -> TextFormat:
    """How text is written, from settings by their names.

    Raises
    ------
    UsageError
    """
    made: dict[str, object] = {}
    for name, value in settings.items():
        if name not in SETTINGS:
            raise UsageError(
                f"nothing called {name!r} is said of how to write",
                remedy=suggest_name(name, SETTINGS) or f"one of {', '.join(SETTINGS)}",
            )
        made[name] = _READ[name](str(value))
    return TextFormat(**made, guard_formulas=guard_formulas)  # type: ignore[arg-type]


def _delimiter(text: str) -> str:
    sign = _DELIMITERS.get(text, text)
    if len(sign) != 1 or sign in '"\r\n' or not sign.isascii():
        raise UsageError(
            f"{text!r} is no delimiter", remedy=f"one of {', '.join(_DELIMITERS)}, or the sign"
        )
    return sign


def _decimal(text: str) -> str:
    sign = _DECIMALS.get(text, text)
    if sign not in _DECIMALS.values():
        raise UsageError(f"{text!r} is no decimal sign", remedy="point or comma")
    return sign


def _encoding(text: str) -> str:
    name = re.sub("^utf-?", "utf-", text.lower().replace("_", "-"))
    if name not in _ENCODINGS:
        raise UsageError(
            f"nothing is written in {text!r}",
            remedy=suggest_name(name, _ENCODINGS) or f"one of {', '.join(_ENCODINGS)}",
        )
    return name


def _dates(text: str) -> str:
    date_regex(text)
    if "%" not in text:
        raise UsageError(f"{text!r} is not a date format", remedy="such as %d.%m.%Y")
    return text


def _places(text: str) -> int:
    if not text.isdigit() or int(text) > _MOST_PLACES:
        raise UsageError(
            f"{text!r} is no number of decimal places", remedy=f"0 to {_MOST_PLACES}, such as 2"
        )
    return int(text)


_READ: dict[str, Callable[[str], object]] = {
    "delimiter": _delimiter,
    "decimal": _decimal,
    "encoding": _encoding,
    "dates": _dates,
    "places": _places,
}


def column_converters(table: Table, text_format: TextFormat) -> dict[str, Converter]:
    """For each column whose cells are written otherwise, what writes them.

    >>> from plait.core.table.table import table_from_columns
    >>> honey = table_from_columns("honey", {"kg": ["12.5", "n/a"], "code": ["007", "1.5"]})
    >>> written = column_converters(honey, TextFormat(decimal=",", places=2))
    >>> {name: write(honey.cells(honey.column(name), 0, 2)).to_pylist()
    ...  for name, write in written.items()}
    {'kg': ['12,50', 'n/a']}
    """
    converters: dict[str, Converter] = {}
    for name in table.column_names if text_format.converts else ():
        type_ = table.column_type(name)
        rounds = text_format.places is not None and type_.family == "decimal"
        if type_.is_number and (text_format.decimal != "." or rounds):
            converters[name] = partial(_number_texts, type_=type_, text_format=text_format)
        elif type_.has_day and text_format.dates is not None:
            arrow = to_arrow_type(type_, table.chunks(name))
            converters[name] = partial(
                _date_texts, type_=type_, arrow=arrow, pattern=text_format.dates
            )
    return converters


def _number_texts(cells: pa.Array, type_: ColumnType, text_format: TextFormat) -> pa.Array:
    """Numbers with another decimal sign, or rounded; what is no number there stays as it is."""
    texts = to_text(cells).cast(pa.string())
    plain = texts if is_text_type(cells.type) else canonical_number_text(texts)
    if not type_.is_plain:
        form = format_for_type(type_)
        written = pc.match_substring_regex(texts, form.pattern)
        made = form.read(pc.if_else(written, texts, pa.scalar(None, pa.string())))
        plain = pc.coalesce(to_text(made).cast(pa.string()), texts)
    numeric = pc.match_substring_regex(plain, _PLAIN)
    if text_format.places is not None and type_.family == "decimal":
        missing = pa.scalar(None, pa.string())
        plain = pc.coalesce(
            _rounded(pc.if_else(numeric, plain, missing), text_format.places), plain
        )
    return pc.if_else(numeric, pc.replace_substring(plain, ".", text_format.decimal), texts)


def _rounded(texts: pa.Array, places: int) -> pa.Array:
    """Plain numbers with so many places; those that have too many digits for that stay."""
    decimals = exact_numbers.parse_decimals(texts)
    made = exact_numbers.round_half_away(decimals, places)
    if made.type.scale < places:
        precision = made.type.precision - made.type.scale + places
        if precision > MOST_DIGITS:
            return texts
        made = made.cast(smallest_decimal_type(precision, places))
    return format_decimal(made).cast(pa.string())


def _date_texts(cells: pa.Array, type_: ColumnType, arrow: pa.DataType, pattern: str) -> pa.Array:
    """Dates by a pattern, with the time behind it where there is one."""
    values = parse_column(cells, type_, arrow)
    made = pc.strftime(values, pattern)
    if not pa.types.is_date(values.type):
        times = pc.utf8_slice_codeunits(to_text(values).cast(pa.string()), _DAY)
        made = pc.binary_join_element_wise(made.cast(pa.string()), times, "")
    return pc.coalesce(made.cast(pa.string()), to_text(cells).cast(pa.string()))
