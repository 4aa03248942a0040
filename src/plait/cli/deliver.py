"""What every command does with its result: check, write, hand over, tell."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from plait.cli.common_options import SiblingTables, result_name, text_format
from plait.cli.first_rows import FirstRowsStream
from plait.cli.process import import_in_background
from plait.cli.progress import Progress
from plait.cli.source_options import apply_types
from plait.core.base.errors import ExpectationError, SourceError, UsageError
from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    matching_findings,
    pluralize,
)
from plait.core.base.names import to_file_name
from plait.core.operations.result import Result
from plait.core.table.set_aside import report_truncated_listings, truncate_listings
from plait.core.table.table import Table
from plait.io.delivery.delivery import Delivery
from plait.io.places.source import STANDARD_INPUT, OnProgress, Source
from plait.io.places.target import TableTarget, TableWriteOptions
from plait.io.read import (
    Read,
    prefetch_sources,
    read_in_parallel,
    read_sample,
    read_source,
    report_unreadable,
    try_read_source,
)
from plait.io.write import (
    Target,
    add_table_to_delivery,
    check_format_capacity,
    check_target,
    write_csv_to,
)
from plait.report.account import (
    Account,
    OutputSummary,
    account_json,
    ledger_table,
    result_document,
    summarize_output,
)
from plait.report.document import Document, Fact


def check_output_targets(options: argparse.Namespace, sources: Sequence[Source]) -> Delivery:
    """See that everything asked for can be written, before any source is read."""
    if options.json and not options.out:
        raise UsageError(
            "--json and the result would both go to standard output",
            remedy="write the result to a file: --out FILE",
        )
    text_format(options)
    delivery = Delivery(files_read(sources, options), options.replace)
    _check_tables(options)
    if options.out:
        name = str(result_name(options))
        check_target(options.out, name, delivery, options.append, sources)
        if isinstance(options.aside, SiblingTables) and isinstance(options.out, TableTarget):
            check_target(options.out.beside(f"{options.aside.prefix}ledger"), "ledger", delivery)
    check_report_target(options, delivery)
    report_recovered_outputs(delivery)
    return delivery


def _check_tables(options: argparse.Namespace) -> None:
    """See that what is asked for tables of databases is asked where there is one."""
    if isinstance(options.aside, SiblingTables) and not _in_database(options):
        raise UsageError(
            f"--aside '#{options.aside.prefix}' writes database tables, but --out is not "
            "a database table",
            remedy="--out FILE.sqlite#TABLE or postgresql://…#TABLE, or --aside DIR",
        )
    if options.append and not options.out:
        raise UsageError(
            "--append needs a database table to add rows to", remedy="name the table: --out …#TABLE"
        )


def _in_database(options: argparse.Namespace) -> bool:
    """Whether the result is a table of a database."""
    return isinstance(options.out, TableTarget) or bool(getattr(options, "out_table", None))


def files_read(sources: Sequence[Source], options: argparse.Namespace) -> list[str]:
    """All files that the command reads: the sources, and a crosswalk."""
    pairs = getattr(options, "pairs", None)
    return [*(source.path for source in sources), *([str(pairs)] if pairs else [])]


def report_recovered_outputs(delivery: Delivery) -> None:
    """Say that the outputs of a run that was killed while it handed them over are there now."""
    if delivery.completed:
        _say(
            "plait: finished an earlier run that was killed after its outputs were "
            "ready; now in place:"
        )
        for path in delivery.completed:
            _say(f"       {path}")


def _say(text: str) -> None:
    from plait.cli.terminal import print_line  # loads slowly, and is not always needed

    print_line(text)


def report_waiting_for_pipes(paths: Iterable[str]) -> None:
    """Say what is being waited for: a pipe gives nothing before somebody writes into it."""
    for path in dict.fromkeys(paths):
        if path == STANDARD_INPUT and sys.stdin is not None and sys.stdin.isatty():
            _say("plait: reading from the keyboard; press Ctrl-D to finish")
        elif path != STANDARD_INPUT and _is_pipe(path):
            _say(f"plait: waiting for data from the pipe {path}")


def _is_pipe(path: str) -> bool:
    try:
        return Path(path).is_fifo()
    except (OSError, ValueError):  # no file can have that name: finding it tells so
        return False


def check_report_target(options: argparse.Namespace, delivery: Delivery) -> None:
    """See that the page asked for can be written."""
    if options.report:
        if options.report.suffix.lower() not in (".html", ".htm", ".md"):
            raise UsageError(
                f"--report writes an HTML page or Markdown: {options.report} must end in .html "
                "or .md"
            )
        delivery.check(options.report)


def write_report(
    options: argparse.Namespace,
    delivery: Delivery,
    command: str,
    page: Callable[[], str],
    document: Callable[[], Document],
) -> None:
    """Write the report of a command that was asked for: a page, or by its ending Markdown."""
    if options.report.suffix.lower() == ".md":
        from plait.report.as_markdown import document_markdown

        text = document_markdown(f"plait {command}", document())
    else:
        text = page()
    delivery.write(options.report, lambda part: part.write_text(text, encoding="utf-8"))


def read_sources(
    sources: Sequence[Source],
    progress: Progress,
    options: argparse.Namespace | None = None,
    also: OnProgress = lambda _: None,
) -> list[Table]:
    """Read the sources in order; with options also mark what is missing, and set types.

    ``also`` is called as they are read.
    """
    tables = _read(sources, progress, read_source, also)
    if options is None or not (options.missing or options.type or options.unfit):
        return tables
    with progress.phase("setting types"):
        return apply_types(tables, options)


def _read(
    sources: Sequence[Source],
    progress: Progress,
    read: Callable[[Source, OnProgress], Read],
    also: OnProgress = lambda _: None,
) -> list[Read]:
    # What shows the result loads slowly, and has time to while the sources are read.
    import_in_background("plait.cli.terminal")
    report_waiting_for_pipes(source.path for source in sources)
    size = sum(source.size for source in sources)
    far = sum(source.size for source in sources if source.is_remote)
    if any(source.is_remote for source in sources):
        with progress.phase("fetching", far or None) as came:
            prefetch_sources(sources, came)
    with progress.phase("reading", size or None) as done:

        def on_progress(more: int) -> None:
            done(more)
            also(more)

        return read_in_parallel(sources, lambda source: read(source, on_progress))


def read_readable_sources(
    sources: Sequence[Source],
    progress: Progress,
    options: argparse.Namespace,
    sample: int | None = None,
) -> tuple[list[Table], list[Finding]]:
    """Read the sources that can be read, or a sample of them; a finding for each that cannot.

    Raises
    ------
    SourceError
        When none of them can be.
    """
    read = try_read_source if sample is None else partial(read_sample, rows=sample)
    found = _read(sources, progress, read)
    tables = [f for f in found if isinstance(f, Table)]
    faults = [one for one in found if isinstance(one, SourceError)]
    if faults and not tables:
        raise faults[0]
    with progress.phase("setting types"):
        return apply_types(tables, options), [report_unreadable(fault) for fault in faults]


def deliver_result(
    result: Result,
    tables: Sequence[Table],
    options: argparse.Namespace,
    delivery: Delivery,
    progress: Progress,
    early: FirstRowsStream | None = None,
) -> int:
    """Write what was asked for, or nothing, and tell the person.

    ``early`` is standard output, where that has its first rows already.

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
    _refuse_and_tell(result, tables, options)
    targets, findings = _written(result, tables, options, delivery, progress, early)
    result = replace(result, findings=(*result.findings, *findings))
    outputs = [summarize_output(table, path) for table, path in targets] if options.json else []
    _show_everything(result, options)
    print_json(make_account(result, tables, outputs), options)
    return 0


