"""Who is told how a run ended: by a mail server and a web server of the tests' own."""

from __future__ import annotations

import contextlib
import email
import email.policy
import http.server
import json
import smtplib
import socket
import socketserver
import ssl
import threading
import time
from types import SimpleNamespace

import pytest

from conftest import flat
from plait.plan.notices import send
from plait.plan.notices import send as hooks
from plait.plan.notices.send import is_this_machine, webhook_host
from servers import free_port, library

SECRET = "not-to-be-seen"
PLAN = """\
title = "Season"
[source.visits]
path = "visits.csv"
[expect]
rows = "visits >= 2"
values = {{ visits = {{ yard = ["A", "B"] }} }}
[handover]
result = "visits"
key = ["yard"]
[notice]
{notice}
"""


class Letters:
    """What a mail server got; ``turned_away`` says how often it is not ready first."""

    def __init__(self) -> None:
        self.got: list[email.message.EmailMessage] = []
        self.turned_away = 0
        self.who: list[tuple[str, list[str]]] = []
        self.signed_in: list[bytes] = []

    async def handle_DATA(self, server, session, envelope):  # noqa: N802
        if self.turned_away:
            self.turned_away -= 1
            return "451 later"
        self.who.append((envelope.mail_from, envelope.rcpt_tos))
        self.got.append(email.message_from_bytes(envelope.content, policy=email.policy.default))
        return "250 taken"

    def authenticate(self, server, session, envelope, mechanism, auth_data):
        self.signed_in.append(auth_data.password)
        is_right = auth_data.password == SECRET.encode()
        return library("aiosmtpd.smtp").AuthResult(success=is_right, handled=False)


