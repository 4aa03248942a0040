"""``plait draft``."""

from __future__ import annotations

import argparse
import json
import sys
from dataclasses import asdict
from pathlib import Path
from typing import Any

from plait._version import __version__
from plait.cli.common_options import add_job_arguments
from plait.cli.progress import Progress
from plait.core.base.errors import UsageError
from plait.core.base.findings import pluralize
from plait.io.delivery.delivery import Delivery
from plait.io.sources import find_sources
from plait.plan.drafting.as_toml import plan_text
from plait.plan.drafting.draft import Draft, draft_plan
from plait.report.document import Fact

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
    add_job_arguments(parser)


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
            plan = draft_plan(options.sources, out.parent if out else Path())
        text = plan_text(plan, out)
        if out:
            delivery.write(out, lambda part: part.write_text(text, encoding="utf-8"))
        else:
            sys.stdout.write(text)
    if not options.quiet:
        from plait.cli.terminal import print_summary

        print_summary(_answer(plan, out, options.verbose))
    if options.json:
        print(json.dumps(_draft_dict(plan, out), indent=2, ensure_ascii=False))
    return 0


def _draft_dict(draft: Draft, out: Path | None) -> dict[str, Any]:
    """The account as plain dictionaries and lists."""
    sources = (draft.base, *draft.others, *draft.unused)
    return {
        "command": "draft",
        "version": __version__,
        "sources": [
            {
                "name": source.name,
                "path": list(source.paths),
                "extracts": source.extracts,
                "rows": source.table.rows,
                "columns": len(source.table.columns),
            }
            for source in sources
        ],
        "result": draft.result,
        "joins": [asdict(join) for join in draft.joins],
        "left_out": [
            *(
                {"name": one.name, "reason": draft.reasons.get(one.name, "")}
                for one in draft.unused
            ),
            *({"name": u.path, "reason": u.reason} for u in draft.unread),
        ],
        "to_decide": [*draft.unsure, *(o for s in sources for o in s.open)],
        "ledger": [],
        "findings": [],
        "outputs": [{"path": str(out)}],
    }


_FEW, _MOST_NAMED = 3, 8


def _answer(draft: Draft, out: Path | None, verbose: bool) -> list[str | Fact]:
    stacked = [o.name for o in (draft.base, *draft.others) if o.extracts > 1]
    where = f"{out}: " if out else ""
    lines: list[str | Fact] = [
        (
            f"{where}a runnable plan with {pluralize(len(stacked), 'stack')} and "
            f"{pluralize(len(draft.joins), 'join')}"
        )
    ]
    lines += [
        Fact(
            "joined",
            f"{join.right} on {', '.join(left for left, _ in join.key)}: {join.evidence[0]}",
        )
        for join in draft.joins
    ]
    out_of_it = [*(u.name for u in draft.unused), *(one.path for one in draft.unread)]
    if out_of_it:
        every = len(out_of_it) + len(draft.others) + 1
        names = ", ".join(out_of_it[:_MOST_NAMED]) + (" …" if len(out_of_it) > _MOST_NAMED else "")
        left_out = f"{len(out_of_it)} of {pluralize(every, 'source')}"
        lines.append(Fact("left out", f"{left_out}, with the reasons in the plan: {names}"))
    shown = draft.unsure if verbose else draft.unsure[:_FEW]
    lines += [Fact("to decide", question) for question in shown]
    if len(shown) < len(draft.unsure):
        lines.append(Fact("", f"and {len(draft.unsure) - len(shown)} more, in the plan"))
    if out:
        lines.append(Fact("next", f"plait check {out}"))
    return lines
