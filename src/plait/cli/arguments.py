"""Options as arguments of the command line: how each form of value is written there."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterable
from textwrap import fill
from typing import Any

from plait.core.account.errors import UsageError
from plait.core.table.keyspec import names
from plait.options.option import Form, Option, Takes, Verb

_MOST_DIGITS = 15
_WIDTH = 79
_SOURCES = {
    Takes.ONE: "a file, file#sheet, or name=path",
    Takes.EACH: "a file, file#sheet or name=path; the left table first",
    Takes.TWO: "the old and the new table: a handover, a file, file#sheet or name=path",
    Takes.ALL: "a file, a glob, a folder, file#sheet or name=path",
}


def whole_number(text: str) -> int:
    """A whole number that is not below 0, for ``type`` of an argument."""
    if not text.isdecimal() or len(text) > _MOST_DIGITS:
        raise argparse.ArgumentTypeError(f"{text!r} is not a whole number")
    return int(text)


def lines(text: str) -> str:
    """A line, or the first and the last of several, for ``type`` of an argument."""
    for part in text.split("-", 1):
        whole_number(part)
    return text


def column_names(text: str) -> tuple[str, ...]:
    """One column or more, for ``type`` of an argument."""
    found = names(text)
    if not found:
        raise argparse.ArgumentTypeError("name at least one column")
    return found


def some_text(text: str) -> str:
    """Anything but nothing, for ``type`` of an argument."""
    if not text.strip():
        raise argparse.ArgumentTypeError("the value is empty")
    return text


class Compute(argparse.Action):
    """Takes an expression, and whether a type was named before it."""

    def __call__(
        self,
        parser: argparse.ArgumentParser,
        namespace: argparse.Namespace,
        values: Any,
        option_string: str | None = None,
    ) -> None:
        """Keep it in the one list or in the other."""
        name = "compute" if namespace.type else "compute_first"
        setattr(namespace, name, [*getattr(namespace, name, []), values])


def help_of(verb: Verb) -> dict[str, str]:
    """What the help of a command says around its options."""
    word = "examples" if len(verb.examples) > 1 else "example"
    lines = "".join(f"\n  {one}" for one in verb.examples)
    return {"description": fill(verb.description, _WIDTH), "epilog": f"{word}:{lines}"}


def add_verb(parser: argparse.ArgumentParser, verb: Verb) -> None:
    """The sources of a verb, and its options."""
    add_sources(parser, verb.takes)
    add_options(parser, verb.options)


def add_sources(parser: argparse.ArgumentParser, takes: Takes = Takes.ALL) -> None:
    """The sources of a command."""
    number: Any = {Takes.ONE: 1, Takes.TWO: 2}.get(takes, "+")
    parser.add_argument("sources", nargs=number, metavar="SOURCE", help=_SOURCES[takes])


def add_options(parser: argparse.ArgumentParser, options: Iterable[Option]) -> None:
    """Options, under the headings that they name."""
    groups: dict[str, Any] = {"": parser}
    for one in options:
        if one.group not in groups:
            groups[one.group] = parser.add_argument_group(one.group)
        _add(groups[one.group], one)


def add_reading(parser: argparse.ArgumentParser, options: Iterable[Option]) -> None:
    """Options that can be given again, for one source by its name."""
    groups: dict[str, Any] = {}
    for one in options:
        if one.group not in groups:
            note = "each can be set for one source by name: --footer register=1"
            groups[one.group] = parser.add_argument_group(one.group, note)
        if one.form is Form.FLAG:
            # Without a value, or it would take the source behind it for one.
            groups[one.group].add_argument(
                one.flag, action="append_const", const="yes", default=[], help=_help(one)
            )
            continue
        groups[one.group].add_argument(
            one.flag,
            action="append",
            default=[],
            metavar=f"[SOURCE=]{one.shown or '|'.join(one.choices)}",
            help=_help(one),
        )


def read_value(option: Option, text: str) -> Any:
    """The value that a text gives for an option.

    Raises
    ------
    UsageError
        When it gives none.
    """
    read = _FORMS[option.form](option).get("type", str)
    try:
        return read(text)
    except argparse.ArgumentTypeError as error:
        raise UsageError(f"{option.flag}: {error}") from None


def _add(group: Any, option: Option) -> None:
    made = group.add_argument(option.flag, help=_help(option), **_FORMS[option.form](option))
    if option.shown.startswith("COLUMN,"):
        made.completer = complete_columns


def _help(option: Option) -> str:
    text = option.help.replace("%", "%%")
    default = option.choices[0] if option.form is Form.SWITCH else option.default
    return text if default in (None, 0, ()) else f"{text} (default: {default})"


def _text(option: Option) -> dict[str, Any]:
    return {"metavar": option.shown, "default": option.default, "required": option.required}


def _flag(option: Option) -> dict[str, Any]:
    return {"action": "store_true"}


def _words(option: Option) -> dict[str, Any]:
    return {**_text(option), "type": names, "default": ()}


def _columns(option: Option) -> dict[str, Any]:
    read = column_names if option.shown.startswith("COLUMN") else names
    return {**_text(option), "type": read, "default": option.default}


def _repeated(option: Option) -> dict[str, Any]:
    return {"metavar": option.shown, "action": "append", "default": []}


def _one_of(option: Option) -> dict[str, Any]:
    default = option.choices[0] if option.form is Form.SWITCH else option.default
    read = _checked(option.flag, option.choices)
    return {"metavar": "|".join(option.choices), "type": read, "default": default}


def _checked(flag: str, words: tuple[str, ...]) -> Callable[[str], str]:
    def checked(text: str) -> str:
        if text in words:
            return text
        from plait.core.account.names import nearest

        said = f"{', '.join(words[:-1])} or {words[-1]}"
        raise UsageError(f"{flag} must be {said}, not {text!r}", remedy=nearest(text, words))

    return checked


_FORMS: dict[Form, Callable[[Option], dict[str, Any]]] = {
    Form.TEXT: _text,
    Form.COLUMN: _text,
    Form.TABLE: _text,
    Form.FLAG: _flag,
    Form.WHOLE: lambda option: {**_text(option), "type": whole_number},
    Form.SPAN: lambda option: {**_text(option), "type": lines},
    Form.CHOICE: _one_of,
    Form.SWITCH: _one_of,
    Form.COLUMNS: _columns,
    Form.NAMES: _columns,
    Form.WORDS: _words,
    Form.LINES: _repeated,
    Form.PAIRS: _repeated,
    Form.SEVERAL: _repeated,
    Form.EXPRESSIONS: lambda option: {**_repeated(option), "action": Compute},
    Form.KEY: lambda option: {**_text(option), "type": some_text},
    Form.KEY_OF_TWO: lambda option: {**_text(option), "type": some_text},
    Form.KEYS: lambda option: {**_repeated(option), "type": some_text},
    Form.ALL_OR_SOME: lambda option: {
        "metavar": option.shown,
        "nargs": "?",
        "const": True,
        "default": False,
    },
}


def complete_columns(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Columns of the sources on the line so far, for a shell that completes ``--key``."""
    from plait.core.account.errors import PlaitError
    from plait.formats.reading import read_columns
    from plait.formats.sources import find_sources

    done, _comma, _rest = prefix.rpartition(",")
    try:
        sources = find_sources(getattr(parsed_args, "sources", None) or [])
        known = dict.fromkeys(name for one in sources for name in read_columns(one))
    except (PlaitError, OSError):
        return []
    return [f"{done},{name}" if done else name for name in known]
