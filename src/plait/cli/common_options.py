"""Options that several commands share."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plait.cli.arguments import parse_whole_number
from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.table.key_spec import parse_names
from plait.io.delivery.delivery import Delivery
from plait.io.places.address import import_optional

if TYPE_CHECKING:
    from plait.io.delimited.text_format import TextFormat

Write = Callable[[Any, Path, str], None]


@dataclass(frozen=True)
class SiblingTables:
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
        from plait.io.write import split_file_and_table

        namespace.out, namespace.out_table = split_file_and_table(values)


def result_name(options: argparse.Namespace) -> str | None:
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
    group.add_argument(
        "--write",
        metavar="NAME=VALUE,…",
        type=_text_format,
        help=(
            "how text files are written: delimiter=semicolon, decimal=comma, "
            "encoding=utf-8-bom, dates=%%d.%%m.%%Y, places=2"
        ),
    )


def _text_format(text: str) -> TextFormat:
    from plait.io.delimited.text_format import parse_text_format

    with attribute_errors_to_option("write"):
        return parse_text_format(text)


def text_format(options: argparse.Namespace) -> TextFormat:
    """How the text files of a command are written.

    Raises
    ------
    UsageError
        When that is said of a result that is no text file.
    """
    from plait.io.delimited.text_format import PLAIN_TEXT
    from plait.io.places.source import DELIMITED

    ending = options.out.suffix.lower() if isinstance(options.out, Path) else ""
    if options.write and options.out and ending not in DELIMITED:
        with attribute_errors_to_option("write"):
            raise UsageError(
                "only text files are written so", str(options.out), f"{' or '.join(DELIMITED)}"
            )

    return replace(options.write or PLAIN_TEXT, guard_formulas=options.guard_formulas)


def add_output_arguments(parser: argparse.ArgumentParser) -> None:
    """Where results go, and what is shown; the options that are used daily first."""
    parser.add_argument(
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
    parser.add_argument(
        "--aside",
        type=_aside,
        metavar="DIR|#PREFIX",
        help=(
            "where to list the rows set aside: a folder (default: NAME-aside next to "
            "--out), or, with the ledger, tables of the database that --out names, such "
            "as '#season_'"
        ),
    )
    _add_report(parser)
    group = parser.add_argument_group("output")
    group.add_argument(
        "--append",
        action="store_true",
        help="add the rows to an existing database table",
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
    _add_messages(group)


def _codes(text: str) -> tuple[str, ...]:
    from plait.core.base.findings import check_finding_codes

    return check_finding_codes(parse_names(text))


def _aside(text: str) -> Path | SiblingTables:
    """A folder, or what the names of tables begin with."""
    return SiblingTables(text[1:]) if text.startswith("#") else Path(text)


def _limit(text: str) -> int:
    """A number of rows; ``all`` and ``none`` are numbers too."""
    words = {"all": sys.maxsize, "none": 0}
    return words[text] if text in words else parse_whole_number(text)


def add_message_arguments(group: Any) -> None:
    """Where a report goes, what is shown, and when that is a failure."""
    _add_report(group)
    _add_messages(group)


def _add_report(group: Any) -> None:
    group.add_argument(
        "--report",
        type=Path,
        metavar="FILE",
        help="write a report as an HTML page (.html) or as Markdown (.md)",
    )
    group.add_argument("--replace", action="store_true", help="overwrite existing files")


def _add_messages(group: Any) -> None:
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


def add_plan_arguments(parser: argparse.ArgumentParser) -> None:
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


def add_plan_message_arguments(parser: argparse.ArgumentParser) -> None:
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


def add_job_arguments(parser: argparse.ArgumentParser) -> None:
    """How much memory the work may take."""
    group = parser.add_argument_group("memory and workers")
    group.add_argument(
        "--memory",
        metavar="SIZE",
        help=(
            "the most memory to use, such as 2GB; data that does not fit goes to "
            "scratch files (default: half of the free memory)"
        ),
    )
    group.add_argument(
        "--scratch",
        type=Path,
        metavar="DIR",
        help="the folder for scratch files (default: the system's temporary folder)",
    )
    group.add_argument(
        "--workers",
        type=int,
        metavar="N",
        help="share the work among N processes on this machine",
    )
    group.add_argument(
        "--cluster",
        metavar="ADDRESS",
        help=(
            "share the work among the workers of a cluster; ADDRESS is its scheduler, "
            "such as tcp://host:8786"
        ),
    )
    group.add_argument(
        "--cache",
        metavar="SIZE",
        help="keep what was read of workbooks, JSON and compressed files for the next time, up to "
        "that size, such as 2GB, in your cache folder (default: none)",
    )


@contextmanager
def open_requested_job(options: argparse.Namespace) -> Iterator[None]:
    """The room that a command works in; those that read nothing large need none."""
    if "memory" not in options:
        yield
        return
    from plait.io.job import working
    from plait.io.places.fetch import keep_fetched_files

    with (
        keep_fetched_files(options.scratch),
        working(options.memory, options.scratch, options.workers, options.cluster, options.cache),
    ):
        yield


def add_figure_argument(group: Any) -> None:
    """The option."""
    group.add_argument(
        "--figure",
        type=Path,
        metavar="FILE",
        help="draw the result as a picture: .png, .svg or .pdf",
    )


def check_figure_target(options: argparse.Namespace, delivery: Delivery) -> None:
    """See that the figure asked for can be written."""
    if options.figure:
        from plait.report.drawing.charts import check_ending

        check_ending(options.figure)
        import_optional("matplotlib", "figures", "--figure")
        delivery.check(options.figure)


def write_figure(write: Write, what: Any, options: argparse.Namespace, delivery: Delivery) -> None:
    """Write the figure that is asked for."""
    ending = options.figure.suffix.lower()
    delivery.write(options.figure, lambda part: write(what, part, ending))
