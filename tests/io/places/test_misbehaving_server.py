"""A server that misbehaves at random: what is read is one version of the file, or nothing is."""

from __future__ import annotations

import gzip
import random
import socketserver
import threading
import time
import zlib

import pytest

import plait
from cases import cases
from plait.core.base.errors import PlaitError
from plait.io.places import download, fetch

VERSIONS = [
    b"hive,kg\n" + b"".join(b"%d,%d\n" % (n, n * word) for n in range(400)) for word in (7, 8)
]
PAGE = b"<!DOCTYPE html>\n<html><title>Sign in</title></html>"


class _Server:
    """Gives a file, or what its random source makes of it; which version it has may change."""

    def __init__(self) -> None:
        self.rng, self.now, self.path = random.Random(0), 0, "/v.csv"
        self.named: set[str] = set()  # versions by which the rest of a file was asked for
        outer = self

        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                lines = []
                while (line := self.rfile.readline()).strip():
                    lines.append(line.decode("latin-1").strip())
                if lines:
                    asked = dict(line.split(": ", 1) for line in lines[1:] if ": " in line)
                    outer.answer(self.wfile, lines[0], {k.lower(): v for k, v in asked.items()})

        self.server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, args=(0.01,), daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server.server_address[1]}{self.path}"

    def answer(self, out, first: str, asked: dict[str, str]) -> None:
        rng = self.rng
        if rng.random() < 0.1:
            self.now = 1 - self.now
        body = VERSIONS[self.now]
        if self.path.endswith(".gz"):
            body = gzip.compress(body, mtime=0)
        status, head = 200, {}
        strong = f'"v{self.now}"'
        tag = rng.choice([strong, strong, strong, f"W/{strong}", '"same"', ""])
        if tag:
            head["ETag"] = tag
        if rng.random() < 0.3:
            head["Last-Modified"] = f"Mon, 0{self.now + 1} Nov 2032 00:00:00 GMT"
        self.named.add(asked.get("if-range", ""))
        begin = int(asked.get("range", "bytes=0-")[6:].partition("-")[0])
        # One that claims the same version for another file cannot be found out; none does here.
        same = tag == '"same"'
        if same:
            head["ETag"] = f'"same{self.now}"'
        obeys = asked.get("if-range") in (head.get("ETag"), head.get("Last-Modified"))
        if begin and (obeys or rng.random() < 0.3):
            status = 206
            end, total = len(body) - 1, len(body)
            head["Content-Range"] = f"bytes {begin}-{end}/{total}"
            if rng.random() < 0.2:
                head["Content-Range"] = rng.choice(
                    [f"bytes {begin + 1}-{end}/{total}", f"bytes {begin}-{end}/{total + 9}",
                     f"bytes 0-{end}/{total}", "nonsense", ""])  # fmt: skip
            whole = body[begin:]
        else:
            whole = body
            if rng.random() < 0.05:
                status, head["Content-Range"] = 206, f"bytes 0-{len(body) - 1}/{len(body)}"
        if rng.random() < 0.06:
            status = rng.choice([204, 203, 301, 403, 404, 416, 429, 500, 503])
        odd = rng.random()
        if odd < 0.06:
            whole, head["Content-Encoding"] = gzip.compress(whole), "gzip"
        elif odd < 0.1:
            whole, head["Content-Encoding"] = gzip.compress(whole)[: rng.randrange(60)], "gzip"
        elif odd < 0.12:
            whole, head["Content-Encoding"] = zlib.compress(whole), rng.choice(["deflate", "br"])
        elif odd < 0.17:
            whole = PAGE
        length = rng.random()
        if length < 0.8:
            head["Content-Length"] = str(len(whole))
        elif length < 0.85:
            head["Content-Length"] = str(len(whole) + rng.randrange(1, 50))
        elif length < 0.95:
            head["Transfer-Encoding"] = "chunked"
        said = "".join(f"{name}: {value}\r\n" for name, value in head.items())
        out.write(f"HTTP/1.1 {status} x\r\n{said}Connection: close\r\n\r\n".encode("latin-1"))
        if first.startswith("HEAD") or status in (204, 304):
            return
        cut = rng.random() < 0.35 and ("Content-Length" in head or "Transfer-Encoding" in head)
        sent = whole[: rng.randrange(len(whole) + 1)] if cut else whole
        try:
            if "Transfer-Encoding" in head:
                for at in range(0, len(sent), 700):
                    piece = sent[at : at + 700]
                    out.write(b"%x\r\n%s\r\n" % (len(piece), piece))
                out.write(b"" if cut else b"0\r\n\r\n")
            else:
                out.write(sent)
        except OSError:
            pass


