"""The program: which command, and what an error says."""

from __future__ import annotations

import argparse
import errno
import os
import re
import sys
from collections.abc import Iterator, Sequence
from importlib import import_module
from typing import Any, NoReturn

from plait._version import __version__
from plait.cli.process import (
    NOBODY_READS,
    OutputClosedError,
    exit_immediately,
    handle_termination_as_interrupt,
    pause_garbage_collection,
    reserve_standard_streams,
    was_stopped,
)
from plait.core.base.errors import OutputError, PlaitError, UsageError

COMMANDS = {
    "survey": "inspect sources first: columns, keys, possible joins, problems",
    "keys": "audit a key, or explain why the keys of two sources do not match",
    "mend": "clean up one table: names, types, fields, computed columns, rows",
    "stack": "append the rows of several files, matching columns by name",
    "join": "combine the columns of tables, matching rows on a key",
    "settle": "reduce the rows of each key to one, with a rule for each column",
    "beside": "place tables side by side, pairing rows by position",
    "group": "compute counts, sums and other figures for each group of rows",
    "widen": "reshape long to wide: one column for each value of a column",
    "lengthen": "reshape wide to long: one row for each cell of some columns",
    "draft": "write a starter plan from what a survey finds",
    "compare": "show what changed between two handovers or datasets, by key",
    "check": "show what a plan would do, without writing anything",
    "run": "run a plan, and hand over the result with its proof",
    "history": "list every run of a plan: when, how it ended, its figures",
    "schedule": "run a plan at set times, with the system's own scheduler",
    "notify": "test the notices that a plan sends",
    "trace": "trace rows of a handover, cell by cell, back to the sources",
    "help": "explain the keys of a plan and the files of a handover",
    "demo": "write the demo data, and run a complete example on it",
}
OPERATION_COMMANDS = ("mend", "stack", "join", "settle", "beside", "group", "widen", "lengthen")
INTERRUPTED = 130
_NO_MEMORY = (
    "can't start new thread",
    "Failed to launch worker thread",
    "annot allocate memory",
    "failed to map segment",
)
_VALUE = re.compile("-[^-A-Za-z]")  # no option: those begin with two of them, but for -h

_WIDTH = 79
_OPERANDS: dict[Any, str] = {"+": "{0} …", "?": "[{0}]", 2: "{0} {0}"}  # by nargs


class CommandLineParser(argparse.ArgumentParser):
    """An argument parser that offers the nearest right word for a wrong one."""

    def __init__(self, **options: Any) -> None:
        options.setdefault("allow_abbrev", False)
        options.setdefault("formatter_class", argparse.RawDescriptionHelpFormatter)
        super().__init__(**options)

    def format_help(self) -> str:
        """The help; its first line names the sources, and leaves the options to their list."""
        from textwrap import fill

        self.description = fill(self.description or "", _WIDTH)
        operands = [
            _OPERANDS.get(action.nargs, "{0}").format(action.metavar or action.dest)
            for action in self._get_positional_actions()
        ]
        self.usage = self.usage or " ".join([self.prog, *operands, "[OPTION …]"])
        return super().format_help()

    def error(self, message: str) -> NoReturn:
        """Raise what is wrong, to be told as all else is."""
        raise UsageError(message, remedy=f"run {self.prog} --help for usage")

    def parse_whole(self, words: Sequence[str]) -> argparse.Namespace:
        """Parse all the words; one that is left over is an error.

        A value may begin with a minus, as markers for missing do: ``--missing -,n/k``.
        """
        joined: list[str] = []
        for word in words:
            before = joined[-1] if joined else ""
            if _VALUE.match(word) and self._takes_value(before):
                joined[-1] = f"{before}={word}"
            else:
                joined.append(word)
        self._check_given_once(joined)
        options, rest = self.parse_known_args(joined)
        if rest:
            from plait.core.base.synonyms import suggest_word

            names = [
                option_string_action
                for option_string_action in self._option_string_actions
                if option_string_action.startswith("--")
            ]
            word = rest[0].partition("=")[0]
            remedy = suggest_word(word, names) or f"run {self.prog} --help for all options"
            raise UsageError(f"unknown option {rest[0]}", remedy=remedy)
        return options

    def _check_given_once(self, words: Sequence[str]) -> None:
        """Refuse an option of one value that is given twice: the last would win without a word.

        Of two conditions, say, one would then be passed over.
        """
        options = list(words)[: words.index("--")] if "--" in words else words
        given = [self._option_string_actions.get(option.partition("=")[0]) for option in options]
        for action in given:
            if isinstance(action, argparse._StoreAction) and given.count(action) > 1:
                raise UsageError(
                    f"{action.option_strings[0]} is given {given.count(action)} times, "
                    "and takes one value",
                    remedy="several columns, words: A,B; conditions: 'a AND b'",
                )

    def _takes_value(self, word: str) -> bool:
        action = self._option_string_actions.get(word)
        return action is not None and action.nargs != 0


def console_entry() -> NoReturn:
    """The console command."""
    handle_termination_as_interrupt()
    reserve_standard_streams()
    exit_immediately(run_command_line(sys.argv[1:]))


