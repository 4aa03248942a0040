"""Options as arguments of the command line: how each form of value is written there."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

from plait.core.base.errors import UsageError
from plait.core.specs.option import InputArity, OperationSpec, Option, OptionKind
from plait.core.table.key_spec import parse_names

_MOST_DIGITS = 15
_MOST_WORD_BYTES = 1 << 20
_SOURCES = {
    InputArity.ONE: "a file, file#sheet, or name=path",
    InputArity.EACH: "a file, file#sheet or name=path; the left table first",
    InputArity.TWO: "the old and the new table: a handover, a file, file#sheet or name=path",
    InputArity.ALL: "a file, a glob, a folder, file#sheet or name=path",
}


def parse_whole_number(text: str) -> int:
    """A whole number that is not below 0, for ``type`` of an argument."""
    if not text.isdecimal() or len(text) > _MOST_DIGITS:
        raise argparse.ArgumentTypeError(f"{text!r} is not a whole number")
    return int(text)


def parse_line_range(text: str) -> str:
    """A line, or the first and the last of several, for ``type`` of an argument."""
    for part in text.split("-", 1):
        parse_whole_number(part)
    return text


def parse_column_names(text: str) -> tuple[str, ...]:
    """One column or more, for ``type`` of an argument."""
    names = parse_names(text)
    if not names:
        raise argparse.ArgumentTypeError("name at least one column")
    return names


def parse_word_list(text: str) -> tuple[str, ...]:
    """Words with commas between them, or those of a file, for ``type`` of an argument."""
    if not text.startswith("@"):
        return tuple(parse_names(text))
    from plait.io.places.safe_files import read_plain

    try:
        lines = read_plain(Path(text[1:]), _MOST_WORD_BYTES).decode("utf-8-sig").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not UTF-8 text"
        raise argparse.ArgumentTypeError(f"cannot read {text[1:]}: {reason}") from None
    return tuple(line.strip() for line in lines if line.strip())


def parse_nonempty_text(text: str) -> str:
    """Anything but nothing, for ``type`` of an argument."""
    if not text.strip():
        raise argparse.ArgumentTypeError("the value is empty")
    return text


class ComputeAction(argparse.Action):
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


def format_help(spec: OperationSpec) -> dict[str, str]:
    """What the help of a command says around its options."""
    word = "examples" if len(spec.examples) > 1 else "example"
    lines = "".join(f"\n  {example}" for example in spec.examples)
    return {"description": spec.description, "epilog": f"{word}:{lines}"}


def add_operation_arguments(parser: argparse.ArgumentParser, spec: OperationSpec) -> None:
    """The sources of an operation, and its options."""
    add_source_arguments(parser, spec.arity)
    first = [option for option in spec.options if option.name in spec.daily]
    rest = [option for option in spec.options if option.name not in spec.daily]
    add_option_arguments(parser, [replace(option, group="") for option in first])
    more = f"more options of {spec.name}" if first else ""
    add_option_arguments(parser, [replace(option, group=option.group or more) for option in rest])


def add_source_arguments(
    parser: argparse.ArgumentParser, takes: InputArity = InputArity.ALL
) -> None:
    """The sources of a command."""
    number: Any = {InputArity.ONE: 1, InputArity.TWO: 2}.get(takes, "+")
    parser.add_argument("sources", nargs=number, metavar="SOURCE", help=_SOURCES[takes])


def add_option_arguments(parser: argparse.ArgumentParser, options: Iterable[Option]) -> None:
    """Options, under the headings that they name."""
    groups: dict[str, Any] = {"": parser}
    for option in options:
        if option.group not in groups:
            groups[option.group] = parser.add_argument_group(option.group)
        _add(groups[option.group], option)


def add_read_arguments(parser: argparse.ArgumentParser, options: Iterable[Option]) -> None:
    """Options that can be given again, for one source by its name."""
    groups: dict[str, Any] = {}
    for option in options:
        if option.group not in groups:
            note = "each can be set for one source by name: --footer register=1"
            groups[option.group] = parser.add_argument_group(option.group, note)
        if option.kind is OptionKind.FLAG:
            # Without a value, or it would take the source behind it for one.
            groups[option.group].add_argument(
                option.flag, action="append_const", const="yes", default=[], help=_help(option)
            )
            continue
        groups[option.group].add_argument(
            option.flag,
            action="append",
            default=[],
            metavar=f"[SOURCE=]{option.placeholder or '|'.join(option.choices)}",
            help=_help(option),
        )


def parse_option_value(option: Option, text: str) -> Any:
    """The value that a text gives for an option.

    Raises
    ------
    UsageError
        When it gives none.
    """
    read = _FORMS[option.kind](option).get("type", str)
    try:
        return read(text)
    except argparse.ArgumentTypeError as error:
        raise UsageError(f"{option.flag}: {error}") from None


def _add(group: Any, option: Option) -> None:
    made = group.add_argument(option.flag, help=_help(option), **_FORMS[option.kind](option))
    if option.placeholder.startswith("COLUMN,"):
        made.completer = complete_column_names


def _help(option: Option) -> str:
    text = option.help.replace("%", "%%")
    default = option.choices[0] if option.kind is OptionKind.SWITCH else option.default
    return text if default in (None, 0, ()) else f"{text} (default: {default})"


def _text(option: Option) -> dict[str, Any]:
    return {"metavar": option.placeholder, "default": option.default, "required": option.required}


def _flag(option: Option) -> dict[str, Any]:
    return {"action": "store_true"}


def _words(option: Option) -> dict[str, Any]:
    return {**_text(option), "type": parse_names, "default": ()}


def _columns(option: Option) -> dict[str, Any]:
    read = parse_column_names if option.placeholder.startswith("COLUMN") else parse_names
    return {**_text(option), "type": read, "default": option.default}


def _repeated(option: Option) -> dict[str, Any]:
    return {"metavar": option.placeholder, "action": "append", "default": []}


def _choice_arguments(option: Option) -> dict[str, Any]:
    default = option.choices[0] if option.kind is OptionKind.SWITCH else option.default
    read = _checked(option.flag, option.choices)
    return {"metavar": "|".join(option.choices), "type": read, "default": default}


def _checked(flag: str, words: tuple[str, ...]) -> Callable[[str], str]:
    def checked(text: str) -> str:
        if text in words:
            return text
        from plait.core.base.names import suggest_name

        message = f"{', '.join(words[:-1])} or {words[-1]}"
        raise UsageError(
            f"{flag} must be {message}, not {text!r}", remedy=suggest_name(text, words)
        )

    return checked


_FORMS: dict[OptionKind, Callable[[Option], dict[str, Any]]] = {
    OptionKind.TEXT: _text,
    OptionKind.COLUMN: _text,
    OptionKind.TABLE: _text,
    OptionKind.FLAG: _flag,
    OptionKind.WHOLE: lambda option: {**_text(option), "type": parse_whole_number},
    OptionKind.SPAN: lambda option: {**_text(option), "type": parse_line_range},
    OptionKind.CHOICE: _choice_arguments,
    OptionKind.SWITCH: _choice_arguments,
    OptionKind.COLUMNS: _columns,
    OptionKind.NAMES: _columns,
    OptionKind.WORDS: _words,
    OptionKind.WORD_LIST: lambda option: {**_words(option), "type": parse_word_list},
    OptionKind.LINES: _repeated,
    OptionKind.PAIRS: _repeated,
    OptionKind.SEVERAL: _repeated,
    OptionKind.EXPRESSIONS: lambda option: {**_repeated(option), "action": ComputeAction},
    OptionKind.KEY: lambda option: {**_text(option), "type": parse_nonempty_text},
    OptionKind.KEY_OF_TWO: lambda option: {**_text(option), "type": parse_nonempty_text},
    OptionKind.KEYS: lambda option: {**_repeated(option), "type": parse_nonempty_text},
    OptionKind.ALL_OR_SOME: lambda option: {
        "metavar": option.placeholder,
        "nargs": "?",
        "const": True,
        "default": False,
    },
}


def complete_column_names(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Columns of the sources on the line so far, for a shell that completes ``--key``."""
    from plait.core.base.errors import PlaitError
    from plait.io.read import read_columns
    from plait.io.sources import find_sources

    done, _comma, _rest = prefix.rpartition(",")
    try:
        sources = find_sources(getattr(parsed_args, "sources", None) or [])
        known = dict.fromkeys(name for source in sources for name in read_columns(source))
    except (PlaitError, OSError):
        return []
    return [f"{done},{name}" if done else name for name in known]
