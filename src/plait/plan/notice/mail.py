"""Notices by email: SMTP with STARTTLS or TLS, a plain and an HTML part."""

from __future__ import annotations

import os
import smtplib
import ssl
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from typing import Any

from plait._version import __version__
from plait.core.account.errors import UsageError
from plait.core.account.waiting import answer_of
from plait.formats.places.address import Address, Parts
from plait.formats.servers.passwords import from_keyring
from plait.plan.notice.message import Message
from plait.plan.notice.trying import NotSentError, again, is_this_machine
from plait.report.pages.render import render

PASSWORD = "PLAIT_SMTP_PASSWORD"
_PORTS = {"smtp": 25, "smtps": 465}
_SECONDS, _ALTOGETHER_SECONDS = 20, 30
_WAITS = (1.0, 4.0)
_LARGEST = 10 << 20


@dataclass(frozen=True)
class Mailbox:
    """Who gets an email, from whom, through which server."""

    server: str
    sender: str
    to: Sequence[str]
    attach: bool = False

    def send(self, message: Message, waits: Sequence[float] = _WAITS) -> None:
        """Send it, or try again after each wait.

        Raises
        ------
        NotSentError
        """
        address = Address(self.server)
        try:
            parts = address.parts()
        except UsageError as error:
            raise NotSentError(str(error)) from None
        if address.scheme not in _PORTS or not parts.host:
            raise NotSentError(
                f"{address.shown} is not a mail server: write smtp://HOST or smtps://HOST"
            )
        again(lambda: self._once(address, parts, message), waits)

    def _once(self, address: Address, parts: Parts, message: Message) -> None:
        def sent() -> dict[str, Any]:
            with _connected(address, parts) as server:
                if parts.user:
                    server.login(parts.user, _password(address, parts))
                return dict(server.send_message(self._written(message), self.sender, list(self.to)))

        try:
            # A server that goes on and on with one answer is not heard out.
            refused = answer_of(sent, _ALTOGETHER_SECONDS)
        except (OSError, smtplib.SMTPException) as error:
            raise NotSentError(_said(error), _may_work_later(error)) from None
        if refused:
            raise NotSentError(f"the server refused {', '.join(refused)}")

    def _written(self, message: Message) -> EmailMessage:
        mail = EmailMessage()
        mail["Subject"] = " ".join(message.subject.split())
        mail["From"], mail["To"] = self.sender, ", ".join(self.to)
        mail["Date"], mail["Message-ID"] = formatdate(localtime=True), make_msgid(domain="plait")
        mail["Auto-Submitted"] = "auto-generated"
        mail.set_content(message.text())
        text = render("notice.html.jinja", message=message, version=__version__)
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


def _said(error: Exception) -> str:
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


def _connected(address: Address, parts: Parts) -> smtplib.SMTP:
    """A connection that nobody reads along, or one within this machine.

    Raises
    ------
    NotSentError
    """
    context = ssl.create_default_context()
    port = parts.port or _PORTS[address.scheme]
    if address.scheme == "smtps":
        return smtplib.SMTP_SSL(parts.host, port, timeout=_SECONDS, context=context)
    server = smtplib.SMTP(parts.host, port, timeout=_SECONDS)
    try:
        server.ehlo()
        if server.has_extn("starttls"):
            server.starttls(context=context)
            server.ehlo()
        elif not is_this_machine(parts.host):
            raise NotSentError(
                f"{parts.host} does not offer STARTTLS, so the mail would be sent "
                "unencrypted: use smtps://HOST, or a mail server on this machine"
            )
    except BaseException:
        with suppress(OSError):
            server.close()
        raise
    return server


def _password(address: Address, parts: Parts) -> str:
    """The password of the user: of the environment, or of the keyring.

    Raises
    ------
    NotSentError
    """
    found = parts.password or os.environ.get(PASSWORD) or from_keyring(address)
    if not found:
        raise NotSentError(
            f"no password for {parts.user} at {parts.host}: set {PASSWORD}, or "
            f"keyring set {address.scheme}://{parts.host}{f':{parts.port}' if parts.port else ''}/ "
            f"{parts.user}"
        )
    return found
