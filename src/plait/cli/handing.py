"""What every command does with its result: check, write, hand over, tell."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from plait.cli.progress import Progress
from plait.cli.show import show_answer, show_findings, show_ledger
from plait.core.aside import SetAside
from plait.core.errors import ExpectationError, UsageError
from plait.core.finding import Finding, counted, standing
from plait.core.ledger import Entry
from plait.core.match import Match
from plait.core.parallel import ordered_map
from plait.core.table import Table
from plait.formats.delivery import Delivery
from plait.formats.outputs import check_ending, write_csv_to, write_table
from plait.formats.reading import read_source
from plait.formats.sources import Source
from plait.report.account import Account, Output, account_json, output_of


@dataclass(frozen=True, eq=False)
class Result:
    """What a command made of its sources."""

    command: str
    table: Table
    entries: tuple[Entry, ...]
    findings: tuple[Finding, ...]
    aside: tuple[SetAside, ...]
    matches: tuple[Match, ...] = ()


def check_outputs(options: argparse.Namespace, sources: Sequence[Source]) -> Delivery:
    """See that everything asked for can be written, before any source is read."""
    if options.json and not options.out:
        raise UsageError(
            "--json prints the account where the result would go",
            remedy="give the result a file: --out FILE",
        )
    delivery = Delivery([source.path for source in sources], options.replace)
    if options.out:
        check_ending(options.out)
        delivery.check(options.out)
    if options.report:
        if options.report.suffix.lower() not in (".html", ".htm"):
            raise UsageError(f"a report is a page, {options.report} does not end in .html")
        delivery.check(options.report)
    return delivery


def read_all(sources: Sequence[Source], progress: Progress) -> list[Table]:
    """Read the sources in order."""
    with progress.phase("reading", sum(source.size for source in sources) or None) as tick:
        return list(ordered_map(lambda source: read_source(source, tick), sources))


def hand_over(
    result: Result,
    tables: Sequence[Table],
    options: argparse.Namespace,
    delivery: Delivery,
    progress: Progress,
) -> int:
    """Write what was asked for, or nothing, and tell the person.

    Returns
    -------
    int
        The exit status.

    Raises
    ------
    ExpectationError
        When a finding stands that ``--fail-on`` names.
    OutputError
        When something cannot be written.
    """
    failing = standing(result.findings, options.fail_on)
    if failing:
        show_everything(result, options)
        tell_json(account(result, tables, ()), options)
        codes = ", ".join(dict.fromkeys(finding.code for finding in failing))
        raise ExpectationError(
            f"{counted(len(failing), 'finding')} that must not stand: {codes}",
            remedy="nothing was handed over",
        )
    written = list(_written(result, tables, options, delivery, progress))
    outputs = [output_of(table, path) for table, path in written] if options.json else []
    show_everything(result, options)
    tell_json(account(result, tables, outputs), options)
    return 0


def account(result: Result, tables: Sequence[Table], outputs: Sequence[Output]) -> Account:
    """Everything that is to be said about a result, for JSON and pages."""
    return Account(
        result.command,
        tuple(tables),
        result.entries,
        result.findings,
        tuple(outputs),
        result.matches,
    )


def _written(
    result: Result,
    tables: Sequence[Table],
    options: argparse.Namespace,
    delivery: Delivery,
    progress: Progress,
) -> Iterator[tuple[Table, Path]]:
    folder = aside_folder(options)
    lists = (
        [(one.listed(), folder / f"{_file_name(one.name)}.csv") for one in result.aside]
        if folder
        else []
    )
    targets = ([(result.table, options.out)] if options.out else []) + lists
    with delivery, progress.phase("writing", sum(table.rows for table, _ in targets)) as tick:
        for _, path in targets:
            delivery.check(path, make_folder=True)
        for table, path in targets:
            delivery.write(path, lambda part, t=table, p=path: write_table(t, part, p.suffix, tick))
        if options.report:
            from plait.report.page import write_page

            page = account(result, tables, ())
            delivery.write(options.report, lambda part: write_page(page, part))
        if not options.out:
            write_csv_to(result.table, sys.stdout.buffer)
            sys.stdout.buffer.flush()
    yield from targets


def aside_folder(options: argparse.Namespace) -> Path | None:
    """Where set-aside rows go; nowhere when the result goes to standard output unasked."""
    if options.aside:
        return Path(options.aside)
    return options.out.with_name(f"{options.out.stem}-aside") if options.out else None


def _file_name(name: str) -> str:
    return name.replace("/", "-").replace("\\", "-")[:100]


def show_everything(result: Result, options: argparse.Namespace) -> None:
    """Answer, ledger and findings, unless quiet was asked for."""
    if options.quiet:
        return
    show_answer(_answer(result, options))
    show_ledger(result.entries)
    show_findings(result.findings, options.verbose)


def _answer(result: Result, options: argparse.Namespace) -> Iterator[str]:
    table = result.table
    where = f"{options.out}: " if options.out else ""
    columns = counted(len(table.columns), "column")
    yield f"{where}{counted(table.rows, 'row')}, {columns}"
    for match, entry in zip(result.matches, result.entries, strict=False):
        left, right = entry.rows_in
        yield (
            f"not matched: {match.left_unmatched + match.left_missing_key:,} of {left}, "
            f"{match.right_unmatched + match.right_missing_key:,} of {right}"
        )
    out_of_result = sum(one.rows for one in result.aside if not one.in_result)
    folder = aside_folder(options)
    if result.aside and folder and out_of_result:
        yield f"set aside:   {counted(out_of_result, 'row')}, listed in {folder}/"
    elif result.aside and folder:
        yield f"set aside:   0 rows; those without a match are listed in {folder}/"
    elif out_of_result:
        yield f"left out:    {counted(out_of_result, 'row')}; to have them listed: --aside DIR"
    else:
        yield "set aside:   0 rows"


def tell_json(said: Account, options: argparse.Namespace) -> None:
    """Print the account where JSON was asked for."""
    if options.json:
        print(account_json(said))


def with_findings(result: Result, tables: Sequence[Table]) -> Result:
    """The result with what was found when its sources were read in front."""
    reading = tuple(finding for table in tables for finding in table.findings)
    return replace(result, findings=(*reading, *result.findings))
