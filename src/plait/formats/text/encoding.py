"""Which encoding a text file is in, and reading it as UTF-8.

UTF-8 is read as it is; any other encoding is turned into UTF-8 on the way, so
that all that follows sees one encoding only.
"""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from typing import IO

from plait.core.account.errors import SourceError, UsageError

UTF8 = "utf-8"
_MARKS = (
    (codecs.BOM_UTF8, UTF8),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_STEP = 1 << 20
# Known by name as if they were encodings; they change text into other text.
_NO_TEXT = (
    *("idna", "punycode", "undefined", "unicode_escape", "raw_unicode_escape"),
    *("unicode-escape", "raw-unicode-escape", "base64", "bz2", "hex", "quopri", "rot13"),
    *("uu", "zlib"),
)
# Bytes that stand for nothing in Windows-1252; Latin-1 gives every byte a meaning.
_NOT_1252 = frozenset(b"\x81\x8d\x8f\x90\x9d")


def byte_order_mark(head: bytes) -> tuple[str, int] | None:
    """The encoding that a byte-order mark names, and the mark's length.

    >>> byte_order_mark(b"\\xff\\xfea\\0")
    ('utf-16-le', 2)
    """
    for mark, encoding in _MARKS:
        if head.startswith(mark):
            return encoding, len(mark)
    return None


def likely_encoding(head: bytes) -> str:
    """The encoding of a text by its first bytes.

    A byte-order mark decides; then whether every other byte is zero, as in the
    UTF-16 of most languages of Europe; then whether the bytes are UTF-8. What is
    none of these is taken for Windows-1252, or Latin-1 if it has bytes that
    Windows-1252 lacks.

    >>> likely_encoding("größe".encode()), likely_encoding("größe".encode("cp1252"))
    ('utf-8', 'cp1252')
    """
    marked = byte_order_mark(head)
    if marked:
        return marked[0]
    if len(head) > 3 and (zeros := head.count(0)) > len(head) // 4:
        wide = "utf-32" if zeros > len(head) * 5 // 8 else "utf-16"
        return f"{wide}-be" if head[0] == 0 else f"{wide}-le"
    if is_utf8_so_far(head) or _mostly_utf8(head):
        return UTF8
    return "latin-1" if _NOT_1252 & set(head) else "cp1252"


def is_utf8_so_far(head: bytes) -> bool:
    """Whether the bytes are UTF-8, be it cut off within a letter."""
    try:
        codecs.getincrementaldecoder(UTF8)().decode(head)
    except UnicodeDecodeError:
        return False
    return True


def _mostly_utf8(head: bytes) -> bool:
    """Whether letters of several bytes outnumber the bytes at fault: a broken file in UTF-8."""
    text = head.decode(UTF8, "replace")
    faults = text.count("\ufffd")
    return len(text) - len(text.encode("ascii", "ignore")) > 2 * faults


def checked_encoding(name: str) -> str:
    """The encoding's name as Python knows it.

    Raises
    ------
    UsageError
        For a name that is none.

    Examples
    --------
    >>> checked_encoding("Windows-1252"), checked_encoding("UTF8")
    ('cp1252', 'utf-8')
    """
    try:
        found = codecs.lookup(name).name
        is_text = found not in _NO_TEXT and codecs.getincrementaldecoder(found)().decode(b"") == ""
    except (LookupError, ValueError, TypeError, AssertionError, AttributeError):
        is_text = False
    if not is_text:
        raise UsageError(
            f"unknown encoding {name!r}", remedy="such as utf-8, utf-16, windows-1252, latin-1"
        )
    return found


def settled(encoding: str | None, head: bytes) -> str:
    """The encoding to read with: what is given, and which of two where that leaves it open.

    >>> settled("utf-16", b"a\\0b\\0"), settled("utf-16", b"\\xfe\\xff\\0a")
    ('utf-16-le', 'utf-16-be')
    """
    if encoding not in ("utf-16", "utf-32"):
        return encoding or likely_encoding(head)
    found = likely_encoding(head)
    return found if found.startswith(encoding) else f"{encoding}-le"


def recoded(stream: IO[bytes], encoding: str, where: str) -> Iterator[bytes]:
    """A binary stream in some encoding as pieces of UTF-8.

    Parameters
    ----------
    stream : binary file
        Behind its byte-order mark.
    encoding : str
    where : str
        The file, for errors.
    """
    decoder = codecs.getincrementaldecoder(encoding)()
    lines, data = 0, b"-"
    while data:
        data = stream.read(_STEP)
        try:
            text = decoder.decode(data, final=not data)
        except UnicodeDecodeError as error:
            line = lines + data.count(b"\n", 0, error.start) + 1
            raise SourceError(
                f"the file is not encoded as {encoding}",
                f"{where}, line {line:,}",
                "set the encoding, for example: --encoding windows-1252",
            ) from None
        lines += text.count("\n")
        yield text.encode(UTF8, "surrogatepass")
