"""Values and remedies as a plan has them."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Iterable

from plait.core.specs.option import OptionKind
from plait.core.specs.several_tables import OPERATIONS
from plait.core.specs.shared import LABEL, READING, TYPING

_OPTION = re.compile(r"--([a-z]+(?:-[a-z]+)*)")
_TABLES = (OptionKind.PAIRS, OptionKind.SEVERAL, OptionKind.EXPRESSIONS)
_FLAGS = (OptionKind.FLAG, OptionKind.ALL_OR_SOME)
_LISTS = (OptionKind.WORDS, OptionKind.COLUMNS, OptionKind.NAMES, OptionKind.KEY, OptionKind.KEYS)
_EVERY = [
    *(option for verb in OPERATIONS.values() for option in verb.options),
    *(LABEL, *TYPING, *READING),
]
# What two operations give in two forms (the rule of a column, or of all cells) goes by the table.
_FORMS = {e.flag.removeprefix("--"): e.kind for e in reversed(_EVERY)} | {
    one.flag.removeprefix("--"): one.kind for one in _EVERY if one.kind in _TABLES
}


def toml_string(text: str) -> str:
    """A text in double quotes: what JSON writes is TOML too, but for one control sign.

    >>> toml_string('a "b"')
    '"a \\\\"b\\\\""'
    """
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def toml_literal_string(text: str) -> str:
    """A text in which nothing is a parameter.

    >>> toml_literal_string("${x}.csv")
    '"$${x}.csv"'
    """
    return toml_string(text.replace("${", "$${"))


def toml_array(texts: Iterable[str]) -> str:
    """A list of texts.

    >>> toml_array(["case", "space"])
    '["case", "space"]'
    """
    return f"[{', '.join(map(toml_string, texts))}]"


def remedy_as_toml(remedy: str) -> str:
    """A remedy with its options as keys of a plan, where it is nothing but options.

    >>> remedy_as_toml("--ignore case,space")
    'ignore = ["case", "space"]'
    >>> remedy_as_toml("--same 'Moisture %=Moistre %'")
    'same = { "Moisture %" = "Moistre %" }'
    >>> remedy_as_toml("--fold-headers brings them together")
    'fold_headers = true brings them together'

    A command that is named whole stays as it is.

    >>> remedy_as_toml("plait mend may.csv --trim")
    'plait mend may.csv --trim'
    >>> remedy_as_toml("--rule says what is done")
    'rule says what is done'
    """
    match = _OPTION.search(remedy)
    if not match or "plait " in remedy:
        return remedy
    before, option, rest = remedy[: match.start()], match[1], remedy[match.end() :]
    form = _FORMS.get(option)
    if form in _FLAGS:
        return f"{before}{_key(option)} = true{remedy_as_toml(rest)}"
    value, after = _value(rest)
    if value is None or (form in _TABLES and "=" not in value):
        return f"{before}{_key(option)}{remedy_as_toml(rest)}"
    return f"{before}{_key(option)} = {_toml(form, value)}{remedy_as_toml(after)}"


def _key(option: str) -> str:
    return option.replace("-", "_")


def _value(rest: str) -> tuple[str | None, str]:
    """The value behind an option, and what follows it."""
    match = re.match(r" ('[^']*'|\"[^\"]*\"|[^\s;:()]*[^\s;:(),.])", rest)
    if not match:
        return None, rest
    try:
        (value,) = shlex.split(match[1])
    except ValueError:
        return None, rest
    return value, rest[match.end() :]


def _toml(form: OptionKind | None, value: str) -> str:
    if form in _TABLES and "=" in value:
        name, _, text = value.partition("=")
        return f"{{ {toml_string(name.strip(chr(34)))} = {toml_string(text)} }}"
    if form in _LISTS:
        return toml_array(value.split(","))
    whole = form is OptionKind.WHOLE or (form is OptionKind.SPAN and value.isdecimal())
    return value if whole else toml_string(value)