def _refuse_and_tell(result: Result, tables: Sequence[Table], options: argparse.Namespace) -> None:
    """End when a finding stands that ``--fail-on`` names, and tell all of them."""
    if matching_findings(result.findings, options.fail_on):
        _show_everything(result, options)
        print_json(make_account(result, tables, ()), options)
    raise_on_failing_findings(result.findings, options)


def write_list(table: Table, options: argparse.Namespace, delivery: Delivery) -> list[Finding]:
    """Write what a command lists, as ``--out`` says; what is found while it is written."""
    check_format_capacity(table, {}, options.out)
    named = table.with_name(options.out.stem)
    return add_table_to_delivery(delivery, named, options.out, text_format=text_format(options))


def raise_on_failing_findings(
    findings: Sequence[Finding], options: argparse.Namespace, wrote_page: bool = False
) -> None:
    """Raise when a finding stands that ``--fail-on`` names.

    Raises
    ------
    ExpectationError
    """
    failing = matching_findings(findings, options.fail_on)
    if failing:
        codes = ", ".join(dict.fromkeys(finding.code for finding in failing))
        raise ExpectationError(
            f"{pluralize(len(failing), 'finding')} named by --fail-on: {codes}",
            remedy="only the report was written" if wrote_page else "no result was written",
        )


