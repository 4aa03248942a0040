"""What the tests that drive the program share."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import subprocess
import sys
import tempfile
from collections import Counter
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

import cases

assert cases  # it registers the profiles
settings.load_profile("plait")
# What the tests seal is sealed with a key of theirs, and nothing goes into the user's folder.
os.environ["XDG_DATA_HOME"] = tempfile.mkdtemp(prefix="plait-tests-")


def pytest_terminal_summary(terminalreporter):
    """Say in one line what the tests that were passed over need."""
    passed_over = terminalreporter.stats.get("skipped", [])
    reasons = Counter(str(report.longrepr[2]).removeprefix("Skipped: ") for report in passed_over)
    if reasons:
        told = "; ".join(f"{count} for: {reason}" for reason, count in reasons.most_common())
        terminalreporter.write_line(f"passed over: {told}")


@dataclass(frozen=True)
class Ended:
    """How a run of the program ended."""

    status: int
    out: str
    err: str

    @property
    def json(self) -> dict[str, Any]:
        return json.loads(self.out)

    def finding(self, code: str) -> dict[str, Any]:
        """The one finding with that code."""
        from plait.core.base.findings import CODES

        assert code in CODES and {one["code"] for one in self.json["findings"]} <= set(CODES)
        (found,) = [finding for finding in self.json["findings"] if finding["code"] == code]
        return found


@cache
def _known_options() -> frozenset[str]:
    """Every option of every command."""
    from plait.cli.main import COMMANDS, CommandLineParser, load_command

    found = set()
    for name in COMMANDS:
        parser = CommandLineParser(prog=name)
        load_command(name).add_arguments(parser)
        found |= {word for one in parser._actions for word in one.option_strings}
    return frozenset(found)


def _check_advice(said: str) -> None:
    """Whatever is advised can be written: every option named is one that there is."""
    advised = [line for line in said.splitlines() if "→" in line]
    named = {word for line in advised for word in re.findall(r"--[a-z]+(?:-[a-z]+)*", line)}
    assert named <= _known_options(), named - _known_options()


@pytest.fixture
def started(tmp_path):
    """Runs ``plait`` in the temporary folder, as a process of its own."""

    def run(*words: str | Path, feed: bytes | None = None, **env: str) -> Ended:
        ended = subprocess.run(
            [sys.executable, "-m", "plait", *map(str, words)],
            cwd=tmp_path,
            input=feed,
            capture_output=True,
            timeout=120,
            env={**os.environ, **env},
        )
        err = ended.stderr.decode()
        assert "Traceback" not in err, err
        return Ended(ended.returncode, ended.stdout.decode(), err)

    return run


@pytest.fixture
def plait(tmp_path, monkeypatch, started):
    """Runs ``plait`` in the temporary folder, within this process: to start one takes longer.

    What is fed to it, or given in the environment, has a process of its own.
    """
    from plait.cli.main import run_command_line

    monkeypatch.chdir(tmp_path)

    def run(*words: str | Path, feed: bytes | None = None, **env: str) -> Ended:
        if feed is not None or env:
            return started(*words, feed=feed, **env)
        out = io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True)
        err = io.StringIO()
        with redirect_stdout(out), redirect_stderr(err):
            try:
                status = run_command_line([str(word) for word in words])
            except SystemExit as ended:
                status = int(ended.code or 0)
        assert "Traceback" not in err.getvalue(), err.getvalue()
        _check_advice(err.getvalue())
        return Ended(status, out.buffer.getvalue().decode(), err.getvalue())

    return run


@pytest.fixture
def put(tmp_path):
    """Writes files into the temporary folder: name to text or bytes."""

    def write(**files: str | bytes) -> None:
        for name, content in files.items():
            path = tmp_path / name.replace("__", "/").replace("_csv", ".csv").replace(
                "_tsv", ".tsv"
            )
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(content if isinstance(content, bytes) else content.encode())

    return write


def flat(text: str) -> str:
    """A text without its line breaks."""
    return " ".join(text.split())


def rows_of(path: Path) -> list[dict[str, str]]:
    """A CSV file's rows, as the standard library reads them."""
    with path.open(newline="", encoding="utf-8") as file:
        return list(csv.DictReader(file))


@pytest.fixture
def postgres():
    """A PostgreSQL server with an empty database."""
    from servers import postgres as server

    found = server()
    found.run("DROP SCHEMA IF EXISTS public, sales CASCADE", "CREATE SCHEMA public")
    return found


@pytest.fixture
def mariadb():
    """A MariaDB server with an empty database."""
    from servers import mariadb as server

    found = server()
    found.run("DROP DATABASE co_op", "CREATE DATABASE co_op CHARACTER SET utf8mb4", base="mysql")
    return found


@pytest.fixture(params=["postgres", "mariadb"])
def server(request):
    """Each of both servers."""
    return request.getfixturevalue(request.param)


@pytest.fixture(scope="session")
def certificate(tmp_path_factory) -> Path:
    """A certificate and its key for this machine, in one file."""
    import datetime as dt
    import ipaddress

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
    here = [x509.DNSName("localhost"), x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]
    now = dt.datetime.now(dt.UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now - dt.timedelta(days=1))
        .not_valid_after(now + dt.timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName(here), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    form = serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    path = tmp_path_factory.mktemp("certificate") / "own.pem"
    path.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, *form)
        + made.public_bytes(serialization.Encoding.PEM)
    )
    return path


@pytest.fixture(scope="module")
def chromium():
    """A real browser without a window; one that stays open takes time from the other tests."""
    from browser import chromium as browser

    with browser() as started:
        yield started


@pytest.fixture
def opened(chromium):
    """Opens a page of ours in it; whatever goes wrong in the page fails the test."""
    from browser import opening

    with opening(chromium) as do:
        yield do
