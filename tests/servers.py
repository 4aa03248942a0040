"""Throwaway database servers of the tests' own: started when first wanted, on free ports.

They run in temporary folders, as a user without privileges, and stop with the tests.
"""

from __future__ import annotations

import atexit
import os
import pwd
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest

REQUIRED = os.environ.get("PLAIT_SERVERS") == "required"
NEEDS = "needs "
PASSWORD = "not-to-be-seen"
_SECONDS = 60


@dataclass(frozen=True)
class Server:
    """A server that runs: what its addresses begin with, and its process."""

    scheme: str
    port: int
    process: subprocess.Popen[bytes]
    folder: Path

    def address(self, base: str = "co_op", user: str = "keeper", password: str = PASSWORD) -> str:
        """An address of a database; the table goes behind it."""
        who = f"{user}:{password}" if password else user
        return f"{self.scheme}://{who}@127.0.0.1:{self.port}/{base}"

    def stop(self) -> None:
        """Stop it at once, as when a machine goes."""
        # The processes of PostgreSQL that serve somebody outlive a kill of the first one.
        self.process.send_signal(signal.SIGQUIT if self.scheme == "postgresql" else signal.SIGKILL)
        self.process.wait()

    def run(self, *statements: str, base: str = "co_op") -> str:
        """What statements give, through the server's own client."""
        if self.scheme == "postgresql":
            words = ["psql", "-qtAX", "-v", "ON_ERROR_STOP=1", self.address(base)]
            words += [part for one in statements for part in ("-c", one)]
            return _output(words)
        words = ["mariadb", "-N", "-u", "keeper", f"-p{PASSWORD}", "-h", "127.0.0.1"]
        words += ["--default-character-set=utf8mb4", "-P", str(self.port), base]
        return _output([*words, "-e", ";\n".join(statements)])


def _output(words: list[str]) -> str:
    ended = subprocess.run(words, capture_output=True, text=True, timeout=_SECONDS)
    assert ended.returncode == 0, ended.stderr
    return ended.stdout


def needed(what: str | None, name: str) -> str:
    """A program, or a reason to pass the test over."""
    if what is None:
        _pass_over(f"{NEEDS}{name}")
    return str(what)


def library(module: str, name: str | None = None) -> Any:
    """A module of a library that only some tests need, or a reason to pass the test over."""
    try:
        return import_module(module)
    except ImportError:
        name = name or module.partition(".")[0]
        return _pass_over(f"{NEEDS}{name} (pip install -e '.[servers]')")


def _pass_over(message: str) -> None:
    if REQUIRED:
        pytest.fail(f"{message}, and no test may be passed over here", pytrace=False)
    pytest.skip(message, allow_module_level=True)


def free_port() -> int:
    """A port of this machine that nobody listens on."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def _user(name: str) -> str | None:
    """Who runs a server: the servers refuse to be run by who may do all."""
    if os.geteuid():
        return None
    for one in (name, "nobody"):
        with suppress(KeyError):
            return pwd.getpwnam(one).pw_name
    return None


def _as(user: str | None, words: list[str]) -> list[str]:
    """The command line as that user. To change users in a forked child of a process with many
    threads is not safe: what their libraries do after a fork may crash it."""
    if user is None:
        return words
    change = needed(shutil.which("setpriv"), "setpriv")
    return [
        change,
        f"--reuid={user}",
        f"--regid={pwd.getpwnam(user).pw_gid}",
        "--clear-groups",
        *words,
    ]


def _folder(user: str | None) -> Path:
    folder = Path(tempfile.mkdtemp(prefix="plait-server-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    if user:
        shutil.chown(folder, user)
    return folder


def _started(words: list[str], user: str | None, folder: Path, port: int) -> subprocess.Popen:
    with (folder.parent / f"{folder.name}.log").open("wb") as log:
        process = subprocess.Popen(_as(user, words), stdout=log, stderr=log, cwd=folder)
    atexit.register(Path(log.name).unlink, missing_ok=True)
    atexit.register(_end, process)
    for _ in range(_SECONDS * 20):
        with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return process
        if process.poll() is not None:
            break
        time.sleep(0.05)
    raise AssertionError(Path(log.name).read_text(errors="replace")[-2000:])


def _end(process: subprocess.Popen[bytes]) -> None:
    process.kill()
    process.wait()


def _programs(name: str) -> str | None:
    """A program of the server's, where systems put it."""
    found = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"))
    return shutil.which(name) or (str(found[-1]) if found else None)


def start_postgres() -> Server:
    """A PostgreSQL server with a database ``co_op`` and its owner ``keeper``."""
    make = needed(_programs("initdb"), "PostgreSQL server")
    program = needed(_programs("postgres"), "PostgreSQL server")
    needed(shutil.which("psql"), "psql")
    user = _user("postgres")
    folder, port = _folder(user), free_port()
    (folder / "password").write_text(PASSWORD)
    words = [make, "-D", str(folder / "data"), "-U", "keeper", "--no-sync", "-E", "UTF8"]
    words += ["--locale=C.UTF-8", "--auth=scram-sha-256", f"--pwfile={folder / 'password'}"]
    subprocess.run(_as(user, words), check=True, capture_output=True, cwd=folder)
    settings = {
        "port": port,
        "listen_addresses": "127.0.0.1",
        "unix_socket_directories": "",
        "fsync": "off",
        "shared_buffers": "32MB",
    }
    given = [part for name, value in settings.items() for part in ("-c", f"{name}={value}")]
    process = _started([program, "-D", str(folder / "data"), *given], user, folder, port)
    server = Server("postgresql", port, process, folder)
    for _ in range(_SECONDS * 20):
        with suppress(AssertionError):
            server.run("SELECT 1", base="postgres")
            break
        time.sleep(0.05)
    server.run("CREATE DATABASE co_op", base="postgres")
    return server


def start_mariadb() -> Server:
    """A MariaDB server with a database ``co_op`` and a user ``keeper``."""
    make = needed(shutil.which("mariadb-install-db"), "MariaDB server")
    program = needed(shutil.which("mariadbd") or shutil.which("mysqld"), "MariaDB server")
    needed(shutil.which("mariadb"), "mariadb client")
    user = _user("mysql")
    folder, port = _folder(user), free_port()
    (folder / "first.sql").write_text(
        "CREATE DATABASE co_op CHARACTER SET utf8mb4;\n"
        f"CREATE USER keeper@'127.0.0.1' IDENTIFIED BY '{PASSWORD}';\n"
        "GRANT ALL ON *.* TO keeper@'127.0.0.1' WITH GRANT OPTION;\n"
    )
    data = ["--no-defaults", f"--datadir={folder / 'data'}"]
    words = [make, *data, "--auth-root-authentication-method=normal", "--skip-test-db"]
    subprocess.run(_as(user, words), check=True, capture_output=True, cwd=folder)
    given = [f"--port={port}", "--bind-address=127.0.0.1", f"--socket={folder / 'socket'}"]
    given += [f"--init-file={folder / 'first.sql'}", "--innodb-flush-log-at-trx-commit=0"]
    given += ["--skip-name-resolve", "--innodb-buffer-pool-size=32M", f"--tmpdir={folder}"]
    process = _started([program, *data, *given], user, folder, port)
    return Server("mysql", port, process, folder)


@cache
def postgres() -> Server:
    """The PostgreSQL server that these tests have in common."""
    return start_postgres()


@cache
def mariadb() -> Server:
    """The MariaDB server that these tests have in common."""
    return start_mariadb()
