"""Options that several commands have, spelt the same everywhere."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plait.core.account.errors import UsageError
from plait.core.table.keyspec import names

_MOST_DIGITS = 15

if TYPE_CHECKING:
    from plait.formats.sources import Given


class _Target(argparse.Action):
    """Takes a file apart from the table in it."""

    def __call__(
        self,
        parser: argparse.ArgumentParser,
        namespace: argparse.Namespace,
        values: Any,
        option_string: str | None = None,
    ) -> None:
        from plait.formats.outputs import file_and_table

        namespace.out, namespace.out_table = file_and_table(values)


def name_of_result(options: argparse.Namespace) -> str | None:
    """What the result is called: as the table it goes to, or the file."""
    if not options.out:
        return None
    return getattr(options, "out_table", None) or str(options.out.stem)


def add_output(parser: argparse.ArgumentParser) -> None:
    """Where results go, and what is shown."""
    group = parser.add_argument_group("output")
    group.add_argument(
        "--out",
        action=_Target,
        metavar="FILE",
        help="where the result goes; the ending says the format: .csv .tsv .parquet .arrow .json "
        ".jsonl .xlsx .sqlite, FILE.sqlite#TABLE for a table of a database (without it: CSV on "
        "standard output)",
    )
    group.add_argument(
        "--aside",
        type=Path,
        metavar="DIR",
        help="where rows that are set aside go (without it: beside --out, in NAME-aside)",
    )
    group.add_argument(
        "--aside-limit",
        type=_limit,
        metavar="N|all|none",
        help="how many rows each of those lists has at most (without it: all rows that are left "
        "out, and 100,000 of the cells on which two sources differ)",
    )
    group.add_argument(
        "--guard-formulas",
        action="store_true",
        help="put ' before cells of text files that a spreadsheet would run as formulas",
    )
    add_telling(group)


def whole_number(text: str) -> int:
    """A whole number that is not below 0, for ``type`` of an option."""
    if not text.isdecimal() or len(text) > _MOST_DIGITS:
        raise argparse.ArgumentTypeError(f"{text!r} is no whole number")
    return int(text)


def column_names(text: str) -> tuple[str, ...]:
    """One column or more, for ``type`` of an option."""
    found = names(text)
    if not found:
        raise argparse.ArgumentTypeError("no column is named")
    return found


def some_text(text: str) -> str:
    """Anything but nothing, for ``type`` of an option."""
    if not text.strip():
        raise argparse.ArgumentTypeError("nothing is named")
    return text


def _one_of(option: str, words: tuple[str, ...]) -> Callable[[str], str]:
    def checked(text: str) -> str:
        if text in words:
            return text
        from plait.core.account.names import nearest

        raise UsageError(
            f"{option} is {' or '.join(words)}, not {text!r}", remedy=nearest(text, words)
        )

    return checked


def _codes(text: str) -> tuple[str, ...]:
    from plait.core.account.finding import checked_codes

    return checked_codes(names(text))


def _limit(text: str) -> int:
    """A number of rows; ``all`` and ``none`` are numbers too."""
    words = {"all": sys.maxsize, "none": 0}
    return words[text] if text in words else whole_number(text)


def add_telling(group: Any) -> None:
    """What is told, and when that is a failure."""
    group.add_argument(
        "--report", type=Path, metavar="FILE", help="write the account as an HTML page"
    )
    group.add_argument(
        "--fail-on",
        type=_codes,
        default=(),
        metavar="CODE,…",
        help="end with status 1 and hand nothing over when a finding of such a code, or of such "
        "a severity (note, warning, error) or a worse one, stands",
    )
    group.add_argument("--replace", action="store_true", help="write over files that are there")
    group.add_argument(
        "--json",
        action="store_true",
        help="print the account as JSON on standard output (with --out where there is a result)",
    )
    group.add_argument("--quiet", action="store_true", help="say nothing but errors")
    group.add_argument("--verbose", action="store_true", help="show all examples with their places")


def add_plan(parser: argparse.ArgumentParser) -> None:
    """The plan, and values for its parameters."""
    parser.add_argument("plan", type=Path, metavar="PLAN", help="a plan file: season.toml")
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="a value for a parameter that the plan declares",
    )


def add_plan_telling(parser: argparse.ArgumentParser) -> None:
    """What is told of a plan."""
    parser.add_argument(
        "--fail-on",
        type=_codes,
        default=(),
        metavar="CODE,…",
        help="end with status 1 when a finding of such a code or severity stands",
    )
    parser.add_argument("--json", action="store_true", help="print the account as JSON")
    parser.add_argument("--quiet", action="store_true", help="say nothing but errors")
    parser.add_argument("--verbose", action="store_true", help="show all examples with places")


def add_reading(parser: argparse.ArgumentParser) -> None:
    """How sources are written, where that is not to be found out."""
    group = parser.add_argument_group("reading")
    group.add_argument("--encoding", metavar="NAME", help="such as windows-1252 or utf-16")
    group.add_argument(
        "--delimiter", metavar="SIGN", help="one sign, or comma, semicolon, tab, pipe"
    )
    group.add_argument("--quote", metavar="SIGN", help="the sign around cells (default: found)")
    group.add_argument("--escape", metavar="SIGN", help="the sign before a quote in a cell")
    group.add_argument(
        "--header-line",
        type=whole_number,
        metavar="N",
        help="the line the header begins on (or sheet row)",
    )
    group.add_argument(
        "--footer",
        type=whole_number,
        default=0,
        metavar="N",
        help="set the last N rows aside, as totals",
    )
    group.add_argument(
        "--ragged",
        default="error",
        metavar="error|set-aside",
        help="what to do with rows of too few or too many cells",
    )


def add_typing(parser: argparse.ArgumentParser) -> None:
    """What cells mean, where that is not to be found out."""
    group = parser.add_argument_group("types")
    group.add_argument(
        "--missing", type=names, default=(), metavar="TEXT,…", help="texts that mean a missing cell"
    )
    group.add_argument(
        "--type",
        action="append",
        default=[],
        metavar="COLUMN=TYPE",
        help="integer, decimal, boolean, date, datetime, time, text; or a written form, as "
        "date:%%d.%%m.%%Y or decimal:1.234,5",
    )
    group.add_argument(
        "--unfit",
        type=_one_of("--unfit", ("error", "missing", "set-aside")),
        default="error",
        metavar="error|missing|set-aside",
        help="what to do with cells that do not fit a type (default: error)",
    )


def given_of(options: argparse.Namespace) -> Given:
    """What the line says of how its sources are written.

    Raises
    ------
    UsageError
        For a name or sign that is none.
    """
    from plait.formats.stated import stated

    return stated(
        options.encoding,
        options.delimiter,
        options.quote,
        options.escape,
        options.header_line,
        options.ragged,
        options.footer,
    )


def add_comparing(parser: argparse.ArgumentParser) -> None:
    """How keys are compared."""
    group = parser.add_argument_group("comparing keys")
    add_ignore(group)
    group.add_argument(
        "--pairs",
        metavar="FILE",
        help="a table of keys of the left that count as keys of the right, as plait keys --out "
        "writes it",
    )
    group.add_argument(
        "--missing-keys",
        default="apart",
        metavar="apart|match",
        help="match takes missing keys for equal to one another (default: they match nothing)",
    )


def add_ignore(group: Any) -> None:
    """What does not count in a comparison."""
    group.add_argument(
        "--ignore",
        type=names,
        default=(),
        metavar="WHAT,…",
        help="what does not count when keys are compared: case, space, punctuation, accents, "
        "leading-zeros, number-form (7.0 is 7), date-form (5.4.2031 is 2031-04-05); the cells "
        "stay as they are",
    )


def add_columns(parser: Any, option: str, text: str, required: bool = False) -> None:
    """An option that takes columns, which a shell can complete."""
    parser.add_argument(
        option, type=column_names, default=(), required=required, metavar="COLUMN,…", help=text
    ).completer = complete_columns


def missing_match(options: argparse.Namespace) -> bool:
    """Whether missing keys are to match.

    Raises
    ------
    UsageError
        For a word that is none.
    """
    if options.missing_keys not in ("apart", "match"):
        raise UsageError(f"--missing-keys is apart or match, not {options.missing_keys!r}")
    return bool(options.missing_keys == "match")


def add_origin(parser: argparse.ArgumentParser) -> None:
    """The column that says which sources a row came from."""
    parser.add_argument(
        "--origin",
        metavar="COLUMN",
        help="add a column with the names of the sources each row came from, joined by +",
    )


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
