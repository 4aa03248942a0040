"""What is stated of how a source is written, checked before anything is read."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from plait.core.account.errors import UsageError
from plait.core.account.limits import LIMITS, limits_of
from plait.core.account.names import nearest
from plait.formats.places.given import Dialect, Given, checked_delimiter
from plait.formats.text.encoding import checked_encoding

RAGGED = ("error", "set-aside")
MERGED = ("keep", "fill")
_READING = ("SELECT", "WITH", "VALUES", "TABLE", "SHOW")


def stated(
    encoding: str | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    escape: str | None = None,
    header_line: int | str | None = None,
    ragged: str = "error",
    footer: int = 0,
    query: str | None = None,
    timeout: int | None = None,
    limit: Mapping[str, str] | Iterable[str] = (),
    merged: str = "keep",
    as_shown: bool = False,
) -> Given:
    """How a source is written, as a person says it; what is not said is found out.

    Parameters
    ----------
    encoding : str, optional
    delimiter : str, optional
        One sign, or ``comma``, ``semicolon``, ``tab``, ``pipe``.
    quote, escape : str, optional
        One sign each.
    header_line : int or str, optional
        From 1; of headings in several rows the first and the last, ``2-3``.
    ragged : {"error", "set-aside"}
    footer : int
        How many rows at the end are set aside.
    query : str, optional
        What a database is asked for in place of a table.
    timeout : int, optional
        Seconds that a database or an address may take.
    limit : mapping of str to str, or iterable of NAME=VALUE
        What may be larger than usual, or must be smaller.
    merged : {"keep", "fill"}
        What cells hold that are merged downwards with the first.
    as_shown : bool
        Take numbers of a workbook with the zeros that are shown in front of them.

    Raises
    ------
    UsageError
        For a name or sign that is none.

    Examples
    --------
    >>> stated(delimiter="semicolon").dialect.delimiter
    ';'
    """
    for name, sign in (("quote", quote), ("escape", escape)):
        if sign is not None and not (len(sign) == 1 and sign.isascii()):
            raise UsageError(f"--{name} must be one character, not {sign!r}")
    if ragged not in RAGGED:
        raise UsageError(
            f"--ragged is {' or '.join(RAGGED)}, not {ragged!r}", remedy=nearest(ragged, RAGGED)
        )
    if merged not in MERGED:
        raise UsageError(
            f"--merged is {' or '.join(MERGED)}, not {merged!r}", remedy=nearest(merged, MERGED)
        )
    if footer < 0:
        raise UsageError("lines are counted from 1")
    dialect = Dialect(
        None if encoding is None else checked_encoding(encoding),
        None if delimiter is None else checked_delimiter(delimiter),
        quote,
        escape,
        *_header_rows(header_line),
    )
    if query is not None:
        _check_query(query)
    if timeout == 0:
        raise UsageError("--timeout is a number of seconds from 1")
    limits = limits_of(_mapping(limit)) if limit else LIMITS
    return Given(dialect, ragged, footer, limits, query or "", timeout, merged, as_shown)


def _check_query(text: str) -> None:
    """See that a query is one that reads, as far as its first word tells."""
    word = (text.replace("(", " ").split() or [""])[0]
    if word.upper() not in _READING:
        raise UsageError(
            f"a query begins with SELECT, not {word!r}",
            remedy="for one of several sources: --query 'NAME=SELECT …'",
        )


def _header_rows(header_line: int | str | None) -> tuple[int | None, int | None]:
    """The line on which the header begins, and how many rows it has."""
    if header_line is None:
        return None, None
    first, _, last = str(header_line).partition("-")
    if not first.isdecimal() or not (last or first).isdecimal():
        raise UsageError(f"--header-line is a line, or two as 2-3, not {header_line!r}")
    begin, end = int(first), int(last or first)
    if not 1 <= begin <= end:
        raise UsageError("lines are counted from 1")
    return begin, end - begin + 1


def _mapping(said: Mapping[str, str] | Iterable[str]) -> dict[str, str]:
    if isinstance(said, Mapping):
        return dict(said)
    pairs = [one.partition("=") for one in said]
    wrong = next((name for name, sign, _ in pairs if not sign), None)
    if wrong is not None:
        raise UsageError(f"--limit is NAME=N, not {wrong!r}", remedy="such as --limit unpacked=4GB")
    return {name: value for name, _, value in pairs}
