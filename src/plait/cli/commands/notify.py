"""``plait notify``."""

from __future__ import annotations

import argparse
import json
from dataclasses import asdict
from pathlib import Path

from plait._version import __version__
from plait.core.account.errors import OutputError, UsageError
from plait.plan.file.load import load_plan
from plait.plan.notice.tell import Notified, recipients, send, test_message, where_of
from plait.plan.runs.clock import now
from plait.plan.runs.history import read_history
from plait.plan.runs.record import begun

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
    loaded = load_plan(options.plan)
    notice = loaded.plan.notice
    if notice is None or not (notice.email or notice.webhook):
        raise UsageError(
            "the plan has no one to notify",
            str(options.plan),
            'add a [notice] section with email = ["…"] or webhook = "https://…"',
        )
    message = test_message(loaded, begun(len(read_history(loaded.path)) + 1, now()))
    to = recipients(notice)
    who = [Notified("email", ", ".join(to))] if to else []
    who += [Notified("webhook", where_of(notice.webhook))] if notice.webhook else []
    if options.test:
        who = send(notice, message)
    if not options.quiet and not options.json:
        from plait.cli.views.show import for_reading, say, show_answer

        with for_reading():
            show_answer(
                [
                    f"{'notified' if options.test else 'would be notified'}, on: "
                    f"{', '.join(notice.on)}",
                    *map(_said, who),
                ]
            )
            if options.verbose:
                say(message.text())
    if options.json:
        said = [asdict(one) for one in who]
        print(json.dumps({"command": "notify", "version": __version__, "told": said}, indent=2))
    _refuse(who, options.plan)
    return 0


def _said(one: Notified) -> str:
    why = f", failed: {one.failed}" if one.failed else ""
    return f"{one.way + ':':<12} {one.to}{why}"


def _refuse(who: list[Notified], plan: Path) -> None:
    failed = [one for one in who if one.failed]
    if failed:
        raise OutputError(
            f"{len(failed)} of {len(who)} notices could not be sent: {failed[0].failed}",
            f"{failed[0].way} to {failed[0].to}",
            f"see [notice] in {plan}",
        )
