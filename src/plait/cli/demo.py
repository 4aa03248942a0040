"""``plait demo``."""

from __future__ import annotations

import argparse
import os
import shlex
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from plait.cli.show import say, show_answer, show_command
from plait.core.errors import OutputError
from plait.core.finding import counted
from plait.core.join import Joined, join
from plait.core.table import Table
from plait.demo.data import write_demo_data
from plait.formats.reading import read_source
from plait.formats.sources import one_source

HELP = {
    "description": "Write the made-up records of a beekeepers' co-operative and run the whole "
    "example on them:\nlook at the files, put them right, stack eight monthly extracts, join the "
    "hive register,\naccount for every row.",
    "epilog": "example:\n  plait demo",
}

STEPS = (
    (
        "plait survey inspections register weighins.xlsx laboratory.jsonl wardens.csv "
        "--report survey.html",
        "First a look: what is in the files, which go together, and what is wrong with them.",
    ),
    (
        "plait stack inspections --label Month={stem} --distinct --out visits.csv",
        "Eight monthly extracts under one another; visits sent twice are left out.",
    ),
    ("plait stack register --distinct --out hives.csv", "The two parts of the hive register."),
    (
        "plait stack weighins.xlsx --same 'Moisture %=Moistre %' --label Month={sheet} "
        "--out weighins.csv",
        "The three sheets of a workbook; one spells a heading otherwise.",
    ),
    (
        "plait mend laboratory.jsonl --split 'sample:-/ into Yard,Hive,Month' "
        "--compute 'Fresh=\"result.hmf\" < 15' --drop sample --out laboratory.csv",
        "A field that holds three things, and a computed column.",
    ),
    (
        "plait keys visits.csv hives.csv --key Yard,Hive --out pairs.csv",
        "Before they are joined: which keys do not match, and why? Most are only spelt otherwise.",
    ),
    (
        "plait join visits.csv hives.csv --key Yard,Hive --ignore case,space "
        "--cardinality many-to-one --out season.csv --report report.html",
        "Every visit with what the register says of its hive, with the remedy that keys gave.",
    ),
    (
        "plait keys visits.csv hives.csv --key Yard,Hive --ignore case,space "
        "--only left --all-rows --out leftovers.csv",
        "What is truly left over: visits to hives that no register knows.",
    ),
    (
        "plait settle hives.csv older-register.csv --key Yard,Hive --rule 'Queen year=max' "
        "--rule 'Warden=newest-by:Queen year' --out settled.csv",
        "Two registers that disagree, brought down to one entry a hive; where the breeds differ "
        "too, somebody has to decide, and the hive is set aside.",
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument(
        "folder",
        nargs="?",
        type=Path,
        default=Path("plait-demo"),
        metavar="DIR",
        help="where to write it all (default: plait-demo)",
    )
    parser.add_argument("--replace", action="store_true", help="write over an earlier demo")
    parser.add_argument("--quiet", action="store_true", help="show the closing lines only")


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    folder: Path = options.folder
    _make(folder, options.replace)
    with _inside(folder):
        if not options.quiet:
            say(f"The made-up records of a beekeepers' co-operative are in {folder}/")
        for command, meaning in STEPS:
            status = _step(command, meaning, options)
            if status:
                return status
        show_answer(_closing(folder), heading="In short")
    return 0


def _make(folder: Path, replace: bool) -> None:
    if folder.exists() and not folder.is_dir():
        raise OutputError("this is a file", str(folder), "name another folder")
    if folder.is_dir() and any(folder.iterdir()) and not replace:
        raise OutputError(
            "the folder is there already", str(folder), "name another, or allow it with --replace"
        )
    try:
        write_demo_data(folder)
    except OSError as error:
        raise OutputError(f"it cannot be written: {error.strerror}", str(folder)) from None


@contextmanager
def _inside(folder: Path) -> Iterator[None]:
    before = Path.cwd()
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(before)


def _step(command: str, meaning: str, options: argparse.Namespace) -> int:
    from plait.cli.main import main

    words = shlex.split(command)[1:]
    if options.quiet:
        words.append("--quiet")
    else:
        show_command(command, meaning)
    return main([*words, "--replace"] if options.replace else words)


def _read(path: str) -> Table:
    return read_source(one_source(path))


def _closing(folder: Path) -> Iterator[str]:
    """What came in, what matched, what was set aside, and where to look."""
    visits, hives = _read("visits.csv"), _read("hives.csv")
    twice = (
        _read("visits-aside/visits-repeats.csv").rows,
        _read("hives-aside/hives-repeats.csv").rows,
    )
    strict = join(visits, hives, "Yard,Hive")
    joined = join(visits, hives, "Yard,Hive", ignore=["case", "space"])
    match = joined.match
    gained = match.left_matched - strict.match.left_matched
    yield (
        f"came in      {visits.rows + twice[0]:,} visits from 8 extracts, {twice[0]} of them "
        f"twice; {hives.rows + twice[1]} entries of the register, {twice[1]} twice"
    )
    yield (
        f"matched      {match.left_matched:,} visits, {gained} of them once case and spaces "
        "were ignored"
    )
    yield (
        f"not matched  {match.left_unmatched} visits to hives no register knows, "
        f"{match.left_missing_key} without a hive number"
    )
    yield f"set aside    {_kept_out(joined)} entries of the register that nobody visited"
    yield f"one dataset  {folder}/season.csv, {counted(match.output_rows, 'row')}"
    yield f"the account  {folder}/report.html"
    yield f"set aside    {folder}/season-aside/"
    yield f"to decide    {folder}/settled-aside/, hives on whose breed the registers disagree"
    yield (
        "next         try what is refused: "
        f"cd {folder} && plait join visits.csv older-register.csv --key Yard,Hive"
    )


def _kept_out(joined: Joined) -> int:
    asides: Sequence = joined.aside
    return sum(aside.rows for aside in asides if not aside.in_result)
