"""Files at https and S3 addresses, from servers of the tests' own on this machine."""

from __future__ import annotations

import hashlib
import http.server
import io
import json
import ssl
import threading
import time
from types import SimpleNamespace
from typing import ClassVar

import pytest

import plait
from makers import every_format
from plait.core.base.errors import SourceError, UsageError
from plait.io.places import fetch
from plait.io.places.download import Download
from plait.io.places.fetch import keep_fetched_files
from plait.io.read import prefetch_sources, read_source
from plait.io.sources import find_sources
from servers import library

TOKEN = "t0k3n-not-to-be-seen"
BODY = b"hive,kg\n" + b"007,12.50\n08,3\n" * 40_000


class _Files(http.server.BaseHTTPRequestHandler):
    """Gives files, whole or in ranges, with what goes wrong on the way."""

    files: ClassVar[dict[str, bytes]] = {}
    breaks: ClassVar[dict[str, int]] = {}
    asked: ClassVar[list[str]] = []

    def do_HEAD(self) -> None:
        self._answer(False)

    def do_GET(self) -> None:
        self._answer(True)

    def _answer(self, whole: bool) -> None:
        path, _, asked = self.path.partition("?")
        type(self).asked.append(f"{self.command} {path}")
        if path == "/secret.csv" and asked != f"token={TOKEN}":
            return self.send_error(403)
        if path == "/busy.csv":
            return self.send_error(503)
        body = self.files.get(path)
        if body is None:
            return self.send_error(404)
        begin, end = 0, len(body)
        span = self.headers.get("Range")
        if span:
            first, _, last = span.removeprefix("bytes=").partition("-")
            begin, end = int(first), min(int(last or len(body)) + 1, len(body))
            self.send_response(206)
            self.send_header("Content-Range", f"bytes {begin}-{end - 1}/{len(body)}")
        else:
            self.send_response(200)
        self.send_header("Accept-Ranges", "bytes")
        self.send_header("Content-Length", str(end - begin))
        self.end_headers()
        if not whole:
            return None
        if self.breaks.get(path, 0):
            self.breaks[path] -= 1
            self.wfile.write(body[begin : begin + (end - begin) // 2])
            self.connection.close()
            return None
        self.wfile.write(body[begin:end])
        return None

    def log_message(self, *_: object) -> None:
        """Say nothing."""


@pytest.fixture
def https(certificate, monkeypatch):
    """The address of a server of files; what it has, and what goes wrong, is set by the test."""
    _Files.files, _Files.breaks, _Files.asked = {"/a/visits.csv": BODY}, {}, []
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Files)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate)
    server.socket = context.wrap_socket(server.socket, server_side=True)
    server.handle_error = lambda *_: None
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    monkeypatch.setenv("SSL_CERT_FILE", str(certificate))
    monkeypatch.setattr(fetch, "_WAIT_SECONDS", 0.01)
    yield f"https://localhost:{server.server_port}"
    server.shutdown()
    server.server_close()


@pytest.fixture(scope="module")
def _s3():
    server = library("moto.server").ThreadedMotoServer(port=0)
    server.start()
    yield server._server.server_port
    server.stop()


@pytest.fixture
def bucket(_s3, monkeypatch):
    """A function that puts files into a bucket of an object store."""
    import botocore.session

    for name, value in {
        "AWS_ACCESS_KEY_ID": "keeper",
        "AWS_SECRET_ACCESS_KEY": TOKEN,
        "AWS_DEFAULT_REGION": "eu-central-1",
        "AWS_ENDPOINT_URL": f"http://127.0.0.1:{_s3}",
    }.items():
        monkeypatch.setenv(name, value)
    client = botocore.session.Session().create_client("s3")
    client.create_bucket(
        Bucket="co-op", CreateBucketConfiguration={"LocationConstraint": "eu-central-1"}
    )
    yield lambda name, body: client.put_object(Bucket="co-op", Key=name, Body=body)
    for one in client.list_objects_v2(Bucket="co-op").get("Contents", ()):
        client.delete_object(Bucket="co-op", Key=one["Key"])
    client.delete_bucket(Bucket="co-op")


