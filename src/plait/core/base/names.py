"""Names as people mistype them: the nearest right one, and headers that fold to the same."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Container, Iterable, Sequence

_LEAST_LIKENESS = 60.0
_SLIP = 80.0
_NO_NAME = re.compile(r"[<>=$#\"|{}\\]+")
_UNSEEN = ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp")
_LONGEST = 100
_NAMED_EACH = 3


def suggest_name(name: str, known: Iterable[str]) -> str:
    """``did you mean …?`` with the known name most like the given one, or nothing.

    >>> suggest_name("hvie", ["yard", "hive"])
    'did you mean hive?'
    >>> suggest_name("zzz", ["yard", "hive"])
    ''
    """
    text = closest_name(name, known)
    return f"did you mean {text}?" if text else ""


def closest_name(name: str, known: Iterable[str]) -> str | None:
    """The known name most like the given one, ignoring case; ``None`` when none is near."""
    from rapidfuzz import fuzz, process

    best = process.extractOne(
        name, list(known), scorer=fuzz.ratio, processor=fold_heading, score_cutoff=_LEAST_LIKENESS
    )
    return best[0] if best else None


def fold_heading(header: str) -> str:
    """A header without case, spaces and punctuation.

    >>> fold_heading(" Hive-No. ")
    'hiveno'
    """
    return re.sub(r"[\W_]+", "", unicodedata.normalize("NFKC", header)).casefold()


def is_misspelling(one: str, other: str) -> bool:
    """Whether two folded headers are alike but for a slip of the pen; other digits are none.

    >>> is_misspelling("moisture", "moistre"), is_misspelling("weight1", "weight2")
    (True, False)
    """
    from rapidfuzz import fuzz

    if not fuzz.ratio(one, other, score_cutoff=_SLIP):  # nearly all pairs
        return False
    return re.sub(r"\D", "", one) == re.sub(r"\D", "", other)


def to_table_name(text: str) -> str:
    """A name of a table that can stand in a line, a plan and a comparison.

    Control characters, signs that are not seen, and those that mean something in a plan
    become ``-``.

    >>> to_table_name("yield >= 5\\n[x]"), to_table_name("Größe 2031")
    ('yield - 5 [x]', 'Größe 2031')
    """
    plain = " ".join(_NO_NAME.sub("-", "".join(map(_seen, text))).split())[:_LONGEST].strip()
    while len(plain.encode()) > 2 * _LONGEST:
        plain = plain[:-1]
    return plain or "table"


def _seen(sign: str) -> str:
    """A sign as it is, space for one that makes space, a hyphen for one that nobody sees."""
    if sign.isspace():
        return " "
    return sign if unicodedata.category(sign) not in _UNSEEN else "-"


def to_file_name(name: str) -> str:
    """A name that a file can have, in the folder where it is to be and in no other.

    >>> to_file_name("../2031/visits"), to_file_name("..")
    ('..-2031-visits', 'table')
    """
    plain = to_table_name(name.replace("/", "-"))
    return plain if plain.strip(".") else "table"


def is_valid_unicode(word: str) -> bool:
    """Whether a word has whole letters only: bytes that are no text come as surrogates.

    >>> is_valid_unicode("é"), is_valid_unicode("\\udcff")
    (True, False)
    """
    try:
        word.encode()
    except UnicodeEncodeError:
        return False
    return True


def printable_path(path: str) -> str:
    """A path as text: bytes that are no text spelt out, as are signs that make a new line.

    >>> printable_path("may\\udcff.csv")
    'may\\\\xff.csv'
    """
    text = path.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    return "".join(
        sign if sign.isprintable() else sign.encode("unicode_escape").decode() for sign in text
    )


def joint_name(names: Sequence[str]) -> str:
    """How messages and lists call several tables as one.

    >>> joint_name(["may", "june"]), joint_name(["may", "june", "july", "august"])
    ('may+june', 'may-and-3-more')
    """
    if len(names) <= _NAMED_EACH:
        return "+".join(names)
    return f"{names[0]}-and-{len(names) - 1}-more"


def unused_names(wishes: Iterable[str], taken: Iterable[str] = ()) -> list[str]:
    """Names that differ: each wish as it is, or with the first free number behind it.

    >>> unused_names(["a", "b", "a", "a"])
    ['a', 'b', 'a (2)', 'a (3)']
    """
    used, tried, names = set(taken), dict[str, int](), []
    for wish in wishes:
        names.append(unused_name(wish, used, tried))
        used.add(names[-1])
    return names


def unused_name(name: str, taken: Container[str], tried: dict[str, int] | None = None) -> str:
    """The name, or with the first free number behind it.

    Parameters
    ----------
    tried : dict of str to int, optional
        Up to which number the names are taken, kept from one call to the next: for
        very many names that are alike.

    Examples
    --------
    >>> unused_name("a", ["a", "a (2)"])
    'a (3)'
    """
    if name not in taken:
        return name
    number = tried.get(name, 2) if tried is not None else 2
    while f"{name} ({number})" in taken:
        number += 1
    if tried is not None:
        tried[name] = number
    return f"{name} ({number})"
