"""Who is notified of a run, by mail or webhook."""

from __future__ import annotations

import http.client
import json
import os
import smtplib
import ssl
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from ipaddress import ip_address
from typing import Any

from plait._version import __version__
from plait.core.base.errors import UsageError
from plait.core.base.waiting import answer_of
from plait.io.places.address import Address, AddressParts, keyring_password
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import NoticeSection
from plait.plan.notices.message import NoticeMessage, compose_notice, notice_events
from plait.plan.runs.history import RunRecord
from plait.plan.runs.recorder import RunOutcome
from plait.report.html.render import render_template

PASSWORD = "PLAIT_SMTP_PASSWORD"
_PORTS = {"smtp": 25, "smtps": 465}
_MAIL_STEP_SECONDS, _MAIL_SECONDS = 20, 30
_WAITS = (1.0, 4.0)
_LARGEST = 10 << 20

_WEBHOOK_STEP_SECONDS, _WEBHOOK_SECONDS = 15, 30
_TRY_AGAIN = (408, 425, 429)


class NoticeNotSentError(Exception):
    """A notice that could not be sent, why, and whether it may work later."""

    def __init__(self, why: str, later: bool = False) -> None:
        super().__init__(why)
        self.later = later


def retry(once: Callable[[], None], waits: Sequence[float]) -> None:
    """Do something, and do it again after each wait while it may work then.

    Raises
    ------
    NoticeNotSentError
    """
    for wait in (*waits, None):
        try:
            once()
        except NoticeNotSentError as error:
            if wait is None or not error.later:
                raise
            time.sleep(wait)
        else:
            return


def is_this_machine(host: str) -> bool:
    """Whether a host is this machine itself.

    >>> is_this_machine("localhost"), is_this_machine("127.0.0.1"), is_this_machine("mail.example")
    (True, True, False)
    """
    try:
        return host == "localhost" or ip_address(host).is_loopback
    except ValueError:
        return False


@dataclass(frozen=True)
class NoticeOutcome:
    """Who was told, in which way, and why that failed, if it did."""

    way: str
    to: str
    failed: str = ""


def notify_recipients(
    loaded_plan: LoadedPlan, record: RunRecord, ended: RunOutcome
) -> list[NoticeOutcome]:
    """Tell those who want to know of a run that ended so; nothing that goes wrong is raised."""
    notice = loaded_plan.plan.notice
    if notice is None or not notice_events(record, ended) & set(notice.on):
        return []
    return send_message(notice, compose_notice(loaded_plan, record, ended, notice.examples))


def send_message(notice: NoticeSection, message: NoticeMessage) -> list[NoticeOutcome]:
    """Send a message to everybody that a plan names."""
    to = email_recipients(notice)
    box = EmailSender(notice.server, notice.sender or (to[0] if to else ""), to, notice.attach)
    sent = [_tried("email", ", ".join(to), lambda: box.send(message))] if to else []
    if notice.webhook:
        hook = notice.webhook
        sent.append(_tried("webhook", webhook_host(hook), lambda: post(hook, message)))
    return sent


def email_recipients(notice: NoticeSection) -> list[str]:
    """The addresses that get an email."""
    return [notice.email] if isinstance(notice.email, str) else list(notice.email)


def webhook_host(webhook: str) -> str:
    """Which machine a webhook leads to: what is behind that may be a secret.

    >>> webhook_host("https://hooks.example/T0/secret")
    'https://hooks.example'
    """
    try:
        return f"{Address(webhook).scheme}://{Address(webhook).parts().host}"
    except UsageError:
        return f"{Address(webhook).scheme}://…"


def _tried(way: str, to: str, do: Callable[[], None]) -> NoticeOutcome:
    try:
        do()
    except NoticeNotSentError as error:
        return NoticeOutcome(way, to, str(error))
    except Exception as error:  # whatever it is, the result stands
        return NoticeOutcome(way, to, f"{type(error).__name__}: {error}")
    return NoticeOutcome(way, to)


def test_message(loaded_plan: LoadedPlan, record: RunRecord) -> NoticeMessage:
    """What ``plait notify --test`` sends."""
    title = loaded_plan.plan.title or loaded_plan.path.stem
    return NoticeMessage(
        f"{title}: a test of the notices",
        (
            f"{title}: this is a test. You will be notified here when a run ends.",
            "",
            f"from {loaded_plan.path.absolute()}, by {record.user} on {record.machine}",
        ),
        {},
        None,
        {
            "plan": str(loaded_plan.path.absolute()),
            "title": loaded_plan.plan.title,
            "status": "test",
        },
    )


