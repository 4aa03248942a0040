"""What every command does with its result: check, write, hand over, tell."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from plait.cli.early import Early
from plait.cli.options import TablesBeside, name_of_result
from plait.cli.per_source import typed
from plait.cli.process import load_meanwhile
from plait.cli.progress import Progress
from plait.core.account.errors import ExpectationError, SourceError, UsageError
from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted, standing
from plait.core.account.names import file_name
from plait.core.table.aside import cut_findings, limited
from plait.core.table.table import Table
from plait.core.verbs.result import Result
from plait.formats.delivery.delivery import Delivery
from plait.formats.first import sampled
from plait.formats.outputs import Target, check_room, check_target, deliver, write_csv_to
from plait.formats.places.reader import Tick
from plait.formats.places.source import STANDARD_INPUT, Source
from plait.formats.places.target import How, TableTarget
from plait.formats.reading import (
    Read,
    fetch_ahead,
    read_or_fault,
    read_source,
    read_together,
    unreadable,
)
from plait.report.account import Account, Output, account_json, ledger_table, output_of


def check_outputs(options: argparse.Namespace, sources: Sequence[Source]) -> Delivery:
    """See that everything asked for can be written, before any source is read."""
    if options.json and not options.out:
        raise UsageError(
            "--json and the result would both go to standard output",
            remedy="write the result to a file: --out FILE",
        )
    delivery = Delivery(read_files(sources, options), options.replace)
    _check_tables(options)
    if options.out:
        name = str(name_of_result(options))
        check_target(options.out, name, delivery, options.append, sources)
        if isinstance(options.aside, TablesBeside) and isinstance(options.out, TableTarget):
            check_target(options.out.beside(f"{options.aside.prefix}ledger"), "ledger", delivery)
    check_report(options, delivery)
    tell_completed(delivery)
    return delivery


def _check_tables(options: argparse.Namespace) -> None:
    """See that what is asked for tables of databases is asked where there is one."""
    if isinstance(options.aside, TablesBeside) and not _in_database(options):
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


def read_files(sources: Sequence[Source], options: argparse.Namespace) -> list[str]:
    """All files that the command reads: the sources, and a crosswalk."""
    pairs = getattr(options, "pairs", None)
    return [*(source.path for source in sources), *([str(pairs)] if pairs else [])]


def tell_completed(delivery: Delivery) -> None:
    """Say that the outputs of a run that was killed while it handed them over are there now."""
    if delivery.completed:
        _say(
            "plait: finished an earlier run that was killed after its outputs were "
            "ready; now in place:"
        )
        for path in delivery.completed:
            _say(f"       {path}")


def _say(text: str) -> None:
    from plait.cli.views.show import say  # loads slowly, and is not always needed

    say(text)


def tell_waiting(paths: Iterable[str]) -> None:
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


def check_report(options: argparse.Namespace, delivery: Delivery) -> None:
    """See that the page asked for can be written."""
    if options.report:
        if options.report.suffix.lower() not in (".html", ".htm"):
            raise UsageError(f"--report writes an HTML page: {options.report} must end in .html")
        delivery.check(options.report)


def read_all(
    sources: Sequence[Source],
    progress: Progress,
    options: argparse.Namespace | None = None,
    also: Tick = lambda _: None,
) -> list[Table]:
    """Read the sources in order; with options also mark what is missing, and set types.

    ``also`` is called as they are read.
    """
    tables = _read(sources, progress, read_source, also)
    if options is None or not (options.missing or options.type or options.unfit):
        return tables
    with progress.phase("setting types"):
        return typed(tables, options)


def _read(
    sources: Sequence[Source],
    progress: Progress,
    read: Callable[[Source, Tick], Read],
    also: Tick = lambda _: None,
) -> list[Read]:
    # What shows the result loads slowly, and has time to while the sources are read.
    load_meanwhile("plait.cli.views.show")
    tell_waiting(source.path for source in sources)
    size = sum(source.size for source in sources)
    far = sum(source.size for source in sources if source.far)
    if any(source.far for source in sources):
        with progress.phase("fetching", far or None) as came:
            fetch_ahead(sources, came)
    with progress.phase("reading", size or None) as done:

        def tick(more: int) -> None:
            done(more)
            also(more)

        return read_together(sources, lambda source: read(source, tick))


def read_what_can_be(
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
    read = read_or_fault if sample is None else partial(sampled, rows=sample)
    found = _read(sources, progress, read)
    tables = [one for one in found if isinstance(one, Table)]
    faults = [one for one in found if isinstance(one, SourceError)]
    if faults and not tables:
        raise faults[0]
    with progress.phase("setting types"):
        return typed(tables, options), [unreadable(fault) for fault in faults]


def hand_over(
    result: Result,
    tables: Sequence[Table],
    options: argparse.Namespace,
    delivery: Delivery,
    progress: Progress,
    early: Early | None = None,
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
    outputs = [output_of(table, path) for table, path in targets] if options.json else []
    _show_everything(result, options)
    tell_json(account(result, tables, outputs), options)
    return 0


def _refuse_and_tell(result: Result, tables: Sequence[Table], options: argparse.Namespace) -> None:
    """End when a finding stands that ``--fail-on`` names, and tell all of them."""
    if standing(result.findings, options.fail_on):
        _show_everything(result, options)
        tell_json(account(result, tables, ()), options)
    refuse_standing(result.findings, options)


def write_list(listed: Table, options: argparse.Namespace, delivery: Delivery) -> list[Finding]:
    """Write what a command lists, as ``--out`` says; what is found while it is written."""
    check_room(listed, {}, options.out)
    named = listed.named(options.out.stem)
    return deliver(delivery, named, options.out, guard=options.guard_formulas)


def refuse_standing(
    findings: Sequence[Finding], options: argparse.Namespace, wrote_page: bool = False
) -> None:
    """Raise when a finding stands that ``--fail-on`` names.

    Raises
    ------
    ExpectationError
    """
    failing = standing(findings, options.fail_on)
    if failing:
        codes = ", ".join(dict.fromkeys(finding.code for finding in failing))
        raise ExpectationError(
            f"{counted(len(failing), 'finding')} named by --fail-on: {codes}",
            remedy="only the report was written" if wrote_page else "no result was written",
        )


def account(result: Result, tables: Sequence[Table], outputs: Sequence[Output]) -> Account:
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
    early: Early | None,
) -> tuple[list[tuple[Table, Target]], list[Finding]]:
    """Write everything or nothing; the files, and what was found while writing them."""
    beside_it, findings = lists(result, options)
    files = [path for _, path in beside_it if isinstance(path, Path) and path != options.out]
    targets: list[tuple[Table, Target]] = []
    targets += ([(result.table, options.out)] if options.out else []) + beside_it
    beside = {one.name: one for one, _ in beside_it} | {"ledger": ledger_table(result.entries)}
    with delivery, progress.phase("writing", sum(table.rows for table, _ in targets)) as tick:
        for path in files:
            delivery.check(path, make_folder=True)
        findings += _left_behind(files, options, delivery)
        if options.out:
            check_room(result.table, beside, options.out)
        # A new file of a database has all of its tables at once.
        within = {} if _adds_to_there(options) else _tables_in(options.out, beside_it)
        for table, target in targets:
            main = table is result.table
            if not main and table.name in within:
                continue
            how = How(options.append, result.key, within=within) if main else How()
            more = beside if main else {}
            found = deliver(delivery, table, target, tick, options.guard_formulas, more, how)
            findings.extend(found if main else ())
        if not options.out:
            out: Any = early or sys.stdout.buffer
            findings += write_csv_to(result.table, out, options.guard_formulas)
            out.flush()
        told = replace(result, findings=(*result.findings, *findings))
        _refuse_and_tell(told, tables, options)
        if options.report:
            from plait.report.pages.page import write_page

            page = account(told, tables, ())
            delivery.write(options.report, lambda part: write_page(page, part))
    return targets, findings


def _adds_to_there(options: argparse.Namespace) -> bool:
    """Whether the result is added to what is there, or is no file."""
    return not isinstance(options.out, Path) or options.out.exists()


def _tables_in(target: Target, listed: Sequence[tuple[Table, Target]]) -> dict[str, Table]:
    """The lists that go to the same file as the result, by their names."""
    return {table.name: table for table, path in listed if path == target}


def _left_behind(
    paths: Sequence[Path], options: argparse.Namespace, delivery: Delivery
) -> list[Finding]:
    """Say which files in the folder for set-aside rows are not of this run: they stay.

    Those that an earlier run wrote there with the same result go.
    """
    folder = aside_folder(options)
    if folder is None:
        return []
    delivery.lead(result_place(options) or folder)
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
    return [one for one in found if one.count]


def _of_files(code: str, severity: str, names: Sequence[str], what: str, remedy: str) -> Finding:
    examples = tuple(Example(name) for name in names[:MOST_EXAMPLES])
    message = f"{counted(len(names), 'file')} {what}"
    return Finding(code, severity, len(names), message, remedy, "", examples)


def result_place(options: argparse.Namespace) -> Path | None:
    """The file of the result, or the table in a database; nothing on standard output."""
    table = getattr(options, "out_table", None)
    if isinstance(options.out, TableTarget):
        return None
    if options.out and table:
        return Path(options.out.with_name(f"{options.out.name}#{table}"))
    return Path(options.out) if options.out else None


def lists(
    result: Result, options: argparse.Namespace
) -> tuple[list[tuple[Table, Target]], list[Finding]]:
    """The rows set aside and where they are listed, and what is said of lists cut short."""
    wanted = aside_folder(options) or isinstance(options.aside, TablesBeside)
    listed = limited(result.aside, options.aside_limit) if wanted else []
    if isinstance(options.aside, TablesBeside):
        every = [*((table, one.name) for table, one in listed), _ledger(result)]
        return [_table_beside(table, name, options) for table, name in every], cut_findings(listed)
    return [(table, _aside_file(one.name, options)) for table, one in listed], cut_findings(listed)


def _ledger(result: Result) -> tuple[Table, str]:
    return ledger_table(result.entries), "ledger"


def _table_beside(table: Table, name: str, options: argparse.Namespace) -> tuple[Table, Target]:
    """A list, and the table of the result's database that it goes to."""
    called = options.aside.prefix + re.sub(r"\W+", "_", name)
    if isinstance(options.out, TableTarget):
        return table, options.out.beside(called)
    return table.named(called), options.out


