"""Options of commands that are none of a verb: where results go, and what is told."""

from __future__ import annotations

import argparse
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from plait.cli.arguments import whole_number
from plait.core.table.keyspec import names


@dataclass(frozen=True)
class TablesBeside:
    """Tables beside the one that a result goes to: what their names begin with."""

    prefix: str


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


def add_guard(group: argparse._ArgumentGroup) -> None:
    """Whether what is written as text is kept from being run as formulas."""
    group.add_argument(
        "--guard-formulas",
        action="store_true",
        help="in text files, put ' before cells that a spreadsheet would run as formulas",
    )


def add_output(parser: argparse.ArgumentParser) -> None:
    """Where results go, and what is shown."""
    group = parser.add_argument_group("output")
    group.add_argument(
        "--out",
        action=_Target,
        metavar="FILE",
        help=(
            "the file for the result; the extension sets the format: .csv .tsv .parquet "
            ".arrow .json .jsonl .xlsx .sqlite. For a database table: "
            "FILE.sqlite#TABLE, postgresql://…#TABLE or mysql://…#TABLE (default: CSV "
            "on standard output)"
        ),
    )
    group.add_argument(
        "--append",
        action="store_true",
        help="add the rows to an existing database table",
    )
    group.add_argument(
        "--aside",
        type=_aside,
        metavar="DIR|#PREFIX",
        help=(
            "where to list the rows set aside: a folder (default: NAME-aside next to "
            "--out), or, with the ledger, tables of the database that --out names, such "
            "as '#season_'"
        ),
    )
    group.add_argument(
        "--aside-limit",
        type=_limit,
        metavar="N|all|none",
        help=(
            "the most rows in each of these lists (default: all rows left out, and "
            "100,000 of the cells on which two sources differ)"
        ),
    )
    add_guard(group)
    add_telling(group)


def _codes(text: str) -> tuple[str, ...]:
    from plait.core.account.finding import checked_codes

    return checked_codes(names(text))


def _aside(text: str) -> Path | TablesBeside:
    """A folder, or what the names of tables begin with."""
    return TablesBeside(text[1:]) if text.startswith("#") else Path(text)


def _limit(text: str) -> int:
    """A number of rows; ``all`` and ``none`` are numbers too."""
    words = {"all": sys.maxsize, "none": 0}
    return words[text] if text in words else whole_number(text)


def add_telling(group: Any) -> None:
    """What is told, and when that is a failure."""
    group.add_argument("--report", type=Path, metavar="FILE", help="write a report as an HTML page")
    group.add_argument(
        "--fail-on",
        type=_codes,
        default=(),
        metavar="CODE,…",
        help=(
            "exit with status 1 and write no result if there is a finding with one of "
            "these codes, or of this severity (note, warning, error) or worse"
        ),
    )
    group.add_argument("--replace", action="store_true", help="overwrite existing files")
    group.add_argument(
        "--json",
        action="store_true",
        help=(
            "print the summary (ledger, findings, outputs) as JSON on standard output; "
            "a command with a result also needs --out"
        ),
    )
    group.add_argument("--quiet", action="store_true", help="print errors only")
    group.add_argument(
        "--verbose", action="store_true", help="show all findings and examples, with locations"
    )


def add_plan(parser: argparse.ArgumentParser) -> None:
    """The plan, and values for its parameters."""
    parser.add_argument(
        "plan", type=Path, metavar="PLAN", help="the plan file, such as season.toml"
    )
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="the value of a parameter declared in the plan",
    )


def add_plan_telling(parser: argparse.ArgumentParser) -> None:
    """What is told of a plan."""
    parser.add_argument(
        "--fail-on",
        type=_codes,
        default=(),
        metavar="CODE,…",
        help=(
            "exit with status 1 if there is a finding with one of these codes, or of "
            "this severity or worse"
        ),
    )
    parser.add_argument("--json", action="store_true", help="print the summary as JSON")
    parser.add_argument("--quiet", action="store_true", help="print errors only")
    parser.add_argument("--verbose", action="store_true", help="show all examples with locations")
