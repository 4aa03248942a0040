"""``plait demo``."""

from __future__ import annotations

import argparse
import json
import os
import shlex
import sys
from collections.abc import Iterator
from contextlib import contextmanager, redirect_stdout
from dataclasses import dataclass
from pathlib import Path

from plait.cli.terminal import print_example_command, print_line, print_summary
from plait.core.base.errors import OutputError, PlaitError
from plait.core.base.findings import pluralize
from plait.demo.data import rewind_one_month, write_demo_data, write_records
from plait.report.document import Fact

HELP = {
    "description": (
        "Write the made-up records of a beekeepers' co-operative and run a complete "
        "example on them: survey the files, draft a plan, check a plan, correct it, "
        "run it, trace one row of the result, then run it again a month later and "
        "see what changed."
    ),
    "epilog": "example:\n  plait demo",
}

SOURCES = "inspections register weighins.xlsx laboratory.jsonl wardens.csv"
MENDED = ('# ignore = ["case", "space"]', 'ignore = ["case", "space"]')


@dataclass(frozen=True)
class DemoCommand:
    """A command of the example, what it teaches, and the status it ends with."""

    command: str
    meaning: str
    status: int = 0


BEFORE = (
    DemoCommand(
        f"plait survey {SOURCES} --report survey.html",
        "Look first: what the files contain, which ones belong together, and what is wrong.",
    ),
    DemoCommand(
        f"plait draft {SOURCES} --out first.toml",
        "Draft the job as a plan. It already runs; open decisions are comments.",
    ),
    DemoCommand(
        "plait check season.toml",
        "Check a fuller plan, season.toml. It allows at most 20 visits without a "
        "hive and finds 27. The finding on visits explains why, and how to fix it.",
        1,
    ),
)
AFTER = (
    DemoCommand(
        "plait run season.toml",
        "Run it with that line active. The remaining unmatched visits are to hives "
        "that no register lists.",
    ),
    DemoCommand(
        "plait trace handover --where \"Yard = 'cul'\" --most 1 "
        "--columns 'Yard,Honey kg,known.Yard,Breed,Supers,Fresh'",
        "Trace one row: each cell back to its file, row, line and column.",
    ),
)
LATER = (
    DemoCommand(
        "plait run season.toml --replace",
        "Run the same plan again. The answer and the report show what is new.",
    ),
    DemoCommand(
        "plait compare handover-2* handover --out changes.csv",
        "The earlier handover was kept. Compare the two, and write every change to a list.",
    ),
    DemoCommand("plait history season.toml", "List every run of the plan, successful or not."),
)
ARRIVED = (
    "cp …/2031-10.csv inspections/",
    "A month later: a new extract arrives, a hive entered by mistake is "
    "removed, a weight is corrected, and the register gains a column.",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument(
        "folder",
        nargs="?",
        type=Path,
        default=Path("plait-demo"),
        metavar="DIR",
        help="the folder to write to (default: plait-demo)",
    )
    parser.add_argument("--replace", action="store_true", help="overwrite an earlier demo")
    parser.add_argument("--quiet", action="store_true", help="show only the closing summary")


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    folder: Path = options.folder
    _make(folder, options.replace)
    with _inside(folder):
        if not options.quiet:
            print_line(f"The made-up records of a beekeepers' co-operative are in {folder}/")
        for act in BEFORE:
            _step(act, options)
        _mend(options)
        for act in AFTER:
            _step(act, options)
        _arrive(options)
        for act in LATER:
            _step(act, options)
        print_summary(_closing(folder), heading="In short")
    return 0


def _make(folder: Path, replace: bool) -> None:
    if folder.exists() and not folder.is_dir():
        raise OutputError("this is a file", str(folder), "name another folder")
    if folder.is_dir() and any(folder.iterdir()) and not replace:
        raise OutputError(
            "the folder already exists",
            str(folder),
            "name another folder, or overwrite it: --replace",
        )
    try:
        write_demo_data(folder)
        rewind_one_month(folder)
    except OSError as error:
        raise OutputError(f"cannot write the file: {error.strerror}", str(folder)) from None


@contextmanager
def _inside(folder: Path) -> Iterator[None]:
    before = Path.cwd()
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(before)


def _step(act: DemoCommand, options: argparse.Namespace) -> None:
    from plait.cli.main import run_command_line

    words = [name for c in shlex.split(act.command)[1:] for name in _named(c)]
    if options.quiet:
        words.append("--quiet")
    else:
        print_example_command(act.command, act.meaning)
    writes = words[0] in ("survey", "draft", "run", "compare") and "--replace" not in words
    # What is shown stands in one order, so it goes one way.
    with redirect_stdout(sys.stderr):
        status = run_command_line([*words, "--replace"] if options.replace and writes else words)
    if status != act.status:
        raise PlaitError(f"the example ended with exit status {status}", act.command)


def _named(word: str) -> list[str]:
    """What a word of a command means to a shell: the last folder of those that it fits."""
    if not word.endswith("*"):
        return [word]
    return sorted(str(path) for path in Path().glob(word))[-1:]


def _arrive(options: argparse.Namespace) -> None:
    """A month later: the files as they are then."""
    write_records(Path())
    if not options.quiet:
        print_example_command(*ARRIVED, sign="+")


def _mend(options: argparse.Namespace) -> None:
    """Put the remedy into the plan, as a person would."""
    plan = Path("season.toml")
    plan.write_text(plan.read_text("utf-8").replace(*MENDED), "utf-8")
    if not options.quiet:
        print_example_command(
            f"{MENDED[1]}   # in season.toml, where it was a comment",
            "The fix: ignore case and spaces when comparing these keys.",
            sign="+",
        )


def _closing(folder: Path) -> Iterator[Fact]:
    """What came in, what matched, what was set aside, and where to look."""
    account = json.loads(Path("handover/ledger.json").read_text("utf-8"))
    match, season = account["match"], account["outputs"][0]
    lists = [output for output in account["outputs"] if output["path"].startswith("aside/")]
    sources = [source for source in account["sources"] if source["group"] == "inspections"]
    visits = sum(source["rows"] for source in sources)
    repeats = visits - match["left_rows"]
    yield Fact("read", f"{visits:,} visits from {len(sources)} extracts, {repeats} duplicates")
    matched = f"{match['left_matched']:,} visits, 14 of them only because case and spaces are"
    yield Fact("matched", f"{matched} ignored")
    unmatched = f"{match['left_unmatched']} visits to hives that no register lists"
    yield Fact("not matched", f"{unmatched}, {match['left_missing_key']} without a hive number")
    rows = pluralize(season["rows"], "row")
    yield Fact("one dataset", f"{folder}/handover/season.csv, {rows}")
    new = account["changes"]
    then, now = new["figures"]["unmatched"]
    changes = f"{new['rows_new']:,} more visits, {new['rows_gone']:,} gone"
    unmatched = f"not matched {then:,} → {now:,}"
    yield Fact("what is new", f"{changes}, {new['rows_changed']:,} changed; {unmatched}")
    yield Fact("the report", f"{folder}/handover/report.html")
    reasons = f"{pluralize(len(lists), 'list')} with the reasons"
    yield Fact("set aside", f"{folder}/handover/aside/, {reasons}")
    yield Fact("the plan", f"{folder}/season.toml: edit it, then plait run season.toml --replace")
    yield Fact("next", f"cd {folder} && plait keys register/*.csv --key Yard,Hive")
