"""What goes wrong with a server, told as what it is: who was asked for what, and what to try."""

from __future__ import annotations

import re
from collections.abc import Sequence

from plait.core.base.errors import OutputError, PlaitError, SourceError
from plait.core.base.names import suggest_name
from plait.core.base.wording import Setting, Text, wording
from plait.io.places.address import Address

_SAID = re.compile(r"(?:ERROR|FATAL):\s+(.*?)\s*(?:\n|Query was:|\. SQLSTATE|$)", re.DOTALL)

# What a message has in it, the codes of the servers, what that means, and what to try; the first
# that fits is told.
_LONGER = Setting("timeout", "SECONDS")
_MEANINGS: Sequence[tuple[str, tuple[str, ...], str, Text]] = (
    (
        r"could not translate host name|unknown mysql server host|getaddrinfo|name or service not",
        (),
        "unknown host {host}",
        "check the host name and this machine's network connection",
    ),
    (
        r"connection refused|can't connect to mysql|no route to host",
        ("2003",),
        "no server answers at {host} port {port}",
        "check that it is running on that port: psql or mysql with the same address",
    ),
    (
        r"timeout expired|timed out",
        (),
        "{host} port {port} does not answer in time",
        wording("check that this machine can reach it, or wait longer: ", _LONGER),
    ),
    (
        r"no password supplied",
        (),
        "{user} needs a password at {host} port {port}",
        "{password}",
    ),
    (
        r"password authentication failed|access denied for user .*using password",
        ("28P01", "28000", "1045"),
        "wrong password for {user} at {host} port {port}, or {user} may not connect from here",
        "{password}",
    ),
    (
        r"role \S+ does not exist",
        (),
        "unknown user {user} at {host} port {port}",
        "write the user in front of the machine: {scheme}://USER@{host}/{database}",
    ),
    (
        r"database \S+ does not exist|unknown database",
        ("3D000", "1049"),
        "no database {database} at {host} port {port}",
        "psql -l, or SHOW DATABASES, lists them",
    ),
    (
        r"server closed the connection|lost connection to|server has gone away|"
        r"connection reset|broken pipe|could not receive data|no connection to the server|"
        r"packet sequence|syscall error|terminating connection",
        ("2013", "2006", "57P01", "57P02", "57P03", "08006", "08003"),
        "the connection to {host} port {port} was lost in the middle",
        "nothing was handed over; check that the server is running, then try again",
    ),
    (
        r"no pg_hba.conf entry|server does not support ssl|\bssl error|certificate verify failed",
        (),
        "{host} port {port} refused the connection for {user}: {said}",
        "add ?sslmode=require to the address, or ask the database administrator",
    ),
    (
        r"statement timeout",
        ("57014", "1969", "3024"),
        "the query exceeded the time limit",
        wording("to allow more: ", _LONGER),
    ),
    (
        r"lock timeout",
        ("55P03", "1205"),
        "another session has locked the table",
        "try again later, or ask the database administrator",
    ),
    (
        r"permission denied for",
        ("42501", "1142", "1143", "1044"),
        "permission denied for {user}: {said}",
        "ask for the right: GRANT SELECT ON TABLE TO {user}; to write, CREATE on the schema",
    ),
    (
        r"read-only transaction",
        ("25006", "1792"),
        "sources are only read, and this would write: {said}",
        "a source's query is one SELECT",
    ),
    (
        r"deadlock detected",
        ("40P01", "1213"),
        "another session was writing to the same data (deadlock)",
        "try again; nothing was changed",
    ),
)


def explain_driver_error(error: BaseException, address: Address) -> tuple[str, Text]:
    """What an error of a driver means, and what to do about it.

    Examples
    --------
    >>> from plait.io.places.address import Address
    >>> refused = OSError("connection to server at 127.0.0.1, port 5 failed: Connection refused")
    >>> explain_driver_error(refused, Address("postgresql://ines@127.0.0.1:5/co_op"))[0]
    'no server answers at 127.0.0.1 port 5'
    """
    whole = " ".join(str(error).split()).lower()
    code = getattr(error, "sqlstate", None) or _number(error)
    text = server_message(error, address)
    known = _message_fields(address, text)
    for pattern, codes, what, remedy in _MEANINGS:
        if code in codes or re.search(pattern, whole):
            if isinstance(remedy, str):
                remedy = remedy.format(**known)
            return what.format(**known), remedy
    return text, ""


def _number(error: BaseException) -> str:
    """The number that MySQL gives an error."""
    below = getattr(error, "orig", None) or error
    number = below.args[0] if below.args else ""
    return str(number) if isinstance(number, int) else ""


def server_message(error: BaseException, address: Address) -> str:
    """What the server said, in one line, without secrets."""
    below = getattr(error, "orig", None) or error
    text = str(below)
    if len(below.args) > 1 and isinstance(below.args[1], str):
        text = below.args[1]
    match = _SAID.search(text)
    line = " ".join((match[1] if match else text).split())
    return address.with_secrets_hidden(line)[:300]


def _message_fields(address: Address, said: str) -> dict[str, object]:
    parts = address.parts()
    postgres = address.scheme == "postgresql"
    variable = "PGPASSWORD" if postgres else "MYSQL_PWD"
    file = "~/.pgpass" if postgres else "~/.my.cnf"
    return {
        "host": parts.host or "the local machine",
        "port": parts.port or (5432 if postgres else 3306),
        "user": parts.user or "the user",
        "database": parts.path or "it",
        "scheme": address.scheme,
        "said": said,
        "password": f"the password is taken from {variable}, {file}, or the system's keyring",
    }


def source_error(error: BaseException, address: Address, table: str = "") -> SourceError:
    """That a source of a database cannot be read."""
    what, remedy = explain_driver_error(error, address)
    return SourceError(what, _where(address, table), remedy or None)


def output_error(error: BaseException, address: Address, table: str) -> OutputError:
    """That a table cannot be written."""
    what, remedy = explain_driver_error(error, address)
    return OutputError(what, _where(address, table), remedy or "nothing was changed")


def no_such_table_error(name: str, names: Sequence[str], address: Address) -> PlaitError:
    """That there is no such table."""
    few = ", ".join(names[:8]) + (" …" if len(names) > 8 else "")
    return SourceError(
        f"no table {name!r}",
        address.shown,
        suggest_name(name, names) or (f"there are {few}" if names else "there is none to read"),
    )


def _where(address: Address, table: str) -> str:
    return f"{address.shown}#{table}" if table else address.shown