@dataclass(frozen=True)
class EmailSender:
    """Who gets an email, from whom, through which server."""

    server: str
    sender: str
    to: Sequence[str]
    attach: bool = False

    def send(self, message: NoticeMessage, waits: Sequence[float] = _WAITS) -> None:
        """Send it, or try again after each wait.

        Raises
        ------
        NoticeNotSentError
        """
        address = Address(self.server)
        try:
            parts = address.parts()
        except UsageError as error:
            raise NoticeNotSentError(str(error)) from None
        if address.scheme not in _PORTS or not parts.host:
            raise NoticeNotSentError(
                f"{address.shown} is not a mail server: write smtp://HOST or smtps://HOST"
            )
        retry(lambda: self._once(address, parts, message), waits)

    def _once(self, address: Address, parts: AddressParts, message: NoticeMessage) -> None:
        def sent() -> dict[str, Any]:
            with _connected(address, parts) as server:
                if parts.user:
                    server.login(parts.user, _password(address, parts))
                return dict(server.send_message(self._written(message), self.sender, list(self.to)))

        try:
            # A server that goes on and on with one answer is not heard out.
            refused = answer_of(sent, _MAIL_SECONDS)
        except (OSError, smtplib.SMTPException) as error:
            raise NoticeNotSentError(_server_reply(error), _may_work_later(error)) from None
        if refused:
            raise NoticeNotSentError(f"the server refused {', '.join(refused)}")

    def _written(self, message: NoticeMessage) -> EmailMessage:
        mail = EmailMessage()
        mail["Subject"] = " ".join(message.subject.split())
        mail["From"], mail["To"] = self.sender, ", ".join(self.to)
        mail["Date"], mail["Message-ID"] = formatdate(localtime=True), make_msgid(domain="plait")
        mail["Auto-Submitted"] = "auto-generated"
        mail.set_content(message.text())
        text = render_template("notice.html.jinja", message=message, version=__version__)
        mail.add_alternative(text, subtype="html")
        report = message.report
        if self.attach and report and report.is_file() and report.stat().st_size <= _LARGEST:
            mail.add_attachment(
                report.read_bytes(), maintype="text", subtype="html", filename=report.name
            )
        return mail


def _may_work_later(error: Exception) -> bool:
    never = (
        smtplib.SMTPAuthenticationError,
        smtplib.SMTPNotSupportedError,
        ssl.SSLCertVerificationError,
    )
    lasting = isinstance(error, smtplib.SMTPResponseException) and error.smtp_code >= 500
    return not (lasting or isinstance(error, never))


def _server_reply(error: Exception) -> str:
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        return f"the server refused {', '.join(error.recipients)}"
    if isinstance(error, smtplib.SMTPAuthenticationError):
        return f"the server takes no such user and password: see {PASSWORD}"
    if isinstance(error, ssl.SSLCertVerificationError):
        return f"the server's certificate is not trusted: {error.verify_message}"
    if isinstance(error, smtplib.SMTPResponseException):
        said = error.smtp_error
        text = said.decode(errors="replace") if isinstance(said, bytes) else str(said)
        return f"the server said {error.smtp_code} {' '.join(text.split())}"
    return str(getattr(error, "strerror", None) or error) or type(error).__name__


def _connected(address: Address, parts: AddressParts) -> smtplib.SMTP:
    """A connection that nobody reads along, or one within this machine.

    Raises
    ------
    NoticeNotSentError
    """
    context = ssl.create_default_context()
    port = parts.port or _PORTS[address.scheme]
    if address.scheme == "smtps":
        return smtplib.SMTP_SSL(parts.host, port, timeout=_MAIL_STEP_SECONDS, context=context)
    server = smtplib.SMTP(parts.host, port, timeout=_MAIL_STEP_SECONDS)
    try:
        server.ehlo()
        if server.has_extn("starttls"):
            server.starttls(context=context)
            server.ehlo()
        elif not is_this_machine(parts.host):
            raise NoticeNotSentError(
                f"{parts.host} does not offer STARTTLS, so the mail would be sent "
                "unencrypted: use smtps://HOST, or a mail server on this machine"
            )
    except BaseException:
        with suppress(OSError):
            server.close()
        raise
    return server


def _password(address: Address, parts: AddressParts) -> str:
    """The password of the user: of the environment, or of the keyring.

    Raises
    ------
    NoticeNotSentError
    """
    text = parts.password or os.environ.get(PASSWORD) or keyring_password(address)
    if not text:
        raise NoticeNotSentError(
            f"no password for {parts.user} at {parts.host}: set {PASSWORD}, or "
            f"keyring set {address.scheme}://{parts.host}{f':{parts.port}' if parts.port else ''}/ "
            f"{parts.user}"
        )
    return text


class _StayHere(urllib.request.HTTPRedirectHandler):
    """Follows no redirection: a notice goes where the plan says, and nowhere else."""

    def redirect_request(self, *_: Any) -> None:
        """Nowhere."""


def post(webhook: str, message: NoticeMessage, waits: Sequence[float] = _WAITS) -> None:
    """Post a notice, or try again after each wait.

    Raises
    ------
    NoticeNotSentError
    """
    address = Address(webhook)
    try:
        host, url = address.parts().host, address.filled()
    except UsageError as error:
        raise NoticeNotSentError(str(error)) from None
    if address.scheme != "https" and not (address.scheme == "http" and is_this_machine(host)):
        raise NoticeNotSentError(
            f"notices to {host or address.scheme} would be sent unencrypted: use https://"
        )
    body = json.dumps(message.data, ensure_ascii=False).encode()
    heads = {"Content-Type": "application/json", "User-Agent": f"plait/{__version__}"}
    request = urllib.request.Request(url, data=body, headers=heads, method="POST")
    opener = urllib.request.build_opener(_StayHere)
    retry(lambda: _once(opener, request), waits)


def _once(opener: urllib.request.OpenerDirector, request: urllib.request.Request) -> None:
    try:
        answer_of(
            lambda: opener.open(request, timeout=_WEBHOOK_STEP_SECONDS).close(), _WEBHOOK_SECONDS
        )
    except urllib.error.HTTPError as error:
        with error:
            later = error.code >= 500 or error.code in _TRY_AGAIN
            raise NoticeNotSentError(f"it answered {error.code} {error.reason}", later) from None
    except (OSError, http.client.HTTPException, ValueError) as error:
        reason = getattr(error, "reason", error)
        text = str(getattr(reason, "strerror", None) or reason) or type(reason).__name__
        raise NoticeNotSentError(text, "certificate" not in text.lower()) from None
