"""What a person says of how a source is written; the rest is found out."""

from __future__ import annotations

from dataclasses import dataclass, field

from plait.core.account.errors import UsageError
from plait.core.account.limits import LIMITS, Limits

DELIMITERS = {"comma": ",", "tab": "\t", "semicolon": ";", "pipe": "|"}


@dataclass(frozen=True)
class Dialect:
    """How a delimited file is written. What is ``None`` is to be found out.

    Parameters
    ----------
    encoding : str, optional
    delimiter : str, optional
        One character.
    quote : str, optional
        One character.
    escape : str, optional
        The character that takes the meaning of the next one away; empty when
        quotes in a cell are doubled.
    header_line : int, optional
        The line that the header begins on, from 1.
    header_rows : int, optional
        In how many rows the headings stand.
    """

    encoding: str | None = None
    delimiter: str | None = None
    quote: str | None = None
    escape: str | None = None
    header_line: int | None = None
    header_rows: int | None = None

    @property
    def regular(self) -> bool:
        """Whether quotes are as in RFC 4180."""
        return self.quote == '"' and not self.escape

    def shown(self) -> str:
        """In words: ``windows-1252, semicolon``."""
        names = {sign: name for name, sign in DELIMITERS.items()}
        said = [
            {"cp1252": "windows-1252"}.get(self.encoding or "", self.encoding or ""),
            names.get(self.delimiter or "", repr(self.delimiter)),
        ]
        said += [f"quote {self.quote}"] if self.quote not in ('"', None) else []
        said += [f"escape {self.escape}"] if self.escape else []
        return ", ".join(said)


def checked_delimiter(word: str) -> str:
    """The character that a word means: itself, or one of the names in ``DELIMITERS``.

    >>> checked_delimiter("semicolon"), checked_delimiter("^")
    (';', '^')
    """
    sign = DELIMITERS.get(word.lower(), "\t" if word == "\\t" else word)
    if len(sign) != 1 or not sign.isascii() or sign in '"\r\n':
        raise UsageError(
            f"{word!r} is not a valid delimiter",
            remedy=f"one character, or {', '.join(DELIMITERS)}",
        )
    return sign


@dataclass(frozen=True)
class Given:
    """What a person says of how a source is written; the rest is found out.

    Parameters
    ----------
    dialect : Dialect
        Of delimited text; ``header_line`` counts for workbooks too.
    ragged : {"error", "set-aside"}
        What is done with rows of too few or too many cells.
    footer : int
        How many rows at the end are set aside.
    limits : Limits
    query : str
        What a database is asked for, in its own SQL, in place of a table.
    timeout : int, optional
        Seconds that a database or an address may take.
    merged : {"keep", "fill"}
        Of merged cells of a workbook the first has the value: whether the others get it.
    as_shown : bool
        Whether numbers of a workbook are taken with the zeros in front that are shown.
    """

    dialect: Dialect = field(default_factory=Dialect)
    ragged: str = "error"
    footer: int = 0
    limits: Limits = LIMITS
    query: str = ""
    timeout: int | None = None
    merged: str = "keep"
    as_shown: bool = False
