"""Notices by email: SMTP with STARTTLS or TLS, a plain and an HTML part."""

from __future__ import annotations

import os
import smtplib
import ssl
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from ipaddress import ip_address

from plait._version import __version__
from plait.core.account.errors import UsageError
from plait.formats.places.address import Address, Parts
from plait.formats.servers.passwords import from_keyring
from plait.plan.notice.message import Message
from plait.report.page import environment

PASSWORD = "PLAIT_SMTP_PASSWORD"
_PORTS = {"smtp": 25, "smtps": 465}
_SECONDS = 20
_WAITS = (1.0, 4.0)
_LARGEST = 10 << 20


class NotSentError(Exception):
    """A notice that could not be sent, and why."""


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
                f"{address.shown} is no mail server: write smtp://HOST or smtps://HOST"
            )
        again(lambda: self._once(address, parts, message), waits)

    def _once(self, address: Address, parts: Parts, message: Message) -> None:
        with _connected(address, parts) as server:
            if parts.user:
                server.login(parts.user, _password(address, parts))
            refused = server.send_message(self._written(message), self.sender, list(self.to))
        if refused:
            raise NotSentError(f"the server refused {', '.join(refused)}")

    def _written(self, message: Message) -> EmailMessage:
        mail = EmailMessage()
        mail["Subject"] = " ".join(message.subject.split())
        mail["From"], mail["To"] = self.sender, ", ".join(self.to)
        mail["Date"], mail["Message-ID"] = formatdate(localtime=True), make_msgid(domain="plait")
        mail["Auto-Submitted"] = "auto-generated"
        mail.set_content(message.text())
        template = environment({}).get_template("notice.html.jinja")
        mail.add_alternative(template.render(message=message, version=__version__), subtype="html")
        report = message.report
        if self.attach and report and report.is_file() and report.stat().st_size <= _LARGEST:
            mail.add_attachment(
                report.read_bytes(), maintype="text", subtype="html", filename=report.name
            )
        return mail


def again(once: Callable[[], None], waits: Sequence[float]) -> None:
    """Do something, and do it again after each wait where it might work then.

    Raises
    ------
    NotSentError
    """
    for wait in (*waits, None):
        try:
            once()
        except NotSentError:
            raise
        except (smtplib.SMTPAuthenticationError, ssl.SSLCertVerificationError) as error:
            raise NotSentError(_said(error)) from None
        except (OSError, smtplib.SMTPException) as error:
            lasting = isinstance(error, smtplib.SMTPResponseException) and error.smtp_code >= 500
            if wait is None or lasting or isinstance(error, smtplib.SMTPNotSupportedError):
                raise NotSentError(_said(error)) from None
            time.sleep(wait)
        else:
            return


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
                f"{parts.host} offers no STARTTLS, and anybody on the way could read along: "
                "smtps://HOST, or a server on this machine"
            )
    except BaseException:
        with suppress(OSError):
            server.close()
        raise
    return server


def is_this_machine(host: str) -> bool:
    """Whether a host is this machine itself.

    >>> is_this_machine("localhost"), is_this_machine("127.0.0.1"), is_this_machine("mail.example")
    (True, True, False)
    """
    try:
        return host == "localhost" or ip_address(host).is_loopback
    except ValueError:
        return False


def _password(address: Address, parts: Parts) -> str:
    """The password of the user: of the environment, or of the keyring.

    Raises
    ------
    NotSentError
    """
    found = parts.password or os.environ.get(PASSWORD) or from_keyring(address)
    if not found:
        raise NotSentError(
            f"there is no password for {parts.user} at {parts.host}: set {PASSWORD}, or "
            f"keyring set {address.scheme}://{parts.host}{f':{parts.port}' if parts.port else ''}/ "
            f"{parts.user}"
        )
    return found
