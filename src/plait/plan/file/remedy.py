"""Remedies for the command line, as a plan has them."""

from __future__ import annotations

import re
import shlex

from plait.options.option import Form
from plait.options.shared import LABEL, READING, TYPING
from plait.options.verbs import VERBS
from plait.plan.file.quoting import listed, quoted

_OPTION = re.compile(r"--([a-z]+(?:-[a-z]+)*)")
_TABLES = (Form.PAIRS, Form.SEVERAL, Form.EXPRESSIONS)
_FLAGS = (Form.FLAG, Form.ALL_OR_SOME)
_LISTS = (Form.WORDS, Form.COLUMNS, Form.NAMES, Form.KEY, Form.KEYS)
_EVERY = [
    *(option for verb in VERBS.values() for option in verb.options),
    *(LABEL, *TYPING, *READING),
]
# What two verbs give in two forms (the rule of a column, or of all cells) goes by the table.
_FORMS = {one.flag.removeprefix("--"): one.form for one in reversed(_EVERY)} | {
    one.flag.removeprefix("--"): one.form for one in _EVERY if one.form in _TABLES
}


def in_plan(remedy: str) -> str:
    """A remedy with its options as keys of a plan, where it is nothing but options.

    >>> in_plan("--ignore case,space")
    'ignore = ["case", "space"]'
    >>> in_plan("--same 'Moisture %=Moistre %'")
    'same = { "Moisture %" = "Moistre %" }'
    >>> in_plan("--fold-headers brings them together")
    'fold_headers = true brings them together'

    A command that is named whole stays as it is.

    >>> in_plan("plait mend may.csv --trim")
    'plait mend may.csv --trim'
    >>> in_plan("--rule says what is done")
    'rule says what is done'
    """
    match = _OPTION.search(remedy)
    if not match or "plait " in remedy:
        return remedy
    before, option, rest = remedy[: match.start()], match[1], remedy[match.end() :]
    form = _FORMS.get(option)
    if form in _FLAGS:
        return f"{before}{_key(option)} = true{in_plan(rest)}"
    value, after = _value(rest)
    if value is None or (form in _TABLES and "=" not in value):
        return f"{before}{_key(option)}{in_plan(rest)}"
    return f"{before}{_key(option)} = {_toml(form, value)}{in_plan(after)}"


def _key(option: str) -> str:
    return option.replace("-", "_")


def _value(rest: str) -> tuple[str | None, str]:
    """The value behind an option, and what follows it."""
    found = re.match(r" ('[^']*'|\"[^\"]*\"|[^\s;:()]*[^\s;:(),.])", rest)
    if not found:
        return None, rest
    try:
        (value,) = shlex.split(found[1])
    except ValueError:
        return None, rest
    return value, rest[found.end() :]


def _toml(form: Form | None, value: str) -> str:
    if form in _TABLES and "=" in value:
        name, _, text = value.partition("=")
        return f"{{ {quoted(name.strip(chr(34)))} = {quoted(text)} }}"
    if form in _LISTS:
        return listed(value.split(","))
    whole = form is Form.WHOLE or (form is Form.SPAN and value.isdecimal())
    return value if whole else quoted(value)
