"""``plait compare``, and what it prints."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from decimal import Decimal
from pathlib import Path

from rich.console import Console
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.arguments import add_operation_arguments, add_read_arguments, format_help
from plait.cli.commands.operation import parse_option_values
from plait.cli.common_options import (
    add_figure_argument,
    add_guard,
    add_job_arguments,
    add_message_arguments,
    check_figure_target,
    write_figure,
)
from plait.cli.deliver import (
    check_report_target,
    files_read,
    raise_on_failing_findings,
    read_sources,
    report_recovered_outputs,
    write_list,
)
from plait.cli.progress import Progress
from plait.cli.source_options import apply_per_source_options, parse_queries, parse_read_options
from plait.cli.terminal import (
    escape_unprintable,
    make_console,
    print_findings,
    print_ledger,
    print_summary,
    render_bar,
)
from plait.core.base.findings import Finding, matching_findings, pluralize
from plait.core.operations.compare import Comparison
from plait.core.operations.result import findings_of_reading
from plait.core.specs.option import run_operation
from plait.core.specs.several_tables import COMPARE
from plait.core.specs.shared import READING, TYPING
from plait.core.table.key_spec import quote_name
from plait.io.database.connections import snapshot_session
from plait.io.delivery.delivery import Delivery
from plait.io.places.source import Source
from plait.io.sources import find_one_source, uniquely_named
from plait.io.write import check_target
from plait.plan.handover.read import (
    EarlierHandover,
    choose_handover_key,
    comparison_source,
    parse_comparison_sides,
)
from plait.report.account import OutputSummary, summarize_output
from plait.report.changes import (
    AccountDiff,
    SourceChange,
    changed_columns,
    compared_json,
    diff_accounts,
)
from plait.report.drawing.charts import write_compared_figure
from plait.report.html.pages import write_compared_page
from plait.report.numbers import format_change

HELP = format_help(COMPARE)

_MOST_COLUMNS = 12
_MOST_SOURCES = 8
_CHANGE_SYMBOLS = {"new": "+", "gone": "−", "changed": "≠", "same": "="}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_operation_arguments(parser, COMPARE)
    parser.add_argument(
        "--out",
        type=Path,
        metavar="FILE",
        help=(
            "write every change to a table, one line per cell: the key, what changed, "
            "the column, both values and both places"
        ),
    )
    add_read_arguments(parser, (*READING, *TYPING))
    group = parser.add_argument_group("output")
    add_guard(group)
    add_message_arguments(group)
    add_figure_argument(group)
    add_job_arguments(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    found_sides = parse_comparison_sides(options.sources)
    sources = apply_per_source_options(_sources(found_sides, options), options)
    delivery = Delivery(files_read(sources, options), options.replace)
    _check(options, delivery)
    with Progress(not options.quiet) as progress:
        with snapshot_session():
            values = parse_option_values(COMPARE, options)
            tables = read_sources(sources, progress, options)
        if values["key"] is None:
            values["key"] = choose_handover_key(found_sides, tables)
        with progress.phase(COMPARE.progress_text):
            comparison: Comparison = run_operation(COMPARE, tables, values)
        findings = [*findings_of_reading(tables), *comparison.findings]
        accounts = _accounts(found_sides)
        refused = bool(matching_findings(findings, options.fail_on))
        with delivery, progress.phase("writing"):
            listed = comparison.listed() if options.out and not refused else None
            if listed:
                findings += write_list(listed, options, delivery)
            if options.report:
                delivery.write(
                    options.report,
                    lambda part: write_compared_page(comparison, accounts, findings, part),
                )
            write_figure(write_compared_figure, comparison, options, delivery)
    outputs = [summarize_output(listed, options.out)] if listed and options.json else []
    _tell(comparison, accounts, findings, outputs, options)
    raise_on_failing_findings(findings, options, bool(options.report))
    return 0


def _sources(
    earlier_handovers: Sequence[EarlierHandover | str], options: argparse.Namespace
) -> list[Source]:
    """The table of each side; of two of one name the second is the new one."""
    given, queries = parse_read_options(options), parse_queries(options)
    named = [
        find_one_source(earlier_handover, given, queries)
        if isinstance(earlier_handover, str)
        else comparison_source(earlier_handover, earlier_handovers[1 - number])
        for number, earlier_handover in enumerate(earlier_handovers)
    ]
    return uniquely_named(named)


def _accounts(earlier_handovers: Sequence[EarlierHandover | str]) -> AccountDiff | None:
    """The accounts of two handovers against each other."""
    old, new = earlier_handovers
    if isinstance(old, EarlierHandover) and isinstance(new, EarlierHandover):
        return diff_accounts(old.said, new.said)
    return None


def _check(options: argparse.Namespace, delivery: Delivery) -> None:
    check_report_target(options, delivery)
    check_figure_target(options, delivery)
    if options.out:
        check_target(options.out, options.out.stem, delivery)
    report_recovered_outputs(delivery)


def _tell(
    comparison: Comparison,
    accounts: AccountDiff | None,
    findings: list[Finding],
    outputs: list[OutputSummary],
    options: argparse.Namespace,
) -> None:
    if not options.quiet:
        from plait.cli.terminal import print_to_stdout

        with print_to_stdout(aside=options.json):
            print_comparison(comparison, accounts, findings, options)
    if options.json:
        print(compared_json(comparison, accounts, findings, outputs))


def print_comparison(
    comparison: Comparison,
    accounts: AccountDiff | None,
    findings: Sequence[Finding],
    options: argparse.Namespace,
) -> None:
    """The answer, the ledger, the columns, figures and sources then and now, the findings."""
    out = make_console()
    print_summary(_answer(comparison, options))
    print_ledger([comparison.entry])
    _show_columns(out, comparison, options.verbose)
    if accounts:
        _show_figures(out, accounts, options.verbose)
        _show_sources(out, accounts, options.verbose)
    print_findings(findings, options.verbose)


def _answer(comparison: Comparison, options: argparse.Namespace) -> Iterator[str]:
    changes = comparison.changes
    if changes.none and not changes.keys_repeated:
        yield f"nothing changed: {pluralize(changes.new_rows, 'row')}, all equal"
    else:
        yield (
            f"{pluralize(changes.rows_new, 'row')} new, {changes.rows_gone:,} gone, "
            f"{changes.rows_changed:,} changed, {changes.rows_equal:,} equal"
        )
    if comparison.key:
        yield f"key:         {','.join((quote_name(after) for _, after in comparison.key))}"
    cells = sum(changes.columns.values())
    if cells:
        yield f"cells:       {cells:,} changed, in {pluralize(len(changes.columns), 'column')}"
    columns = list(_of_columns(comparison))
    if columns:
        yield f"columns:     {', '.join(columns)}"
    if options.out:
        yield f"changes:     {options.out} lists each one with its old and new row"


def _of_columns(comparison: Comparison) -> Iterator[str]:
    changes = comparison.changes
    for names, what in (
        (changes.columns_new, "new"),
        (changes.columns_gone, "gone"),
        (changes.columns_renamed, "renamed"),
        (changes.types, "of another type"),
    ):
        if names:
            yield f"{len(names):,} {what}"


def _show_columns(out: Console, comparison: Comparison, verbose: bool) -> None:
    """For each column how many cells changed, and by how much."""
    column_changes = changed_columns(comparison.columns)
    if not column_changes:
        return
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("column", overflow="fold", ratio=1)
    for head in ("cells", "filled", "emptied", "sum", "smallest", "largest"):
        grid.add_column(head, justify="right", no_wrap=True)
    grid.add_column("")
    for column_change in column_changes if verbose else column_changes[:_MOST_COLUMNS]:
        counts = (column_change.cells, column_change.from_missing, column_change.to_missing)
        steps = (column_change.by.sum, column_change.by.smallest, column_change.by.largest)
        grid.add_row(
            Text(escape_unprintable(column_change.name)),
            *(f"{n:,}" if n else "·" for n in counts),
            *map(format_change, steps),
            render_bar(column_change.cells, column_changes[0].cells, "yellow"),
        )
    out.print()
    out.print(Text("cells changed, and by how much", style="bold"))
    out.print(Padding(grid, (0, 0, 0, 2)))
    if len(column_changes) > _MOST_COLUMNS and not verbose:
        out.print(
            Text(f"  and {len(column_changes) - _MOST_COLUMNS:,} more: --verbose", style="dim")
        )


def _show_figures(out: Console, accounts: AccountDiff, verbose: bool) -> None:
    """The figures of both accounts that are not the same, side by side."""
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("figure")
    for head in ("then", "now", "change"):
        grid.add_column(head, justify="right")
    same = [name for name, (then, now) in accounts.figures.items() if then == now]
    for name, (then, now) in accounts.figures.items():
        if then != now or verbose:
            change = format_change(Decimal(now - then)) if now != then else "·"
            grid.add_row(name.replace("_", " "), f"{then:,}", f"{now:,}", change)
    new = [finding for finding in accounts.findings if not finding.old]
    gone = [f for f in accounts.findings if not f.new]
    out.print()
    out.print(Text("figures of both runs", style="bold"))
    if grid.row_count:
        out.print(Padding(grid, (0, 0, 0, 2)))
    if same and not verbose:
        said = ", ".join(name.replace("_", " ") for name in same)
        out.print(Text(f"  the same: {said}", style="dim"))
    for word, some in (("new", new), ("gone", gone)):
        for one in some:
            said = f"{word} finding: {one.message} [{one.code}]"
            out.print(Padding(Text(escape_unprintable(said), style="dim"), (0, 0, 0, 2)))


def _show_sources(out: Console, accounts: AccountDiff, verbose: bool) -> None:
    """Which files are new, gone or other ones now."""
    source_changes = [source for source in accounts.sources if verbose or source.state != "same"]
    same = len(accounts.sources_that_are("same"))
    out.print()
    out.print(Text("the sources", style="bold"))
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold", ratio=1)
    grid.add_column(justify="right", no_wrap=True)
    for one in source_changes if verbose else source_changes[:_MOST_SOURCES]:
        grid.add_row(
            f"{_CHANGE_SYMBOLS[one.state]} {one.state}",
            Text(escape_unprintable(one.path)),
            _rows(one),
        )
    out.print(Padding(grid, (0, 0, 0, 2)))
    if len(source_changes) > _MOST_SOURCES and not verbose:
        out.print(
            Text(f"  and {len(source_changes) - _MOST_SOURCES:,} more: --verbose", style="dim")
        )
    if same and not verbose:
        out.print(Text(f"  {pluralize(same, 'source')} the same", style="dim"))


def _rows(source_change: SourceChange) -> str:
    there = [
        f"{rows:,}" for rows in (source_change.old_rows, source_change.new_rows) if rows is not None
    ]
    return f"{' → '.join(dict.fromkeys(there))} rows"
