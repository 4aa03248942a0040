"""An option, and an operation with its options: plain data that every front end reads."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import Enum, auto
from importlib import import_module
from typing import Any

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.base.wording import Setting, wording
from plait.core.codes.normalize import IgnoredWords
from plait.core.table.table import Table


class OptionKind(Enum):
    """How the value of an option is written; each front end has its own way for each."""

    TEXT = auto()
    COLUMN = auto()
    FLAG = auto()
    WHOLE = auto()  # a whole number from 0
    SPAN = auto()  # a line, or the first and last of several: 2-3
    CHOICE = auto()  # one of some words
    SWITCH = auto()  # one of two words, of which the second switches on
    COLUMNS = auto()  # names of columns; in a plan a text is one name
    NAMES = auto()  # the same, but a text in a plan may hold several, with commas
    WORDS = auto()  # some of a few words
    WORD_LIST = auto()  # words of any kind; the command line also takes a file of them
    LINES = auto()  # texts, each taken as it is
    PAIRS = auto()  # NAME=VALUE
    SEVERAL = auto()  # NAME=VALUE,VALUE
    EXPRESSIONS = auto()  # NAME=EXPRESSION
    KEY = auto()  # the columns of a key
    KEY_OF_TWO = auto()  # the same, OLD=NEW where they changed their names
    KEYS = auto()  # a key for all tables, or one for each
    TABLE = auto()  # another source
    ALL_OR_SOME = auto()  # on by itself, or only for the columns named


class InputArity(Enum):
    """The tables that an operation is given."""

    ONE = auto()
    EACH = auto()  # two or more sources of one table each
    TWO = auto()  # two, an old one and a new one
    ALL = auto()  # any number of sources, with all their extracts


@dataclass(frozen=True)
class Option:
    """What an operation can be asked for.

    Parameters
    ----------
    name : str
        The key in a plan: ``fold_headers``; ``--fold-headers`` on the command line.
    help : str
        A sentence, without a full stop.
    default : object
        Where the form alone does not say it.
    choices : tuple of str
        Of a choice or a switch.
    placeholder : str
        What the help of the command line shows for the value.
    parameter : str
        What the operation's function calls it, where that is another word.
    group : str
        The heading that it is under in the help.
    """

    name: str
    kind: OptionKind
    help: str
    default: Any = None
    choices: tuple[str, ...] = ()
    placeholder: str = ""
    required: bool = False
    parameter: str = ""
    group: str = ""

    @property
    def flag(self) -> str:
        """How the command line spells it.

        >>> Option("fold_headers", OptionKind.FLAG, "…").flag
        '--fold-headers'
        """
        return "--" + self.name.replace("_", "-")


@dataclass(frozen=True)
class OperationSpec:
    """An operation: what it is for, what it takes, and what it can be asked for.

    Parameters
    ----------
    function : str
        Where it is done: ``module:function``. It is given its tables (one table, if it
        takes one), the options by their names, and ``name`` for the result.
    progress_text : str
        What a person reads while it is done.
    inputs : str
        What the plan says of its inputs.
    meaning : str
        What it does, in a few words.
    description : str
        The same in two or three sentences.
    examples : tuple of str
        Command lines.
    python_inputs : tuple of str
        What a call from Python names its inputs.
    positional_count : int
        How many options such a call may give without their names.
    doctest : str
        An example of such a call, as a doctest.
    daily : tuple of str
        The options that help shows first; none: all that have no group.
    """

    name: str
    function: str
    progress_text: str
    arity: InputArity
    inputs: str
    meaning: str
    description: str
    examples: tuple[str, ...]
    options: tuple[Option, ...]
    python_inputs: tuple[str, ...]
    positional_count: int
    doctest: str
    daily: tuple[str, ...] = ()


def run_operation(
    spec: OperationSpec,
    tables: Sequence[Table | Sequence[Table]],
    values: Mapping[str, Any],
    name: str | None = None,
    **more: Any,
) -> Any:
    """Do what an operation is asked for.

    Parameters
    ----------
    values : mapping of str to object
        Of the options, by their names; those that are not there, or None, have their defaults.
    name : str, optional
        What the result is called.
    **more
        For the operation's function, beside the options.

    Returns
    -------
    Result
        Or what the function returns.
    """
    place, _, function = spec.function.partition(":")
    given: dict[str, Any] = {}
    for option in spec.options:
        if values.get(option.name) is None:
            continue
        parameter, value = option.parameter or option.name, _meant(option, values[option.name])
        # Options of one parameter add up: ways to be ignored, and words.
        given[parameter] = (*given[parameter], *value) if parameter in given else value
    if name is not None:
        given["name"] = name
    inputs = tables[0] if spec.arity is InputArity.ONE else list(tables)
    return getattr(import_module(place), function)(inputs, **given, **more)


_OF_SEVERAL = (OptionKind.LINES, OptionKind.PAIRS, OptionKind.SEVERAL, OptionKind.EXPRESSIONS)


def _meant(option: Option, value: Any) -> Any:
    """The value as the operation's function takes it: a switch is on or off, a bare text a list."""
    if isinstance(value, str) and option.kind in (OptionKind.WORDS, OptionKind.WORD_LIST):
        value = [word.strip() for word in value.split(",")]
    if option.kind is OptionKind.WORD_LIST:
        return (IgnoredWords(tuple(value)),) if value else ()
    if isinstance(value, str) and option.kind in _OF_SEVERAL:
        return [value]
    if option.choices and value not in option.choices:
        raise UsageError(
            wording(Setting(option.name), f" is {' or '.join(option.choices)}, not {value!r}"),
            remedy=suggest_name(str(value), option.choices),
        )
    return value == option.choices[1] if option.kind is OptionKind.SWITCH else value