def test_a_file_is_read_from_its_address_as_from_a_folder(https, tmp_path):
    (tmp_path / "visits.csv").write_bytes(BODY)
    table = plait.read(f"{https}/a/visits.csv?year=2031")
    assert table.to_dict() == plait.read(tmp_path / "visits.csv").to_dict()
    assert table.name == "visits" and table.path == f"{https}/a/visits.csv?year=2031"


def test_every_byte_that_comes_is_told_of_once(https):
    told: list[int] = []
    _Files.breaks["/a/visits.csv"] = 1
    with keep_fetched_files():
        prefetch_sources(find_sources([f"{https}/a/visits.csv"]), told.append)
        assert sum(told) == len(BODY)


def test_files_of_one_name_in_several_folders_are_several(https):
    for year in (2031, 2032):
        _Files.files[f"/{year}/hives.csv"] = f"year\n{year}\n".encode()
    tables = [plait.read(f"{https}/{year}/hives.csv") for year in (2031, 2032)]
    assert [table.to_dict() for table in tables] == [{"year": ["2031"]}, {"year": ["2032"]}]
    stacked = plait.stack([f"{https}/{year}/hives.csv" for year in (2031, 2032)]).table
    assert stacked.to_dict() == {"year": ["2031", "2032"]}


def test_every_format_can_be_read_there(https, tmp_path):
    every_format(tmp_path)
    for path in tmp_path.iterdir():
        _Files.files[f"/{path.name}"] = path.read_bytes()
    for path in sorted(tmp_path.iterdir()):
        for here in find_sources([str(path)]):
            part = f"#{here.part or here.member}" if here.part or here.member else ""
            there = plait.read(f"{https}/{path.name}{part}")
            assert there.to_dict() == read_source(here).to_dict(), path.name


def test_a_connection_that_breaks_is_taken_up_again(https):
    _Files.breaks["/a/visits.csv"] = 2
    assert plait.read(f"{https}/a/visits.csv").rows == 80_000


def test_nothing_is_fetched_twice_in_a_job(https, plait_in):
    assert plait_in("stack", f"{https}/a/visits.csv", f"b={https}/a/visits.csv").status == 0
    assert _Files.asked.count("GET /a/visits.csv") == 1


@pytest.fixture
def plait_in(plait):
    """The program, in the temporary folder."""
    return plait


@pytest.mark.parametrize(
    ("path", "said"),
    [
        ("/a/visit.csv", "file not found"),
        ("/secret.csv?token=wrong", "access denied"),
        ("/busy.csv", "answers with 503"),
    ],
)
def test_what_does_not_come_is_told(https, path, said):
    with pytest.raises(SourceError, match=said) as raised:
        plait.read(https + path)
    assert "wrong" not in str(raised.value)


def test_a_certificate_that_is_not_trusted_is_told(https, monkeypatch, started):
    monkeypatch.delenv("SSL_CERT_FILE")
    ended = started("mend", f"{https}/a/visits.csv")
    assert ended.status == 3 and "the certificate of localhost" in ended.err
    assert "SSL_CERT_FILE" in ended.err


def test_a_machine_that_is_not_there_is_told():
    with pytest.raises(SourceError, match=r"connection to nowhere\.invalid failed"):
        plait.read("https://nowhere.invalid/a.csv")


def test_a_handover_has_checksum_and_size_and_no_token(https, tmp_path, plait_in):
    _Files.files["/secret.csv"] = BODY
    (tmp_path / "plan.toml").write_text(
        f'[source.visits]\npath = "{https}/secret.csv?token={TOKEN}"\n'
        '[[step]]\nmend = "visits"\n[handover]\nresult = "visits"\n'
    )
    assert plait_in("run", "plan.toml").status == 0
    (source,) = json.loads((tmp_path / "handover/ledger.json").read_text())["sources"]
    assert source["bytes"] == len(BODY)
    assert source["sha256"] == hashlib.sha256(BODY).hexdigest()
    for path in (tmp_path / "handover").rglob("*"):
        assert path.is_dir() or TOKEN.encode() not in path.read_bytes(), path