def run_command_line(words: Sequence[str]) -> int:
    """Carry out a command line.

    Parameters
    ----------
    words : sequence of str
        Without the program's name.

    Returns
    -------
    int
        The exit status.
    """
    if "_ARGCOMPLETE" in os.environ:
        _complete()
    _forget_what_was_handed_over()
    try:
        try:
            status = _dispatch(list(words))
        except SystemExit as ended:  # as --version and --help end
            status = int(ended.code or 0)
        if sys.stdout is not None:
            sys.stdout.flush()
        return status
    except PlaitError as error:
        return _tell(error)
    except KeyboardInterrupt:
        return _interrupted()
    except (BrokenPipeError, OutputClosedError):
        sys.stdout = None  # or it is flushed, and fails, once more
        return NOBODY_READS
    except Exception as error:
        causes = list(_causes(error))
        if was_stopped() or any(isinstance(cause, KeyboardInterrupt) for cause in causes):
            return _interrupted()  # a library may make an error of its own of it
        if any(map(_lacks_memory, causes)):
            return _tell(
                PlaitError(
                    "not enough memory to finish",
                    remedy="free some memory, or give fewer or smaller sources",
                )
            )
        if isinstance(error, UnicodeEncodeError) and not _are_text(words):
            return _tell(UsageError("the command line contains text that is not valid UTF-8"))

        from plait.cli.internal_error import report_internal_error

        return report_internal_error(error, words, describe_aborted_state())


def _are_text(words: Sequence[str]) -> bool:
    from plait.core.base.names import is_valid_unicode

    return all(map(is_valid_unicode, words))


def _interrupted() -> int:
    print(f"plait: interrupted; {describe_aborted_state()}", file=sys.stderr)
    return INTERRUPTED


def _causes(error: BaseException) -> Iterator[BaseException]:
    """An error, and what it came of."""
    below: BaseException | None = error
    seen: list[BaseException] = []  # one may lead back to another
    while below is not None and below not in seen:
        yield below
        seen.append(below)
        below = below.__cause__ or below.__context__


def _lacks_memory(error: BaseException) -> bool:
    """Whether an error tells of memory: for threads and for libraries there is no class."""
    if isinstance(error, MemoryError) or getattr(error, "errno", None) == errno.ENOMEM:
        return True
    return not isinstance(error, PlaitError) and any(words in str(error) for words in _NO_MEMORY)


def describe_aborted_state() -> str:
    """What is true when a command is cut short: that nothing was handed over, or what was."""
    loaded = sys.modules.get("plait.io.delivery.delivery")
    handed_over = loaded.handed_over if loaded else []
    if not handed_over:
        return "no output was written"
    more = f" and {len(handed_over) - 1} more" if len(handed_over) > 1 else ""
    return f"{handed_over[0]}{more} had already been written, complete"


def _forget_what_was_handed_over() -> None:
    """Begin anew: a process may carry out several command lines."""
    loaded = sys.modules.get("plait.io.delivery.delivery")
    if loaded:
        loaded.handed_over.clear()


def load_command(name: str) -> Any:
    """What a command is: its ``HELP``, ``add_arguments`` and ``run``."""
    if name in OPERATION_COMMANDS:
        return import_module("plait.cli.commands.operation").make_operation_command(name)
    return import_module(f"plait.cli.commands.{name}")


def _dispatch(words: list[str]) -> int:
    if words and words[0] in COMMANDS:
        with pause_garbage_collection():
            module = load_command(words[0])
            from plait.cli.common_options import open_requested_job
        parser = CommandLineParser(prog=f"plait {words[0]}", **module.HELP)
        module.add_arguments(parser)
        options = parser.parse_whole(words[1:])
        with open_requested_job(options):
            status: int = module.run(options)
        return status
    parser = main_parser()
    if words and not words[0].startswith("-"):
        from plait.core.base.names import suggest_name

        remedy = suggest_name(words[0], COMMANDS) or "run plait --help for the list of commands"
        raise UsageError(f"unknown command {words[0]!r}", remedy=remedy)
    parser.parse_whole(words)
    parser.print_help()
    return 0


def main_parser() -> CommandLineParser:
    """The parser of the program, before any command is known."""
    width = max(map(len, COMMANDS))
    commands = "\n".join(f"  {name:{width}}  {text}" for name, text in COMMANDS.items())
    parser = CommandLineParser(
        prog="plait",
        description="Stack extracts, join tables on their keys, and account for every row.",
        epilog=(
            f"commands:\n{commands}\n\nRun plait COMMAND --help for the options of a "
            "command.\nNew here? plait demo runs a complete example on made-up data."
        ),
        usage="plait COMMAND …",
    )
    parser.add_argument("--version", action="version", version=f"plait {__version__}")
    return parser


def _complete() -> None:
    """Answer a shell that asks how a word goes on."""
    import argcomplete

    parser = main_parser()
    commands = parser.add_subparsers()
    typed = os.environ.get("COMP_LINE", "").split()
    for name in COMMANDS:
        its = commands.add_parser(name, add_help=True)
        if name in typed[1:2]:  # to load those of all takes longer than a person waits
            load_command(name).add_arguments(its)
    argcomplete.autocomplete(parser)


def _tell(error: PlaitError) -> int:
    from plait.cli.terminal import print_error

    if isinstance(error, OutputError) and not error.remedy:
        error.remedy = describe_aborted_state()
    print_error(error)
    return error.status
