"""Sending the notices that a plan asks for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from plait.core.account.errors import UsageError
from plait.formats.places.address import Address
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import Notice
from plait.plan.notice.message import Message, kinds, message_of
from plait.plan.notice.trying import NotSentError
from plait.plan.runs.record import Record
from plait.report.story import Story


@dataclass(frozen=True)
class Notified:
    """Who was told, in which way, and why that failed, if it did."""

    way: str
    to: str
    failed: str = ""


def tell(loaded: LoadedPlan, record: Record, ended: Story | BaseException) -> list[Notified]:
    """Tell those who want to know of a run that ended so; nothing that goes wrong is raised."""
    notice = loaded.plan.notice
    if notice is None or not kinds(record, ended) & set(notice.on):
        return []
    return send(notice, message_of(loaded, record, ended, notice.examples))


def send(notice: Notice, message: Message) -> list[Notified]:
    """Send a message to everybody that a plan names."""
    # Loaded here: most runs tell nobody, and need not wait for what speaks to servers.
    from plait.plan.notice.mail import Mailbox
    from plait.plan.notice.webhook import post

    to = recipients(notice)
    box = Mailbox(notice.server, notice.sender or (to[0] if to else ""), to, notice.attach)
    sent = [_tried("email", ", ".join(to), lambda: box.send(message))] if to else []
    if notice.webhook:
        hook = notice.webhook
        sent.append(_tried("webhook", where_of(hook), lambda: post(hook, message)))
    return sent


def recipients(notice: Notice) -> list[str]:
    """The addresses that get an email."""
    return [notice.email] if isinstance(notice.email, str) else list(notice.email)


def where_of(webhook: str) -> str:
    """Which machine a webhook leads to: what is behind that may be a secret.

    >>> where_of("https://hooks.example/T0/secret")
    'https://hooks.example'
    """
    try:
        return f"{Address(webhook).scheme}://{Address(webhook).parts().host}"
    except UsageError:
        return f"{Address(webhook).scheme}://…"


def _tried(way: str, to: str, do: Callable[[], None]) -> Notified:
    try:
        do()
    except NotSentError as error:
        return Notified(way, to, str(error))
    except Exception as error:  # whatever it is, the result stands
        return Notified(way, to, f"{type(error).__name__}: {error}")
    return Notified(way, to)


def test_message(loaded: LoadedPlan, record: Record) -> Message:
    """What ``plait notify --test`` sends."""
    title = loaded.plan.title or loaded.path.stem
    return Message(
        f"{title}: a test of the notices",
        (
            f"{title}: this is a test. You will be notified here when a run ends.",
            "",
            f"from {loaded.path.absolute()}, by {record.user} on {record.machine}",
        ),
        {},
        None,
        {"plan": str(loaded.path.absolute()), "title": loaded.plan.title, "status": "test"},
    )
