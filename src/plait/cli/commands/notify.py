"""``plait notify``."""

from __future__ import annotations

import argparse
import json
from dataclasses import asdict
from pathlib import Path

from plait._version import __version__
from plait.core.base.errors import OutputError, UsageError
from plait.plan.file.load import load_plan
from plait.plan.notices.send import (
    NoticeOutcome,
    email_recipients,
    send_message,
    test_message,
    webhook_host,
)
from plait.plan.runs.history import current_time, new_run_record, read_history
from plait.report.document import Fact

HELP = {
    "description": (
        "Test the notices set up under [notice] in a plan. Without --test, show who "
        "would be notified, and when. With --test, send everyone a notice marked as "
        "a test."
    ),
    "epilog": "example:\n  plait notify season.toml --test",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("plan", type=Path, metavar="PLAN", help="the plan file (TOML)")
    parser.add_argument("--test", action="store_true", help="send a test notice to everyone")
    parser.add_argument("--json", action="store_true", help="print the recipients as JSON")
    parser.add_argument("--quiet", action="store_true", help="show only errors")
    parser.add_argument("--verbose", action="store_true", help="show the text of the notice")


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    plan = load_plan(options.plan)
    notice = plan.plan.notice
    if notice is None or not (notice.email or notice.webhook):
        raise UsageError(
            "the plan has no one to notify",
            str(options.plan),
            'add a [notice] section with email = ["…"] or webhook = "https://…"',
        )
    message = test_message(plan, new_run_record(len(read_history(plan.path)) + 1, current_time()))
    to = email_recipients(notice)
    who = [NoticeOutcome("email", ", ".join(to))] if to else []
    who += [NoticeOutcome("webhook", webhook_host(notice.webhook))] if notice.webhook else []
    if options.test:
        who = send_message(notice, message)
    if not options.quiet and not options.json:
        from plait.cli.terminal import print_line, print_summary, print_to_stdout

        with print_to_stdout():
            print_summary(
                [
                    f"{'notified' if options.test else 'would be notified'}, on: "
                    f"{', '.join(notice.on)}",
                    *map(_outcome_fact, who),
                ]
            )
            if options.verbose:
                print_line(message.text())
    if options.json:
        texts = [asdict(w) for w in who]
        print(json.dumps({"command": "notify", "version": __version__, "told": texts}, indent=2))
    _refuse(who, options.plan)
    return 0


def _outcome_fact(notice_outcome: NoticeOutcome) -> Fact:
    why = f", failed: {notice_outcome.failed}" if notice_outcome.failed else ""
    return Fact(notice_outcome.way, f"{notice_outcome.to}{why}")


def _refuse(who: list[NoticeOutcome], plan: Path) -> None:
    failed = [w for w in who if w.failed]
    if failed:
        raise OutputError(
            f"{len(failed)} of {len(who)} notices could not be sent: {failed[0].failed}",
            f"{failed[0].way} to {failed[0].to}",
            f"see [notice] in {plan}",
        )
