"""``plait draft``."""

from __future__ import annotations

import argparse
import json
import sys
from dataclasses import asdict
from pathlib import Path
from typing import Any

from plait._version import __version__
from plait.cli.progress import Progress
from plait.cli.working import add_work
from plait.core.account.errors import UsageError
from plait.core.account.finding import counted
from plait.formats.delivery.delivery import Delivery
from plait.formats.sources import find_sources
from plait.plan.draft import Draft, draft
from plait.plan.written import plan_text

HELP = {
    "description": (
        "Survey sources and write a starter plan: extracts with the same layout "
        "stacked, the joins found with their keys, and open decisions as comments "
        "with the evidence. The plan runs without changes."
    ),
    "epilog": "example:\n  plait draft inspections register --out season.toml",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument(
        "sources", nargs="+", metavar="SOURCE", help="a file, a glob, a folder, or name=path"
    )
    parser.add_argument(
        "--out", type=Path, metavar="FILE", help="the plan file (default: standard output)"
    )
    parser.add_argument("--replace", action="store_true", help="overwrite an existing file")
    parser.add_argument(
        "--json", action="store_true", help="print the summary as JSON (needs --out)"
    )
    parser.add_argument("--quiet", action="store_true", help="show only errors")
    parser.add_argument(
        "--verbose", action="store_true", help="show every possible join that was found"
    )
    add_work(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    out: Path | None = options.out
    if options.json and not out:
        raise UsageError(
            "--json and the plan would both go to standard output",
            remedy="write the plan to a file: --out FILE",
        )
    paths = [source.path for source in find_sources(options.sources, faulty=True)]
    with Delivery(paths, options.replace) as delivery, Progress(not options.quiet) as progress:
        if out:
            delivery.check(out)
        with progress.phase("surveying sources"):
            made = draft(options.sources, out.parent if out else Path())
        text = plan_text(made)
        if out:
            delivery.write(out, lambda part: part.write_text(text, encoding="utf-8"))
        else:
            sys.stdout.write(text)
    if not options.quiet:
        from plait.cli.views.show import show_answer

        show_answer(_answer(made, out, options.verbose))
    if options.json:
        print(json.dumps(_said(made, out), indent=2, ensure_ascii=False))
    return 0


def _said(made: Draft, out: Path | None) -> dict[str, Any]:
    """The account as plain dictionaries and lists."""
    sources = (made.base, *made.others, *made.unused)
    return {
        "command": "draft",
        "version": __version__,
        "sources": [
            {
                "name": one.name,
                "path": list(one.paths),
                "extracts": one.extracts,
                "rows": one.table.rows,
                "columns": len(one.table.columns),
            }
            for one in sources
        ],
        "result": made.result,
        "joins": [asdict(one) for one in made.joins],
        "left_out": [
            *({"name": one.name, "reason": made.reasons.get(one.name, "")} for one in made.unused),
            *({"name": one.path, "reason": one.reason} for one in made.unread),
        ],
        "to_decide": [*made.unsure, *(said for one in sources for said in one.open)],
        "ledger": [],
        "findings": [],
        "outputs": [{"path": str(out)}],
    }


_FEW, _MOST_NAMED = 3, 8


def _answer(made: Draft, out: Path | None, verbose: bool) -> list[str]:
    stacked = [one.name for one in (made.base, *made.others) if one.extracts > 1]
    where = f"{out}: " if out else ""
    lines = [
        (
            f"{where}a runnable plan with {counted(len(stacked), 'stack')} and "
            f"{counted(len(made.joins), 'join')}"
        )
    ]
    lines += [
        f"joined:      {one.right} on {', '.join(left for left, _ in one.key)}: {one.evidence[0]}"
        for one in made.joins
    ]
    out_of_it = [*(one.name for one in made.unused), *(one.path for one in made.unread)]
    if out_of_it:
        every = len(out_of_it) + len(made.others) + 1
        names = ", ".join(out_of_it[:_MOST_NAMED]) + (" …" if len(out_of_it) > _MOST_NAMED else "")
        lines.append(
            f"left out:    {len(out_of_it)} of {counted(every, 'source')}, with the reasons in the "
            f"plan: {names}"
        )
    shown = made.unsure if verbose else made.unsure[:_FEW]
    lines += [f"to decide:   {said}" for said in shown]
    if len(shown) < len(made.unsure):
        lines.append(f"             and {len(made.unsure) - len(shown)} more, in the plan")
    if out:
        lines.append(f"next:        plait check {out}")
    return lines
