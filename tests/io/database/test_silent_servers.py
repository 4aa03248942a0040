"""Servers that accept and are silent, or drip: every wait ends in time, and by an interrupt."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import struct
import subprocess
import sys
import threading
import time

import pytest

from servers import PASSWORD

pytestmark = pytest.mark.slow

GREETING = (
    b"\x0a5.5.5-10.11.6-MariaDB\x00\x01\x00\x00\x00abcdefgh\x00\xfe\xf7\x21\x02\x00\xff\x81\x15"
    + b"\x00" * 10
    + b"abcdefghijkl\x00mysql_native_password\x00"
)


def _postgres(client: socket.socket) -> None:
    """Let somebody in, and say nothing from then on."""
    while True:
        (size,) = struct.unpack("!i", _exactly(client, 4))
        (code,) = struct.unpack("!i", _exactly(client, size - 4)[:4])
        if code not in (80877103, 80877104):  # asks for encryption
            break
        client.sendall(b"N")
    client.sendall(b"R" + struct.pack("!ii", 8, 0) + b"Z" + struct.pack("!i", 5) + b"I")


def _mysql(client: socket.socket) -> None:
    client.sendall(struct.pack("<I", len(GREETING))[:3] + b"\x00" + GREETING)


def _mysql_long(client: socket.socket) -> None:
    """Greet, and begin an answer of a mebibyte."""
    _mysql(client)
    (size,) = struct.unpack("<I", _exactly(client, 3) + b"\x00")
    _exactly(client, size + 1)
    client.sendall(b"\x00\x00\x10\x02")


def _exactly(client: socket.socket, size: int) -> bytes:
    data = b""
    while len(data) < size:
        more = client.recv(size - len(data))
        if not more:
            raise OSError
        data += more
    return data


def _nothing(client: socket.socket) -> None:
    """Say nothing at all."""


class _Server:
    """A server that begins as it should, and then is silent or drips."""

    def __init__(self, begin, drip: bytes) -> None:
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.port, self.begin, self.drip = self.socket.getsockname()[1], begin, drip
        self.begun = threading.Event()
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, _ = self.socket.accept()
                threading.Thread(target=self._answer, args=(client,), daemon=True).start()

    def _answer(self, client: socket.socket) -> None:
        with contextlib.suppress(OSError, struct.error):
            self.begin(client)
            self.begun.set()
            while True:
                time.sleep(0.2)
                client.sendall(self.drip)

    def close(self) -> None:
        self.socket.close()


CLUSTERS = {
    "silent": (_nothing, b"", "tcp"),
    "garbage": (lambda client: client.sendall(b"\xff" * 64), b"\x00", "tcp"),
    "http": (lambda client: client.sendall(b"HTTP/1.1 400 Bad Request\r\n\r\n"), b"", "tcp"),
    "tls": (_nothing, b"", "tls"),
    "ucx": (_nothing, b"", "ucx"),
}
KINDS = {
    "postgresql silent": (_nothing, b"", "postgresql://keeper@127.0.0.1:{port}/co_op#hives"),
    "postgresql after login": (_postgres, b"", "postgresql://keeper@127.0.0.1:{port}/co_op#hives"),
    "mysql silent": (_nothing, b"", "mysql://keeper:x@127.0.0.1:{port}/co_op#hives"),
    "mysql after greeting": (_mysql, b"", "mysql://keeper:x@127.0.0.1:{port}/co_op#hives"),
    "mysql drips": (_mysql_long, b"x", "mysql://keeper:x@127.0.0.1:{port}/co_op#hives"),
    "http silent": (_nothing, b"", "http://127.0.0.1:{port}/hives.csv"),
    "http drips a head": (
        lambda client: client.sendall(b"HTTP/1.1 200 OK\r\nX: "),
        b"x",
        "http://127.0.0.1:{port}/hives.csv",
    ),
    "s3 silent": (_nothing, b"", "s3://co-op/hives.csv"),
    "s3 drips a head": (
        lambda client: client.sendall(b"HTTP/1.1 200 OK\r\nX: "),
        b"x",
        "s3://co-op/hives.csv",
    ),
}


@pytest.fixture(params=list(KINDS))
def silent(request, monkeypatch):
    begin, drip, address = KINDS[request.param]
    server = _Server(begin, drip)
    monkeypatch.setenv("AWS_ENDPOINT_URL", f"http://127.0.0.1:{server.port}")
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "keeper")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "x")
    yield address.format(port=server.port), server
    server.close()


def test_a_wait_ends_when_its_time_is_over(silent, started):
    began = time.monotonic()
    ended = started("survey", silent[0], "--timeout", "1")
    assert ended.status == 3 and time.monotonic() - began < 15, ended.err
    assert "--timeout" in ended.err and "0x" not in ended.err


@pytest.mark.parametrize("sign", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupt_ends_a_wait(silent, tmp_path, sign):
    address, server = silent
    process = subprocess.Popen(
        [sys.executable, "-m", "plait", "survey", address],
        cwd=tmp_path, env=os.environ, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    assert server.begun.wait(30)
    assert process.poll() is None, process.communicate()[1]
    began = time.monotonic()
    process.send_signal(sign)
    _, err = process.communicate(timeout=20)
    assert time.monotonic() - began < 4, err
    assert b"Traceback" not in err and process.returncode not in (0, 70)


class _Halting:
    """What stands between a client and a server, and lets so many bytes of the answer through."""

    def __init__(self, port: int, most: int) -> None:
        self.socket, self.to, self.most = socket.create_server(("127.0.0.1", 0)), port, most
        self.port, self.both = self.socket.getsockname()[1], []
        self.halted = threading.Event()
        threading.Thread(target=self._serve, daemon=True).start()

    def end(self) -> None:
        for one in (self.socket, *self.both):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            one.close()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, _ = self.socket.accept()
                server = socket.create_connection(("127.0.0.1", self.to))
                self.both += [client, server]
                ways = (client, server, 1 << 62), (server, client, self.most)
                for source, target, most in ways:
                    threading.Thread(
                        target=self._pass, args=(source, target, most), daemon=True
                    ).start()

    def _pass(self, source: socket.socket, target: socket.socket, most: int) -> None:
        with contextlib.suppress(OSError):
            while data := source.recv(min(most, 4096)):
                target.sendall(data)
                most -= len(data)
                if not most:
                    self.halted.set()
                    return  # and what comes is read no more


@pytest.mark.parametrize("server", ["postgres", "mariadb"], indirect=True)
@pytest.mark.parametrize("sign", [None, signal.SIGINT])
def test_a_server_that_is_silent_between_rows_is_waited_for_as_long_as_is_allowed(
    server, tmp_path, monkeypatch, sign
):
    server.run("CREATE TABLE notes (id varchar(9) PRIMARY KEY, note varchar(200))")
    for begin in range(0, 4000, 400):
        rows = ", ".join(f"('{number}', '{number:0>150}')" for number in range(begin, begin + 400))
        server.run(f"INSERT INTO notes VALUES {rows}")
    between = _Halting(server.port, 200_000)
    address = server.address(password="${KEEPER}").replace(str(server.port), str(between.port))
    monkeypatch.setenv("KEEPER", PASSWORD)
    words = ["stack", f"{address}#notes", "--out", "o.csv", *(() if sign else ("--timeout", "1"))]
    began = time.monotonic()
    process = subprocess.Popen(
        [sys.executable, "-m", "plait", *words],
        cwd=tmp_path, env=os.environ, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    if sign:
        assert between.halted.wait(30)
        assert process.poll() is None, process.communicate()[1]
        process.send_signal(sign)
        began = time.monotonic()
    _, err = process.communicate(timeout=60)
    between.end()
    server.run("DROP TABLE notes")
    assert time.monotonic() - began < (4 if sign else 15), err
    assert process.returncode == (130 if sign else 3) and b"Traceback" not in err
    assert sign or b"--timeout" in err
    assert not (tmp_path / "o.csv").exists()


@pytest.mark.parametrize("kind", CLUSTERS)
def test_what_is_no_cluster_is_told_in_time(kind, started, put):
    put(a_csv="k,v\n1,2\n")
    begin, drip, scheme = CLUSTERS[kind]
    server = _Server(begin, drip)
    began = time.monotonic()
    ended = started("mend", "a.csv", "--cluster", f"{scheme}://127.0.0.1:{server.port}")
    server.close()
    assert ended.status in (2, 3, 4) and "cluster does not answer" in ended.err, ended.err
    assert time.monotonic() - began < 40
    assert "Traceback" not in ended.err and "not enough memory" not in ended.err