@pytest.fixture
def server(monkeypatch):
    monkeypatch.setattr(fetch, "_WAIT_SECONDS", 0.001)
    made = _Server()
    yield made
    made.server.shutdown()
    made.server.server_close()


@pytest.mark.parametrize("path", ["/v.csv", "/v.csv.gz"])
def test_what_is_read_is_one_version_or_nothing_is(server, path):
    wanted = [_table(version) for version in VERSIONS]
    read = refused = 0
    server.path = path
    for seed in range(cases(400)):
        server.rng = random.Random(f"{path} {seed}")
        try:
            got = plait.read(server.url, timeout=20).to_dict()
        except PlaitError as error:
            refused += 1
            assert "0x" not in str(error) and "Traceback" not in str(error), error
            continue
        read += 1
        assert got in wanted, seed
    assert min(read, refused) * 10 > read + refused
    assert len(server.named) > 1 and not [name for name in server.named if name.startswith("W/")]


def _table(content: bytes) -> dict[str, list[str]]:
    rows = [line.split(",") for line in content.decode().splitlines()]
    return {name: [row[at] for row in rows[1:]] for at, name in enumerate(rows[0])}


class _Given:
    """A server that gives one answer, byte for byte."""

    def __init__(self, *pieces: bytes, pause: float = 0.0) -> None:
        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                while self.rfile.readline().strip():
                    pass
                try:
                    for piece in pieces:
                        self.wfile.write(piece)
                        time.sleep(pause)
                except OSError:
                    pass

        self.server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, args=(0.01,), daemon=True).start()
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}/v.csv"

    def __enter__(self) -> _Given:
        return self

    def __exit__(self, *_: object) -> None:
        self.server.shutdown()
        self.server.server_close()


HEAD = b"HTTP/1.1 200 OK\r\nConnection: close\r\n"


def test_a_page_to_log_in_is_said_to_be_one():
    answer = HEAD + b"Content-Length: %d\r\n\r\n" % len(PAGE) + PAGE
    with _Given(answer) as given, pytest.raises(PlaitError, match="an HTML page"):
        plait.read(given.url)


@pytest.mark.parametrize(
    "answer", [b"220 mail.example ESMTP\r\n", b"\x16\x03\x01", b"HTTP/9 x\r\n\r\n"]
)
def test_what_is_no_http_is_said_to_be_none(answer, monkeypatch):
    monkeypatch.setattr(fetch, "_WAIT_SECONDS", 0.001)
    with (
        _Given(answer) as given,
        pytest.raises(PlaitError, match=r"does not answer with HTTP|connection to"),
    ):
        plait.read(given.url)


def test_what_unpacks_on_the_way_past_the_limit_is_refused():
    packed = gzip.compress(b"a,b\n" + b"1,2\n" * 30_000_000, 9)
    head = HEAD + b"Content-Encoding: gzip\r\nContent-Length: %d\r\n\r\n" % len(packed)
    with _Given(head + packed) as given:
        for limit in ("unpacked=1M", ["unpacked=1M"], {"unpacked": "1M"}):
            with pytest.raises(PlaitError, match="limit: unpacked"):
                plait.read(given.url, limit=limit)


def test_the_wait_is_the_whole_wait_where_bytes_drip(monkeypatch):
    drip = [HEAD + b"Content-Length: 100000\r\n\r\na,b\n", *[b"1" for _ in range(300)]]
    with _Given(*drip, pause=0.1) as given:
        began = time.monotonic()
        with pytest.raises(PlaitError, match="in time"):
            plait.read(given.url, timeout=2)
        assert time.monotonic() - began < 6
        monkeypatch.setattr(download, "LOOK_SECONDS", 1)
        monkeypatch.setattr(fetch, "_TRIES", 1)
        with pytest.raises(PlaitError, match="in time"):
            plait.read(given.url)


def test_a_body_without_a_length_does_not_fill_the_disk(monkeypatch):
    monkeypatch.setattr(download, "_LEAST_FREE", 1 << 60)
    body = [b"1,2\n" * 1000 for _ in range(50)]
    with _Given(HEAD + b"\r\n", *body) as given:  # noqa: SIM117
        with pytest.raises(PlaitError, match="gave no length"):
            plait.read(given.url)
    with _Given(HEAD + b"Content-Length: %d\r\n\r\n" % (1 << 60)) as given:  # noqa: SIM117
        with pytest.raises(PlaitError, match="has room for"):
            plait.read(given.url)