def make_account(
    result: Result, tables: Sequence[Table], outputs: Sequence[OutputSummary]
) -> Account:
    """Everything that is to be said about a result, for JSON and pages."""
    return Account(
        result.command,
        tuple(tables),
        result.entries,
        result.findings,
        tuple(outputs),
        result.matches,
        result.decisions,
    )


def _written(
    result: Result,
    tables: Sequence[Table],
    options: argparse.Namespace,
    delivery: Delivery,
    progress: Progress,
    early: FirstRowsStream | None,
) -> tuple[list[tuple[Table, Target]], list[Finding]]:
    """Write everything or nothing; the files, and what was found while writing them."""
    beside_it, findings = set_aside_lists(result, options)
    files = [path for _, path in beside_it if isinstance(path, Path) and path != options.out]
    targets: list[tuple[Table, Target]] = []
    targets += ([(result.table, options.out)] if options.out else []) + beside_it
    beside = {one.name: one for one, _ in beside_it} | {"ledger": ledger_table(result.entries)}
    with (
        delivery,
        progress.phase("writing", sum(table.rows for table, _ in targets)) as on_progress,
    ):
        for path in files:
            delivery.check(path, make_folder=True)
        findings += _left_behind(files, options, delivery)
        if options.out:
            check_format_capacity(result.table, beside, options.out)
        # A new file of a database has all of its tables at once.
        within = {} if _adds_to_there(options) else _tables_in(options.out, beside_it)
        for table, target in targets:
            main = table is result.table
            if not main and table.name in within:
                continue
            how = (
                TableWriteOptions(options.append, result.key, within=within)
                if main
                else TableWriteOptions()
            )
            more = beside if main else {}
            found = add_table_to_delivery(
                delivery, table, target, on_progress, text_format(options), more, how
            )
            findings.extend(found if main else ())
        if not options.out:
            out: Any = early or sys.stdout.buffer
            findings += write_csv_to(result.table, out, text_format(options))
            out.flush()
        told = replace(result, findings=(*result.findings, *findings))
        _refuse_and_tell(told, tables, options)
        if options.report:
            from plait.report.html.pages import page

            account = make_account(told, tables, ())
            write_report(
                options,
                delivery,
                result.command,
                lambda: page(account),
                lambda: _document(told, options),
            )
    return targets, findings


def _adds_to_there(options: argparse.Namespace) -> bool:
    """Whether the result is added to what is there, or is no file."""
    return not isinstance(options.out, Path) or options.out.exists()


def _tables_in(target: Target, table_groups: Sequence[tuple[Table, Target]]) -> dict[str, Table]:
    """The lists that go to the same file as the result, by their names."""
    return {table.name: table for table, path in table_groups if path == target}


def _left_behind(
    paths: Sequence[Path], options: argparse.Namespace, delivery: Delivery
) -> list[Finding]:
    """Say which files in the folder for set-aside rows are not of this run: they stay.

    Those that an earlier run wrote there with the same result go.
    """
    folder = set_aside_folder(options)
    if folder is None:
        return []
    delivery.lead(result_target(options) or folder)
    every = [*paths, *([options.report] if options.report else [])]
    gone = [str(path) for path in delivery.going(every)]
    left = delivery.left_in(folder, every)
    found = (
        _of_files(
            "gone-with-result",
            "note",
            gone,
            "of the earlier run removed together with the result they belonged to",
            "",
        ),
        _of_files(
            "left-behind",
            "warning",
            left,
            f"in {folder} not written by this run; left unchanged",
            "remove them if you do not need them",
        ),
    )
    return [f for f in found if f.count]