def _aside_file(name: str, options: argparse.Namespace) -> Path:
    """The file that rows set aside under a name go to."""
    folder = aside_folder(options)
    assert folder is not None
    return folder / f"{file_name(name)}.csv"


def aside_folder(options: argparse.Namespace) -> Path | None:
    """Where set-aside rows go; nowhere when the result goes to standard output unasked."""
    if isinstance(options.aside, TablesBeside):
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
    from plait.cli.views.show import show_answer, show_decisions, show_findings, show_ledger

    show_answer(_answer(result, options))
    show_ledger(result.entries)
    show_decisions(result.decisions)
    show_findings(result.findings, options.verbose)


def _answer(result: Result, options: argparse.Namespace) -> Iterator[str]:
    table = result.table
    where = f"{options.out}: " if options.out else ""
    columns = counted(len(table.columns), "column")
    yield f"{where}{counted(table.rows, 'row')}, {columns}"
    joins = result.entries[len(result.entries) - len(result.matches) :]
    for match, account_ in zip(result.matches, joins, strict=True):
        left, right = account_.rows_in
        yield (
            f"not matched: {match.left_unmatched + match.left_missing_key:,} of {left}, "
            f"{match.right_unmatched + match.right_missing_key:,} of {right}"
        )
    out_of_result = sum(one.rows for one in result.aside if not one.in_result)
    folder = aside_folder(options)
    if result.aside and folder and out_of_result:
        yield f"set aside:   {counted(out_of_result, 'row')}, listed in {folder}/"
    elif result.aside and folder:
        yield f"set aside:   0 rows; rows without a match are listed in {folder}/"
    elif out_of_result and isinstance(options.aside, TablesBeside):
        tables = f"tables {options.aside.prefix}…"
        yield f"set aside:   {counted(out_of_result, 'row')}, listed in {tables}"
    elif out_of_result:
        how = "--aside DIR or '#PREFIX'" if _in_database(options) else "--aside DIR"
        yield f"left out:    {counted(out_of_result, 'row')}; to list them: {how}"
    else:
        yield "set aside:   0 rows"


def tell_json(said: Account, options: argparse.Namespace) -> None:
    """Print the account where JSON was asked for."""
    if options.json:
        print(account_json(said))
