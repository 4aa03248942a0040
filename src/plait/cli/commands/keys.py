"""``plait keys``, and what it prints."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from pathlib import Path
from shlex import join

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
    print_summary,
    print_to_stdout,
    render_bar,
)
from plait.core.base.errors import UsageError
from plait.core.base.findings import Finding, agreeing, matching_findings, pluralize
from plait.core.operations.keys import (
    KeyAudit,
    list_duplicate_rows,
    list_key_suggestions,
    select_key_set,
)
from plait.core.operations.result import findings_of_reading
from plait.core.specs.option import run_operation
from plait.core.specs.several_tables import KEYS
from plait.core.specs.shared import READING, TYPING
from plait.core.table.key_spec import format_key_option, quote_name
from plait.core.table.table import Table
from plait.core.unmatched.causes import FailingKeyParts
from plait.core.unmatched.diagnosis import UnmatchedDiagnosis, format_keys
from plait.core.unmatched.normalization_gains import NormalizationGain
from plait.io.database.connections import snapshot_session
from plait.io.delivery.delivery import Delivery
from plait.io.sources import find_sources
from plait.io.write import check_target
from plait.report.account import OutputSummary, summarize_output
from plait.report.as_json import keys_json
from plait.report.drawing.charts import write_keys_figure
from plait.report.html.pages import write_keys_page

_MOST_NEAR_SHOWN = 6
_MOST_COMBINATIONS = 12
_MOST_COLUMNS = 3

HELP = format_help(KEYS)


def print_key_audit(
    key_audit: KeyAudit, findings: Sequence[Finding], options: argparse.Namespace
) -> None:
    """The answer, the counts, the key sets, why keys do not match, the findings."""
    out = make_console()
    print_summary(_answer(key_audit, options))
    out.print()
    out.print(_tables(key_audit))
    _show_conflict_columns(out, key_audit)
    if key_audit.pairs:
        _show_sets(out, key_audit)
    if key_audit.why is not None:
        _show_why(out, key_audit, key_audit.why, options.verbose)
    print_findings(findings, options.verbose)


def _answer(key_audit: KeyAudit, options: argparse.Namespace) -> Iterator[str]:
    if not key_audit.pairs:
        yield from _answer_of_one(key_audit)
    elif len(key_audit.pairs) == 1:
        yield from _answer_of_two(key_audit)
    else:
        everywhere = [
            holding
            for holding in key_audit.holdings
            if len(holding.sources) == len(key_audit.sources)
        ]
        total = sum(h.keys for h in key_audit.holdings)
        held = everywhere[0].keys if everywhere else 0
        spec = agreeing(total, "is", "are")
        every = f"all {len(key_audit.sources)} sources"
        yield f"{held:,} of {pluralize(total, 'key')} {spec} in {every}"
    if options.out:
        yield f"written to {options.out}"


def _answer_of_one(key_audit: KeyAudit) -> Iterator[str]:
    (table,), (key,) = key_audit.tables, key_audit.key
    name = ",".join(map(quote_name, key))
    if table.is_unique and not table.missing_key_rows:
        yield (
            f"{name} is unique in {table.name}: {pluralize(table.rows, 'row')}, each with "
            "its own key"
        )
        return
    texts = []
    if table.duplicate_keys:
        texts.append(
            f"{pluralize(table.duplicate_keys, 'key')} on {pluralize(table.duplicate_rows, 'row')}"
        )
    if table.missing_key_rows:
        texts.append(f"{pluralize(table.missing_key_rows, 'row')} with an incomplete key")
    yield f"{name} is not unique in {table.name}: {', '.join(texts)}"
    if key_audit.uniqueness is not None:
        for column, rows in key_audit.uniqueness.with_column:
            left = f"unique except for {pluralize(rows, 'row')}" if rows else "unique"
            yield f"with {column}: {left}   --key {name},{quote_name(column)}"
        yield f"rows that keep {name} from being unique: {key_audit.uniqueness.in_the_way:,}"


def _answer_of_two(key_audit: KeyAudit) -> Iterator[str]:
    (pair,), why = key_audit.pairs, key_audit.why
    left_keys = pair.keys_in_both + pair.keys_only_left
    right_keys = pair.keys_in_both + pair.keys_only_right
    if not (pair.keys_only_left or pair.keys_only_right):
        yield f"all {pluralize(left_keys, 'key')} of {pair.left} and {pair.right} match"
        return
    yield (
        f"not matched: {pair.keys_only_left:,} of {pluralize(left_keys, 'key')} in "
        f"{pair.left} ({pluralize(pair.rows_only_left, 'row')}), "
        f"{pair.keys_only_right:,} of {right_keys:,} in {pair.right} ("
        f"{pluralize(pair.rows_only_right, 'row')})"
    )
    if why is not None and why.best is not None:
        gained = [
            f"{pluralize(keys, 'key')} of {name}"
            for keys, name in ((why.best.keys, pair.left), (why.best.right_keys, pair.right))
            if keys
        ]
        yield (
            f"{' and '.join(gained)} would match with --ignore {','.join(why.best.ways)}"
            f", {_colliding(why.best, pair.right)}"
        )
    elif why is not None:
        yield "no looser comparison (--ignore) would match any of them"
    if why is not None and why.tried:
        side = (pair.left, pair.right)[why.side]
        yield _near(why.near, why.tried, "other " if why.best else "", side)


def _near(near: int, tried: int, other: str, side: str) -> str:
    """How many of the keys tried have a near one.

    >>> _near(0, 4, "other ", "visits")
    'none of the other 4 keys of visits has a close match'
    >>> _near(1, 4, "", "visits")
    '1 of the 4 keys of visits without a match has a close match'
    """
    lost = "" if other else " without a match"
    if tried == 1:
        has = "has" if near else "has no"
        return f"the {other}key of {side}{lost} {has} {'a ' if near else ''}close match"
    every = f"the {other}{tried:,} keys of {side}{lost}"
    if not near:
        return f"none of {every} has a close match"
    return f"{near:,} of {every} {agreeing(near, 'has', 'have')} a close match"


def _colliding(gain: NormalizationGain, right: str) -> str:
    if not gain.collisions:
        return "with no key collisions"
    return f"but {pluralize(gain.collisions, 'key')} of {right} would become the same as another"


def _tables(key_audit: KeyAudit) -> Padding:
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("source")
    for head in ("rows", "keys", "no key", "repeated", "identical", "conflicting"):
        grid.add_column(head, justify="right")
    for table in key_audit.tables:
        numbers = (
            table.rows,
            table.distinct_keys,
            table.missing_key_rows,
            table.duplicate_keys,
            table.repeat_keys,
            table.conflict_keys,
        )
        grid.add_row(
            Text(escape_unprintable(table.name)), *(f"{n:,}" if n else "·" for n in numbers)
        )
    return Padding(grid, (0, 0, 0, 2))


def _show_conflict_columns(out: Console, key_audit: KeyAudit) -> None:
    for table in key_audit.tables:
        if table.conflict_columns:
            shown = list(table.conflict_columns.items())[:_MOST_COLUMNS]
            said = ", ".join(f"{name} in {pluralize(keys, 'key')}" for name, keys in shown)
            more = len(table.conflict_columns) - len(shown)
            said += f", and {pluralize(more, 'more column')}" if more else ""
            line = Text(escape_unprintable(f"{table.name} differs: {said}"), style="dim")
            out.print(Padding(line, (0, 0, 0, 2)))


def _show_sets(out: Console, key_audit: KeyAudit) -> None:
    """The grid of keys against sources: which combination holds how many."""
    out.print()
    names = [table.name for table in key_audit.tables]
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    wide = len(names) > 4
    for number, name in enumerate(names, 1):
        head = str(number) if wide else escape_unprintable(name)
        grid.add_column(head, justify="center", max_width=16, overflow="ellipsis", no_wrap=True)
    grid.add_column("keys", justify="right")
    grid.add_column("rows", justify="right")
    grid.add_column("")
    most = max((h.keys for h in key_audit.holdings), default=0)
    for holding in key_audit.holdings[:_MOST_COMBINATIONS]:
        signs = ("●" if name in holding.sources else "○" for name in names)
        rows = (
            " + ".join(f"{n:,}" for n in holding.rows)
            if len(holding.rows) < 4
            else f"{sum(holding.rows):,}"
        )
        style = "blue" if len(holding.sources) == len(names) else "yellow"
        grid.add_row(*signs, f"{holding.keys:,}", rows, render_bar(holding.keys, most, style))
    out.print(Padding(grid, (0, 0, 0, 2)))
    if wide:
        named = ", ".join(f"{n} {name}" for n, name in enumerate(names, 1))
        out.print(Padding(Text(escape_unprintable(named), style="dim"), (0, 0, 0, 2)))
    for pair in (
        key_audit.pairs if len(key_audit.pairs) == 1 and key_audit.pairs[0].keys_in_both else ()
    ):
        out.print(Text(f"  {pair.cardinality}, judged by the matching keys", style="dim"))


def _show_why(out: Console, key_audit: KeyAudit, why: UnmatchedDiagnosis, verbose: bool) -> None:
    left, right = (table.name for table in key_audit.tables)
    if why.gains or why.best:
        out.print()
        out.print(Text("gains from a looser comparison", style="bold"))
        out.print(_gains(why, left, right))
    if any(why.failing):
        out.print()
        out.print(Text("which part of the key does not match", style="bold"))
        out.print(_failing(why, (left, right)))
    for one in why.elsewhere:
        out.print(
            Text(
                escape_unprintable(
                    f"  {one.better_share:.0%} of {one.table}'s {one.column} are in "
                    f"{one.other}'s {one.better}, {one.named_share:.0%} in {one.named}"
                ),
                style="yellow",
            )
        )
    if why.near:
        _show_near(out, key_audit, why, verbose)


def _gains(why: UnmatchedDiagnosis, left: str, right: str) -> Padding:
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("--ignore")
    for head in (f"{left}: rows", "keys", f"{right}: keys", "would collide"):
        grid.add_column(escape_unprintable(head), justify="right")
    best = (why.best,) if why.best and len(why.best.ways) > 1 else ()
    for gain in (*why.gains, *best):
        numbers = (gain.rows, gain.keys, gain.right_keys, gain.collisions)
        style = "bold" if gain is why.best or (why.best and gain.ways == why.best.ways) else ""
        cells = (f"{n:,}" if n else "·" for n in numbers)
        grid.add_row(Text(",".join(gain.ways)), *cells, style=style)
    return Padding(grid, (0, 0, 0, 2))


def _failing(why: UnmatchedDiagnosis, names: tuple[str, str]) -> Padding:
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(ratio=1, overflow="fold")
    grid.add_column(justify="right", no_wrap=True)
    grid.add_column(justify="right", no_wrap=True)
    for side, other in ((0, 1), (1, 0)):
        for one in why.failing[side]:
            text = f"{names[side]}: {_describe_failing_parts(one, names[other])}"
            grid.add_row(
                Text(escape_unprintable(text)),
                pluralize(one.keys, "key"),
                pluralize(one.rows, "row"),
            )
    return Padding(grid, (0, 0, 0, 2))


def _describe_failing_parts(failing_key_parts: FailingKeyParts, other: str) -> str:
    known, unknown = " and ".join(failing_key_parts.known), " and ".join(failing_key_parts.unknown)
    if not unknown:
        return f"{known} are in {other}, but not together"
    if not known:
        return f"{other} has neither {' nor '.join(failing_key_parts.unknown)}"
    known += agreeing(len(failing_key_parts.known), " is", " are")
    return (
        f"{known} in {other}, {unknown} {agreeing(len(failing_key_parts.unknown), 'is', 'are')} not"
    )


def _show_near(out: Console, key_audit: KeyAudit, why: UnmatchedDiagnosis, verbose: bool) -> None:
    near = why.suggestions.of_near()
    shown = near if verbose else near[:_MOST_NEAR_SHOWN]
    out.print()
    heading = "similar keys"
    if why.bounded:
        heading += ", not all candidates compared"
    out.print(Text(heading, style="bold"))
    left = format_keys(key_audit.coding, why.suggestions.left[shown])
    right = format_keys(key_audit.coding, why.suggestions.right[shown])
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for _ in range(4):
        grid.add_column(overflow="fold")
    before = ""
    rows = zip(left, right, shown.tolist(), strict=True)
    for one, other, row in rows:
        sure = "yes" if why.suggestions.sure[row] else ""
        score = f"{why.suggestions.score[row]:.2f}"
        same = one if why.side == 0 else other
        cells = ["" if same == before and why.side == 0 else one, f"→ {other}", score, sure]
        grid.add_row(*(Text(escape_unprintable(cell)) for cell in cells))
        before = same
    out.print(Padding(grid, (0, 0, 0, 2)))
    if len(near) > len(shown):
        out.print(Text(f"  and {len(near) - len(shown):,} more: --verbose", style="dim"))
    out.print(Text("  to use them: --out pairs.csv, edit it, then --pairs pairs.csv"))


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_operation_arguments(parser, KEYS)
    parser.add_argument(
        "--only",
        metavar="both|left|right",
        help=(
            "which keys to write to --out: those in both sources, only in the first "
            "(left), only in the second (right), or in exactly the sources NAME+NAME"
        ),
    )
    parser.add_argument(
        "--all-rows",
        action="store_true",
        help="with --only: write every row with such a key, instead of each key once",
    )
    parser.add_argument(
        "--out",
        type=Path,
        metavar="FILE",
        help=(
            "the file to write. Without --only: for two sources, suggested pairs of "
            "keys, to edit and pass to --pairs; for one source, the rows whose key is "
            "repeated"
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
    named = find_sources(
        options.sources, parse_read_options(options), queries=parse_queries(options)
    )
    sources = apply_per_source_options(named, options)
    delivery = Delivery(files_read(sources, options), options.replace)
    _check(options, delivery, len(sources))
    with Progress(not options.quiet) as progress:
        with snapshot_session():
            values = parse_option_values(KEYS, options)
            tables = read_sources(sources, progress, options)
        with progress.phase(KEYS.progress_text):
            key_audit: KeyAudit = run_operation(KEYS, tables, values)
        findings = [*findings_of_reading(tables), *key_audit.findings]
        refused = bool(matching_findings(findings, options.fail_on))
        listed = _listed(key_audit, options) if options.out and not refused else None
        with delivery, progress.phase("writing"):
            if listed:
                findings += write_list(listed, options, delivery)
                raise_on_failing_findings(findings, options)
            if options.report:
                again, pairs = _again(key_audit, options), values["pairs"]
                delivery.write(
                    options.report,
                    lambda part: write_keys_page(key_audit, findings, part, again, pairs),
                )
            write_figure(write_keys_figure, key_audit, options, delivery)
    outputs = [summarize_output(listed, options.out)] if listed and options.json else []
    _tell(key_audit, findings, outputs, options)
    raise_on_failing_findings(findings, options, bool(options.report))
    return 0


def _tell(
    key_audit: KeyAudit,
    findings: list[Finding],
    outputs: list[OutputSummary],
    options: argparse.Namespace,
) -> None:
    if not options.quiet:
        with print_to_stdout(aside=options.json or bool(options.out)):
            print_key_audit(key_audit, findings, options)
    if options.json:
        print(keys_json(key_audit, findings, outputs))


def _again(key_audit: KeyAudit, options: argparse.Namespace) -> str:
    """The command that joins the tables with pairs that are settled on the page."""
    if key_audit.why is None:  # there is nothing to settle
        return ""
    words = (
        options.sources
        if len(options.sources) == 2
        else [source.path for source in key_audit.sources]
    )
    key = format_key_option(tuple(zip(*key_audit.key, strict=True)))
    ignore = ["--ignore", ",".join(options.ignore)] if options.ignore else []
    texts = [*words, "--key", key, *ignore, "--pairs", "pairs.csv", "--out", "joined.csv"]
    return f"plait join {join(texts)}"


def _check(options: argparse.Namespace, delivery: Delivery, sources: int) -> None:
    check_report_target(options, delivery)
    check_figure_target(options, delivery)
    if options.only and not options.out:
        raise UsageError(
            "--only chooses which keys to write, but there is no --out", remedy="add --out FILE"
        )
    if options.out and not options.only and sources > 2:
        raise UsageError(
            "with more than two sources, --out needs --only",
            remedy="write the keys found in exactly these sources: --only NAME+NAME",
        )
    if options.all_rows and not options.only:
        raise UsageError("--all-rows needs --only", remedy="--only both, left or right")
    if options.out:
        check_target(options.out, options.out.stem, delivery)
    report_recovered_outputs(delivery)


def _listed(key_audit: KeyAudit, options: argparse.Namespace) -> Table:
    """The table that was asked for."""
    if options.only:
        return select_key_set(key_audit, options.only, options.all_rows)
    if len(key_audit.sources) == 1:
        return list_duplicate_rows(key_audit)
    return list_key_suggestions(key_audit)
