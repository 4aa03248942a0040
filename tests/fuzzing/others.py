"""What others write beside a plan, and what they answer: changed, and made up."""

from __future__ import annotations

import json
import random
import socketserver
import threading
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from fuzzing.mutating import change_value, mutated

Words = list[str]
_PLAN = """
[source.visits]
path = "visits.csv"
label = { month = "{stem}" }
[source.hives]
path = "hives.csv"
[source.spellings]
path = "pairs.csv"
[[step]]
join = ["visits", "hives"]
key = "hive"
kind = "left"
pairs = "spellings"
into = "season"
[expect]
change = { rows = "50%" }
[handover]
result = "season"
folder = "out"
formats = ["csv", "sqlite"]
keep = 2
"""
_FILES = {
    "visits.csv": "hive,kg\n1,2.5\n02,7\n2,1\n3,\n",
    "hives.csv": "hive,queen\n1,Ada\n2,Bea\n9,Cleo\n",
    "pairs.csv": "visits.hive,hives.hive,use\n02,2,yes\n3,9,no\n",
}
_JOURNAL = {
    "plait_version": 1,
    "leads": ".0123abcd.plait-journal",
    "steps": [{"target": "o.csv", "old": ".o.csv.0123abcd-0.plait-old", "part": None}],
}
_ASKED = (
    ["history", "p.toml"],
    ["history", "p.toml", "--json"],
    ["check", "p.toml"],
    ["run", "p.toml", "--replace", "--again"],
    ["compare", "out", "out"],
    ["trace", "out", "--row", "2"],
    ["join", "visits.csv", "hives.csv", "--key", "hive", "--pairs", "pairs.csv",
     "--out", "o.csv", "--replace"],
    ["notify", "p.toml"],
)  # fmt: skip


def written(folder: Path, rng: random.Random) -> Iterator[Words]:
    """What earlier runs wrote: the history, lists, accounts, journals, pairs that were decided."""
    for name, text in _FILES.items():
        (folder / name).write_text(text)
    (folder / "p.toml").write_text(_PLAN)
    yield ["run", "p.toml", "--replace", "--again"]
    yield ["run", "p.toml", "--replace", "--again"]
    yield list(_ASKED[-2])
    (folder / ".0123abcd.plait-journal").write_text(json.dumps(_JOURNAL))
    whole = {
        file: file.read_bytes()
        for file in sorted(folder.rglob("*"))
        if file.is_file() and file.name not in ("visits.csv", "hives.csv", "p.toml")
    }
    while True:
        chosen = rng.choice(list(whole))
        chosen.parent.mkdir(parents=True, exist_ok=True)
        chosen.write_bytes(_changed(whole[chosen], rng))
        for asked in rng.sample(_ASKED, 2):
            yield list(asked)
        for file, content in whole.items():
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(content)


def _changed(content: bytes, rng: random.Random) -> bytes:
    """A file that keeps to JSON, or to lines of it, but states something else; or other bytes."""
    if rng.random() < 0.5:
        for lines in (content.splitlines() or [b""], [content]):
            place = rng.randrange(len(lines))
            try:
                stated = json.loads(lines[place])
            except ValueError:
                continue
            if isinstance(stated, dict | list) and stated:
                change_value(stated, rng)
                return b"\n".join(
                    [*lines[:place], json.dumps(stated).encode(), *lines[place + 1 :]]
                )
    return mutated(content, rng)


_MAIL = (
    b"220 mail.example ESMTP", b"250-mail.example", b"250-SIZE 10", b"250-STARTTLS", b"250 ok",
    b"250-AUTH PLAIN LOGIN", b"354 go on", b"421 busy", b"500 what", b"535 no", b"550 no such user",
    b"235 in", b"334 VXNlcm5hbWU6", b"999 odd", b"25", b"", b"\xff\xfe", b"250" + b" x" * 3000,
    b"220-more", b"221 bye", b"250 SIZE -1", b"250 SIZE x", b"250 AUTH =",
)  # fmt: skip
_WEB = (
    b"HTTP/1.1 200 OK", b"HTTP/1.1 204 No", b"HTTP/1.1 302 Found", b"HTTP/1.1 500 x", b"HTTP/9 2",
    b"HTTP/1.1 99999 x", b"HTTP/1.1 -1", b"Location: /x", b"Location: file:///etc/passwd",
    b"Location: http://[", b"Content-Length: 3", b"Content-Length: -1", b"Content-Length: 1e9",
    b"Transfer-Encoding: chunked", b"X: y\xff", b"", b"zz", b"HTTP/1.1 301 x", b"Retry-After: -1",
    b"Content-Encoding: gzip", b"X" * 70_000, b"HTTP/1.1 100 Continue", b"Location: //\x00",
)  # fmt: skip


def answers(folder: Path, rng: random.Random) -> Iterator[Words]:
    """Mail servers and webhooks that answer with any of their lines, or none, in any order."""
    from plait.plan.notices import send
    from plait.plan.notices import send as hooks

    hooks._WEBHOOK_SECONDS = send._MAIL_SECONDS = 2
    hooks.post.__defaults__ = send.EmailSender.send.__defaults__ = ((),)  # tried once
    for name, text in _FILES.items():
        (folder / name).write_text(text)
    ports = {kind: _server(lines, rng) for kind, lines in (("mail", _MAIL), ("web", _WEB))}
    way = {
        "mail": f'email = ["ines@co-op.example"]\nserver = "smtp://127.0.0.1:{ports["mail"]}"',
        "web": f'webhook = "http://127.0.0.1:{ports["web"]}/x"',
    }
    while True:
        (folder / "p.toml").write_text(
            f'{_PLAN}[notice]\n{way[rng.choice(["mail", "web"])]}\non = ["success"]\n'
        )
        yield rng.choice(
            [["notify", "p.toml", "--test"], ["run", "p.toml", "--replace", "--again"]]
        )


def _server(lines: tuple[bytes, ...], rng: random.Random) -> int:
    """The port of a server that says lines at random, now and then before it was asked."""

    class Answers(socketserver.StreamRequestHandler):
        timeout = 0.3

        def handle(self) -> None:
            with suppress(OSError):
                for _ in range(rng.randrange(12)):
                    count = rng.choice([0, 1, 1, 1, 2, 4])
                    end = rng.choice([b"\r\n", b"\r\n", b"\r\n", b"\n", b"", b"\r\n\r\n"])
                    self.wfile.write(end.join([*rng.choices(lines, k=count), b""]))
                    if rng.random() < 0.8:
                        with suppress(TimeoutError):
                            self.rfile.readline(9999)

    server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Answers)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    return server.server_address[1]