@pytest.fixture
def letters(certificate, monkeypatch):
    """A mail server that offers STARTTLS, and takes a user only behind it."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate)
    kept = Letters()
    server = library("aiosmtpd.controller").Controller(
        kept,
        hostname="127.0.0.1",
        port=free_port(),
        tls_context=context,
        authenticator=kept.authenticate,
        auth_require_tls=True,
    )
    server.start()
    monkeypatch.setenv("SSL_CERT_FILE", str(certificate))
    monkeypatch.setattr(send.EmailSender.send, "__defaults__", ((0.01, 0.01),))
    port = server.server.sockets[0].getsockname()[1]
    yield SimpleNamespace(kept=kept, server=f"smtp://localhost:{port}", port=port)
    server.stop()


class _Hook(http.server.BaseHTTPRequestHandler):
    got: list[dict] = []  # noqa: RUF012
    answers: list[int] = []  # noqa: RUF012

    def do_POST(self) -> None:
        body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        answer = self.answers.pop(0) if self.answers else 200
        if answer < 300:
            self.got.append(body)
        self.send_response(answer)
        if answer in (301, 302, 307):
            self.send_header("Location", f"http://127.0.0.1:{self.server.server_port}/elsewhere")
        self.end_headers()

    def log_message(self, *_: object) -> None:
        """Say nothing."""


@pytest.fixture
def hook(monkeypatch):
    _Hook.got, _Hook.answers = [], []
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Hook)
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    monkeypatch.setattr(hooks.post, "__defaults__", ((0.01, 0.01),))
    address = f"http://127.0.0.1:{server.server_port}/T0/{SECRET}"
    yield SimpleNamespace(address=address, got=_Hook.got, answers=_Hook.answers)
    server.shutdown()
    server.server_close()


@pytest.fixture
def planned(put, tmp_path):
    def write(notice: str) -> None:
        put(visits_csv="yard,kg\nA,1\nB,2\n")
        (tmp_path / "p.toml").write_text(PLAN.format(notice=notice))

    return write


def emailed(letters, **more) -> str:
    lines = {"email": ["ines@co-op.example"], "server": letters.server, **more}
    return "\n".join(f"{name} = {json.dumps(value)}" for name, value in lines.items())


def test_a_failed_run_is_told_by_email(plait, planned, put, letters):
    planned(emailed(letters))
    assert plait("run", "p.toml").status == 0
    assert not letters.kept.got, "a success is not asked for"
    put(visits_csv="yard,kg\nQ-of-the-data,1\n")
    ended = plait("run", "p.toml", "--replace")
    assert ended.status == 1
    (letter,) = letters.kept.got
    assert letter["Subject"] == "Season: refused"
    assert letter["To"] == letter["From"] == "ines@co-op.example"
    plain, page = letter.iter_parts()
    assert plain.get_content_type() == "text/plain" and page.get_content_type() == "text/html"
    for text in (plain.get_content(), page.get_content()):
        assert "nothing was handed over" in text and "visits has 1 row" in text
        assert "plait history" in text
        assert "Q-of-the-data" not in text, "no cell of the data is shown unasked"


def test_examples_are_shown_where_the_plan_says_so(plait, planned, put, letters):
    planned(emailed(letters, examples=True))
    put(visits_csv="yard,kg\nA,1\nQ-of-the-data,2\n")
    assert plait("run", "p.toml").status == 1
    assert "Q-of-the-data" in letters.kept.got[0].get_body(("plain",)).get_content()


@pytest.mark.parametrize(
    ("on", "told"),
    [
        (["failure"], [False, False, False, True]),
        (["change"], [True, False, True, False]),
        (["success"], [True, True, True, False]),
        (["failure", "success"], [True, True, True, True]),
    ],
)
def test_who_wants_to_know_of_what(plait, planned, put, hook, on, told):
    """A first run, one with nothing new, one with a row more, and one that cannot read."""
    planned(f'webhook = "{hook.address}"\non = {json.dumps(on)}')
    found = []
    for visits in ("A,1\nB,2\n", "A,1\nB,2\n", "A,1\nB,2\nB,3\n", None):
        put(visits_csv=f"yard,kg\n{visits}" if visits else b"yard,kg\n\xff\xfe\x00broken")
        before = len(hook.got)
        plait("run", "p.toml", "--replace")
        found.append(len(hook.got) > before)
    assert found == told


def test_a_webhook_gets_one_json_object(plait, planned, put, hook, tmp_path):
    planned(f'webhook = "{hook.address}"\non = ["success"]')
    plait("run", "p.toml")
    put(visits_csv="yard,kg\nA,1\nB,2\nA,9\n")
    plait("run", "p.toml", "--replace")
    first, second = hook.got
    assert (first["status"], first["figures"]["rows"], first["run"]) == ("done", 2, 1)
    assert second["changes"] == {"rows_new": 1, "rows_gone": 0, "rows_changed": 0}
    assert second["report"] == str(tmp_path / "handover" / "report.html")
    assert second["plan"] == str(tmp_path / "p.toml") and second["exit_status"] == 0


def test_a_webhook_is_tried_again(plait, planned, hook):
    planned(f'webhook = "{hook.address}"\non = ["success"]')
    hook.answers += [503, 429]
    assert "no notice" not in plait("run", "p.toml").err
    assert len(hook.got) == 1


@pytest.mark.parametrize("answer", [404, 302, 307])
def test_a_notice_that_is_not_taken_never_changes_the_result(
    plait, planned, hook, answer, tmp_path
):
    planned(f'webhook = "{hook.address}"\non = ["success"]')
    hook.answers += [answer] * 5
    ended = plait("run", "p.toml")
    assert ended.status == 0 and (tmp_path / "handover" / "visits.csv").exists()
    assert "1 notice not sent to http://127.0.0.1" in flat(ended.err) and str(answer) in ended.err
    assert not hook.got, "and it goes nowhere else"
    (run,) = plait("history", "p.toml", "--json").json["runs"]
    assert run["status"] == "done" and str(answer) in run["notices"][0]["failed"]
    hook.answers.clear()
    assert plait("notify", "p.toml", "--test").status == 0


def test_a_mail_server_that_is_not_there_never_changes_the_result(plait, planned, letters):
    planned(emailed(letters, on=["success"], server="smtp://127.0.0.1:1"))
    ended = plait("run", "p.toml")
    assert ended.status == 0 and "1 notice not sent to ines@co-op.example" in flat(ended.err)


def test_a_mail_server_that_is_not_ready_is_asked_again(plait, planned, letters):
    planned(emailed(letters, on=["success"]))
    letters.kept.turned_away = 2
    assert "no notice" not in plait("run", "p.toml").err
    assert len(letters.kept.got) == 1


@pytest.mark.parametrize("kind", ["mail", "webhook"])
def test_an_answer_without_an_end_keeps_no_run(plait, planned, monkeypatch, kind):
    """A mail server that goes on with its greeting, a webhook whose head drips."""
    piece = b"220-more\r\n" if kind == "mail" else b"HTTP/1.1 200 OK\r\nX: y\r\n"

    class Drips(socketserver.BaseRequestHandler):
        def handle(self):
            with contextlib.suppress(OSError):
                while True:
                    self.request.sendall(piece)
                    time.sleep(0.2)

    server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Drips)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    port = server.server_address[1]
    monkeypatch.setattr(send, "_MAIL_SECONDS", 1)
    monkeypatch.setattr(hooks, "_WEBHOOK_SECONDS", 1)
    monkeypatch.setattr(hooks.post, "__defaults__", ((),))
    monkeypatch.setattr(send.EmailSender.send, "__defaults__", ((),))
    way = (
        f'email = ["ines@co-op.example"]\nserver = "smtp://127.0.0.1:{port}"'
        if kind == "mail"
        else f'webhook = "http://127.0.0.1:{port}/x"'
    )
    planned(f'{way}\non = ["success"]')
    began = time.monotonic()
    ended = plait("run", "p.toml")
    server.shutdown()
    server.server_close()
    assert (
        ended.status == 0
        and "notice not sent" in flat(ended.err)
        and "within 1 seconds" in flat(ended.err)
    )
    assert time.monotonic() - began < 15


def test_the_report_is_attached_only_if_asked(plait, planned, letters):
    planned(emailed(letters, on=["success"]))
    plait("run", "p.toml")
    planned(emailed(letters, on=["success"], attach=True))
    plait("run", "p.toml", "--replace")
    names = [[part.get_filename() for part in one.iter_attachments()] for one in letters.kept.got]
    assert names == [[], ["report.html"]]


def test_a_user_signs_in_behind_tls_with_the_password_of_the_environment(
    plait, planned, letters, monkeypatch
):
    server = letters.server.replace("localhost", "ines@localhost")
    planned(emailed(letters, on=["success"], server=server))
    monkeypatch.delenv("PLAIT_SMTP_PASSWORD", raising=False)
    assert "set PLAIT_SMTP_PASSWORD" in flat(plait("run", "p.toml").err)
    monkeypatch.setenv("PLAIT_SMTP_PASSWORD", "wrong")
    assert "takes no such user" in flat(plait("run", "p.toml", "--replace").err)
    monkeypatch.setenv("PLAIT_SMTP_PASSWORD", SECRET)
    assert "no notice" not in plait("run", "p.toml", "--replace").err
    assert set(letters.kept.signed_in) == {b"wrong", SECRET.encode()}


def test_a_server_may_take_tls_from_the_start(plait, planned, certificate, monkeypatch):
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate)
    kept, port = Letters(), free_port()
    server = library("aiosmtpd.controller").Controller(
        kept, hostname="127.0.0.1", port=port, ssl_context=context
    )
    monkeypatch.setenv("SSL_CERT_FILE", str(certificate))

    def greet() -> None:
        client = ssl.create_default_context(cafile=str(certificate))
        with socket.create_connection(("127.0.0.1", port)) as plain:
            client.wrap_socket(plain, server_hostname="localhost").recv(100)

    monkeypatch.setattr(server, "_trigger_server", greet)  # its own trusts nobody
    server.start()
    try:
        planned(
            f'email = "ines@co-op.example"\nserver = "smtps://localhost:{port}"\non = ["success"]'
        )
        assert "no notice" not in plait("run", "p.toml").err
    finally:
        server.stop()
    assert len(kept.got) == 1


def test_a_certificate_that_nobody_trusts_is_refused(plait, planned, letters, monkeypatch):
    planned(emailed(letters, on=["success"]))
    monkeypatch.delenv("SSL_CERT_FILE")
    ended = plait("run", "p.toml")
    assert ended.status == 0 and "certificate is not trusted" in flat(ended.err)
    assert not letters.kept.got


@pytest.mark.parametrize(
    ("notice", "said"),
    [
        ('webhook = "http://hooks.example/x"', "use https://"),
        ('webhook = "https://hooks.example/${NO_SUCH_TOKEN}"', "NO_SUCH_TOKEN"),
        ('email = ["ines@co-op.example"]\nserver = "mail.example"', "is not a mail server"),
    ],
)
def test_a_notice_that_others_could_read_or_that_goes_nowhere_is_not_sent(
    plait, planned, notice, said
):
    planned(notice)
    ended = plait("notify", "p.toml", "--test")
    assert ended.status == 4 and said in ended.err


@pytest.mark.parametrize(
    ("notice", "said"),
    [
        ('on = ["failures"]', "failure"),
        ("emial = []", "email"),
        ("email = 5", "email"),
        ('webhook = ["x"]', "webhook"),
    ],
)
def test_a_mistake_in_the_notice_is_a_mistake_of_the_plan(plait, planned, notice, said):
    planned(notice)
    ended = plait("check", "p.toml")
    assert ended.status == 2 and said in ended.err and "line" in ended.err


def test_a_test_is_sent_to_everybody(plait, planned, letters, hook):
    planned(emailed(letters) + f'\nwebhook = "{hook.address}"')
    shown = plait("notify", "p.toml")
    assert "would be notified" in shown.out and not letters.kept.got and not hook.got
    ended = plait("notify", "p.toml", "--test", "--json").json
    assert [one["way"] for one in ended["told"]] == ["email", "webhook"]
    assert hook.got[0]["status"] == "test"
    assert "this is a test" in letters.kept.got[0].get_body(("plain",)).get_content()


def test_nobody_to_be_told_is_said(plait, planned):
    planned("examples = false")
    ended = plait("notify", "p.toml", "--test")
    assert ended.status == 2 and "has no one to notify" in ended.err


def test_the_secret_of_a_webhook_is_shown_nowhere(plait, planned, hook, tmp_path):
    planned(f'webhook = "{hook.address}"\non = ["success"]')
    hook.answers += [404]
    said = [plait("run", "p.toml", "--json", "--verbose"), plait("notify", "p.toml", "--verbose")]
    said += [plait("history", "p.toml", "--run", "1"), plait("history", "p.toml", "--json")]
    assert not any(SECRET in one.out + one.err for one in said)
    for path in (tmp_path / "handover").rglob("*"):
        assert path.is_dir() or SECRET.encode() not in path.read_bytes(), path
    assert SECRET not in (tmp_path / "p.history.jsonl").read_text()
    assert webhook_host(hook.address) == "http://127.0.0.1" and is_this_machine("::1")


def test_a_subject_of_several_lines_brings_no_heads_along(plait, planned, letters, tmp_path):
    planned(emailed(letters, on=["success"]))
    path = tmp_path / "p.toml"
    path.write_text(path.read_text().replace('"Season"', '"Season\\r\\nBcc: all@co-op.example"'))
    plait("run", "p.toml")
    (letter,) = letters.kept.got
    assert letter["Bcc"] is None and "Bcc" in letter["Subject"]


@pytest.mark.parametrize(
    ("error", "said"),
    [
        (smtplib.SMTPRecipientsRefused({"ines@x.example": (550, b"no")}), "refused ines@x.example"),
        (smtplib.SMTPDataError(552, b"too\nlarge"), "the server said 552 too large"),
        (smtplib.SMTPDataError(552, "too  large"), "the server said 552 too large"),
        (smtplib.SMTPAuthenticationError(535, b"no"), "takes no such user and password"),
        (ConnectionRefusedError(111, "Connection refused"), "Connection refused"),
        (TimeoutError(), "TimeoutError"),
    ],
)
def test_what_a_mail_server_does_not_like_is_told(error, said):
    assert said in send._server_reply(error)