def _of_files(code: str, severity: str, names: Sequence[str], what: str, remedy: str) -> Finding:
    examples = tuple(FindingExample(name) for name in names[:MOST_EXAMPLES])
    message = f"{pluralize(len(names), 'file')} {what}"
    return Finding(code, severity, len(names), message, remedy, examples=examples)


def result_target(options: argparse.Namespace) -> Path | None:
    """The file of the result, or the table in a database; nothing on standard output."""
    table = getattr(options, "out_table", None)
    if isinstance(options.out, TableTarget):
        return None
    if options.out and table:
        return Path(options.out.with_name(f"{options.out.name}#{table}"))
    return Path(options.out) if options.out else None


def set_aside_lists(
    result: Result, options: argparse.Namespace
) -> tuple[list[tuple[Table, Target]], list[Finding]]:
    """The rows set aside and where they are listed, and what is said of lists cut short."""
    wanted = set_aside_folder(options) or isinstance(options.aside, SiblingTables)
    listed = truncate_listings(result.aside, options.aside_limit) if wanted else []
    if isinstance(options.aside, SiblingTables):
        every = [*((table, one.name) for table, one in listed), _ledger(result)]
        return [
            _table_beside(table, name, options) for table, name in every
        ], report_truncated_listings(listed)
    return [
        (table, _aside_file(one.name, options)) for table, one in listed
    ], report_truncated_listings(listed)


def _ledger(result: Result) -> tuple[Table, str]:
    return ledger_table(result.entries), "ledger"


def _table_beside(table: Table, name: str, options: argparse.Namespace) -> tuple[Table, Target]:
    """A list, and the table of the result's database that it goes to."""
    called = options.aside.prefix + re.sub(r"\W+", "_", name)
    if isinstance(options.out, TableTarget):
        return table, options.out.beside(called)
    return table.with_name(called), options.out


def _aside_file(name: str, options: argparse.Namespace) -> Path:
    """The file that rows set aside under a name go to."""
    folder = set_aside_folder(options)
    assert folder is not None
    return folder / f"{to_file_name(name)}.csv"


def set_aside_folder(options: argparse.Namespace) -> Path | None:
    """Where set-aside rows go; nowhere when the result goes to standard output unasked."""
    if isinstance(options.aside, SiblingTables):
        return None
    if options.aside:
        return Path(options.aside)
    if not isinstance(options.out, Path):
        return None
    return options.out.with_name(f"{options.out.stem}-aside")


def _show_everything(result: Result, options: argparse.Namespace) -> None:
    """Answer, ledger and findings, unless quiet was asked for."""
    if options.quiet:
        return
    from plait.cli.document_view import print_document

    print_document(_document(result, options), options.verbose)


def _document(result: Result, options: argparse.Namespace) -> Document:
    return result_document(result, str(options.out or ""), [_rows_aside(result, options)])


def _rows_aside(result: Result, options: argparse.Namespace) -> Fact:
    """How many rows are in no result, and where they are listed."""
    out_of_result = sum(a.rows for a in result.aside if not a.in_result)
    rows, folder = pluralize(out_of_result, "row"), set_aside_folder(options)
    if result.aside and folder and out_of_result:
        return Fact("set aside", f"{rows}, listed in {folder}/")
    if result.aside and folder:
        return Fact("set aside", f"0 rows; rows without a match are listed in {folder}/")
    if out_of_result and isinstance(options.aside, SiblingTables):
        return Fact("set aside", f"{rows}, listed in tables {options.aside.prefix}…")
    if out_of_result:
        how = "--aside DIR or '#PREFIX'" if _in_database(options) else "--aside DIR"
        return Fact("left out", f"{rows}; to list them: {how}")
    return Fact("set aside", "0 rows")


def print_json(account: Account, options: argparse.Namespace) -> None:
    """Print the account where JSON was asked for."""
    if options.json:
        print(account_json(account))