def test_traces_lead_to_addresses_and_tell_of_changes(https, tmp_path, plait_in):
    (tmp_path / "plan.toml").write_text(
        f'[source.visits]\npath = "{https}/a/visits.csv"\n'
        '[[step]]\nmend = "visits"\n[handover]\nresult = "visits"\n'
    )
    assert plait_in("run", "plan.toml").status == 0
    traced = plait_in("trace", "handover", "--row", "2", "--json").json
    assert traced["changed"] == []
    assert traced["rows"][0]["cells"][0]["origins"][0]["line"] == 3
    _Files.files["/a/visits.csv"] = BODY.replace(b"08", b"09")
    traced = plait_in("trace", "handover", "--row", "2", "--json").json
    assert "has changed since the run" in traced["changed"][0]
    assert traced["rows"][0]["cells"][0]["origins"][0]["text"] == "09"


@pytest.mark.slow
def test_files_of_an_object_store_are_read_alone_or_by_a_pattern(bucket):
    for month in (2, 10, 1):
        bucket(f"in/m{month}.csv", f"hive,kg\n{month},1\n".encode())
    bucket("in/other.txt.bak", b"x")
    assert plait.read("s3://co-op/in/m10.csv").to_dict() == {"hive": ["10"], "kg": ["1"]}
    for pattern in ("s3://co-op/in/m*.csv", "s3://co-op/in/"):
        stacked = plait.stack([pattern])
        assert stacked.table.to_dict()["hive"] == ["1", "2", "10"]
    with pytest.raises(SourceError, match="no file matches"):
        plait.read("s3://co-op/in/x*.csv")
    with pytest.raises(SourceError, match="file not found"):
        plait.read("s3://co-op/in/m3.csv")


def test_a_library_that_is_not_installed_is_named(monkeypatch):
    import sys

    monkeypatch.setitem(sys.modules, "fsspec", None)
    with pytest.raises(UsageError) as raised:
        plait.read("https://localhost/a.csv")
    assert "plait[remote]" in raised.value.remedy


def test_each_wait_before_another_try_is_twice_the_one_before(https, monkeypatch):
    waits = []
    own = SimpleNamespace(monotonic=time.monotonic, sleep=waits.append)
    monkeypatch.setattr(fetch, "time", own)
    with pytest.raises(SourceError):
        plait.read(f"{https}/busy.csv")
    shortest = fetch._WAIT_SECONDS
    assert waits == [shortest, 2 * shortest, 4 * shortest]


@pytest.mark.parametrize(
    ("written", "ranges", "expected"),
    [
        (b"", {"If-Range": "v1"}, None),
        (b"abc", {}, None),
        (b"abc", {"If-Range": "v1"}, {"Range": "bytes=3-", "If-Range": "v1"}),
    ],
)
def test_the_rest_of_the_same_version_is_asked_for(written, ranges, expected):
    out = io.BytesIO()
    out.write(written)
    coming = Download("https://x.example/a.csv", "x", out, lambda _: None, _ranges=ranges)
    asked = coming.headers()
    assert {name: asked.get(name) for name in ("Range", "If-Range")} == (
        expected or {"Range": None, "If-Range": None}
    )
    assert out.tell() == (3 if expected else 0)


def test_a_scratch_folder_that_is_refused_is_not_that_of_the_next_command(plait_in, put):
    put(a_csv="k\n1\n")
    assert plait_in("stack", "a.csv", "--scratch", "no-folder").status == 2
    assert fetch._STORE.within == 0 and fetch._STORE.root is None
