"""``plait history``, and what it prints."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator, Sequence
from operator import attrgetter
from pathlib import Path
from shlex import quote

from plait._version import __version__
from plait.cli.arguments import parse_whole_number
from plait.core.base.findings import pluralize
from plait.plan.file.plan_text import check_plan_path
from plait.plan.runs.history import (
    FIGURES,
    NEW,
    RunRecord,
    find_run,
    format_timestamp,
    history_file,
    last_successful_run,
    read_history,
    record_to_dict,
)
from plait.report.document import (
    Bar,
    Blank,
    Block,
    Document,
    Fact,
    Grid,
    GridColumn,
    Mark,
    Note,
    Value,
)
from plait.report.numbers import format_bytes

HELP = {
    "description": (
        "List every run of a plan, successful or not: when it ran, how it ended, "
        "how long it took, who ran it, and its figures. The history is a JSON lines "
        "file next to the plan; you can use it as a source."
    ),
    "epilog": "examples:\n  plait history season.toml\n  plait history season.toml --run 12\n"
    "  plait group season.history.jsonl --by status --take runs=count",
}
MOST_RUNS = 12

_BAR = 6
_WIDE = 90
_MOST_FAILED = 3
_STATUS_MARKS = {
    "done": Mark("● done", "usual"),
    "running": Mark("… running", "total"),
    "refused": Mark("○ refused", "odd"),
    "failed": Mark("✗ failed", "wrong"),
    "interrupted": Mark("✗ interrupted", "wrong"),
    "killed": Mark("✗ killed", "wrong"),
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("plan", type=Path, metavar="PLAN", help="the plan file (TOML)")
    parser.add_argument(
        "--run", type=parse_whole_number, metavar="N", help="show run number N in full"
    )
    parser.add_argument(
        "--last",
        type=parse_whole_number,
        metavar="N",
        default=MOST_RUNS,
        help=f"show the last N runs (default: {MOST_RUNS})",
    )
    parser.add_argument("--json", action="store_true", help="print the runs as JSON")
    parser.add_argument("--quiet", action="store_true", help="show only errors")
    parser.add_argument(
        "--verbose", action="store_true", help="also show users, machines and versions"
    )


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    plan = check_plan_path(options.plan)
    records = read_history(plan)
    if options.run is not None:
        shown: Sequence[RunRecord] = [find_run(plan, options.run)]
    else:
        shown = records[max(0, len(records) - options.last) :]
    if options.json:
        payload = {
            "command": "history",
            "version": __version__,
            "plan": str(plan),
            "history": str(history_file(plan)),
            "runs": [record_to_dict(s) for s in shown],
        }
        print(json.dumps(payload, indent=2, ensure_ascii=False))
    elif not options.quiet:
        from plait.cli.document_view import print_document
        from plait.cli.terminal import make_console, print_to_stdout

        with print_to_stdout():
            if options.run is not None:
                print_document(run_document(shown[0]))
            else:
                wide = make_console().width > _WIDE
                print_document(history_document(plan, records, shown, options.verbose, wide))
    return 0


def history_document(
    plan: Path,
    records: Sequence[RunRecord],
    shown: Sequence[RunRecord],
    whole: bool = False,
    wide: bool = True,
) -> Document:
    """The runs, the last one at the bottom, with the course of three figures as bars.

    Parameters
    ----------
    records, shown : sequence of RunRecord
        All, and the last of them.
    whole : bool
        With who ran it, where, and which version.
    wide : bool
        With the rows that were new, gone and changed.
    """
    if not records:
        first = Fact("next", f"plait run {quote(str(plan))}")
        return Document((f"{plan.name} has not been run yet",), (first,), ())
    last, good = records[-1], last_successful_run(records)
    bad = sum(not record.good for record in records)
    how = f"{bad:,} of them without a handover" if bad else "each with a handover"
    facts = (
        Fact("the last", _describe_run(last)),
        *([Fact("last good", _describe_run(good))] if good not in (None, last) else []),
        Fact("one run", f"plait history {quote(str(plan))} --run {last.run}"),
    )
    failed = [record for record in shown if record.failed][-_MOST_FAILED:]
    return Document(
        (f"{plan.name}: {pluralize(len(records), 'run')}, {how}",),
        facts,
        (
            _runs(shown, whole, wide),
            *([Blank()] if failed else []),
            *(Note(f"run {r.run}: {r.failed.get('what', '')}", indent=0) for r in failed),
        ),
    )


def _describe_run(run_record: RunRecord) -> str:
    rows = f", {pluralize(run_record.rows, 'row')}" if run_record.rows is not None else ""
    moment = format_timestamp(run_record.started)
    return (
        f"run {run_record.run}, {moment}, {run_record.status} in {run_record.seconds:,.1f} s{rows}"
    )


def _runs(records: Sequence[RunRecord], whole: bool, wide: bool) -> Grid:
    changes = ("new", "gone", "changed") if wide else ()
    most = [
        max((value for record in records if (value := of(record)) is not None), default=0)
        for of in _FIGURES
    ]
    rows: list[tuple[Value, ...]] = []
    for record in records:
        tone = "usual" if record.good else "faint"
        figures: list[Value] = []
        for of, top in zip(_FIGURES, most, strict=True):
            figures += [_number(of(record)), Bar(of(record) or 0, top, tone, _BAR)]
        rows.append(
            (
                *(str(record.run), format_timestamp(record.started)),
                _mark(record),
                *figures,
                *(_number(getattr(record, f"rows_{head}")) for head in changes),
                *((record.user, record.machine, record.version) if whole else ()),
            )
        )
    return Grid(
        (
            GridColumn("run", "right"),
            *(GridColumn(head, wraps=False) for head in ("when", "ended")),
            *(
                column
                for head in ("rows", "unmatched", "seconds")
                for column in (GridColumn(head, "right", wraps=False), GridColumn(wraps=False))
            ),
            *(GridColumn(head, "right", wraps=False) for head in changes),
            *(GridColumn(head, wraps=False) for head in (("by", "on", "with") if whole else ())),
        ),
        rows,
        gap=1,
        indent=0,
    )


def _mark(record: RunRecord) -> Mark:
    """How a run ended."""
    if record.same_as is not None:
        return Mark(f"= as run {record.same_as}", "usual")
    return _STATUS_MARKS[record.status]


_FIGURES = (attrgetter("rows"), attrgetter("unmatched"), attrgetter("seconds"))


def _number(value: float | None) -> str:
    """A figure, or a dot where there is none.

    >>> _number(1250), _number(4.25), _number(None)
    ('1,250', '4.2', '·')
    """
    if value is None:
        return "·"
    return f"{value:,}" if isinstance(value, int) else f"{value:,.1f}"


def run_document(run_record: RunRecord) -> Document:
    """All that is known of one run."""
    moment = format_timestamp(run_record.started)
    figures = [
        (Mark(name.replace("_", " "), "faint"), _number(getattr(run_record, name)))
        for name in (*FIGURES, *NEW)
        if getattr(run_record, name) is not None
    ]
    blocks: list[Block] = []
    if figures:
        blocks.append(Grid((GridColumn(), GridColumn("", "right")), figures, has_heads=False))
    if run_record.sources:
        heads = ("rows", "size", "sha256")
        blocks.append(
            Grid(
                (
                    GridColumn("file", share=1),
                    *(GridColumn(head, "right", wraps=False) for head in heads),
                ),
                [
                    (
                        str(source.get("path", "")),
                        f"{source.get('rows') or 0:,}",
                        format_bytes(source.get("bytes") or 0),
                        str(source.get("sha256") or "")[:12],
                    )
                    for source in run_record.sources
                ],
                "sources of this run",
            )
        )
    return Document(
        (f"run {run_record.run}: {run_record.status}, {moment}, {run_record.seconds:,.1f} s",),
        tuple(_facts_of_run(run_record)),
        tuple(blocks),
    )


def _facts_of_run(run_record: RunRecord) -> Iterator[Fact]:
    for name in ("what", "where", "remedy"):
        if run_record.failed.get(name):
            yield Fact(name, run_record.failed[name])
    if run_record.same_as is not None:
        yield Fact("nothing new", f"what run {run_record.same_as} handed over stands")
    version = f"with Plait {run_record.version}"
    yield Fact("run by", f"{run_record.user} on {run_record.machine}, {version}")
    if run_record.parameters:
        pairs = (f"{name} = {value}" for name, value in run_record.parameters.items())
        yield Fact("parameters", ", ".join(pairs))
    if run_record.handover:
        yield Fact("handover", run_record.handover)
    for sent in run_record.notices:
        how = f"not sent: {sent.get('failed')}" if sent.get("failed") else "sent"
        yield Fact("notice", f"{sent.get('way')} to {sent.get('to')}, {how}")
