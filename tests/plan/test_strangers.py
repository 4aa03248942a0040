"""What somebody else wrote is data: handovers, and files that were planted beside a plan."""

from __future__ import annotations

import http.server
import json
import os
import threading

import pytest

PLAN = """
[source.visits]
path = "{path}"
[[step]]
mend = "visits"
into = "season"
[handover]
result = "season"
"""
TABLE = "yard,hive\nA,1\nB,2\n"


class _Asked(http.server.BaseHTTPRequestHandler):
    """Answers with a table, and remembers what it was asked for."""

    asked: list[str]

    def do_GET(self):
        self.asked.append(self.path)
        self.send_response(200)
        self.send_header("Content-Length", str(len(TABLE)))
        self.end_headers()
        self.wfile.write(TABLE.encode())

    def do_HEAD(self):
        self.send_response(200)
        self.send_header("Content-Length", str(len(TABLE)))
        self.end_headers()

    def log_message(self, *words):
        pass


@pytest.fixture
def listener():
    """A server, and what it was asked for."""
    handler = type("Handler", (_Asked,), {"asked": []})
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}", handler.asked
    server.shutdown()
    server.server_close()


def handed_over(plait, folder, path: str) -> None:
    """A handover of a plan with that source, in a folder of its own."""
    (folder / "p.toml").write_text(PLAN.format(path=path))
    ended = plait("run", "p.toml", "--replace", "--again")
    assert ended.status == 0, ended.err


def by_somebody_else(folder) -> None:
    """The same handover with a seal that is not this user's."""
    package = folder / "handover" / "datapackage.json"
    said = json.loads(package.read_text())
    assert said["seal"]
    package.write_text(json.dumps({**said, "seal": "0" * 64}))


def test_an_address_in_a_strangers_handover_is_not_opened(plait, tmp_path, listener, monkeypatch):
    address, asked = listener
    monkeypatch.setenv("HONEY_SECRET", "geheim")
    handed_over(plait, tmp_path, f"{address}/visits.csv?key=${{HONEY_SECRET}}")
    assert any("geheim" in one for one in asked)
    own = plait("trace", "handover", "--row", "1", "--json").json
    assert own["rows"][0]["cells"][0]["origins"][0]["text"] == "A" and own["unopened"] == []
    by_somebody_else(tmp_path)
    asked.clear()
    ended = plait("trace", "handover", "--row", "1")
    assert ended.status == 0 and asked == []
    assert "not opened" in ended.out and "${HONEY_SECRET}" in ended.out and "--trusted" in ended.out
    assert "geheim" not in ended.out + ended.err and "unchanged" not in ended.out
    plait("trace", "handover", "--row", "1", "--sources", ".")
    assert asked == []
    trusted = plait("trace", "handover", "--row", "1", "--trusted")
    assert any("geheim" in one for one in asked) and "unchanged" in trusted.out


@pytest.mark.parametrize("way", ["absolute", "up", "link", "folder link"])
def test_a_file_outside_is_not_opened_for_a_strangers_handover(plait, tmp_path, monkeypatch, way):
    job = tmp_path / "job"
    job.mkdir()
    monkeypatch.chdir(job)
    (tmp_path / "visits.csv").write_text(TABLE)
    path = {"absolute": str(tmp_path / "visits.csv"), "up": "../visits.csv",
            "link": "link.csv", "folder link": "there/visits.csv"}[way]  # fmt: skip
    (job / "link.csv").symlink_to("../visits.csv")
    (job / "there").symlink_to("..")
    handed_over(plait, job, path)
    assert plait("trace", "handover", "--row", "1", "--json").json["unopened"] == []
    by_somebody_else(job)
    (tmp_path / "visits.csv").write_text(TABLE.replace("A", "private"))
    ended = plait("trace", "handover", "--row", "1", "--json")
    assert "private" not in ended.out and len(ended.json["unopened"]) == 1
    for words in (["--trusted"], ["--sources", str(tmp_path)]):
        if words[0] == "--trusted" or way in ("absolute",):
            assert "private" in plait("trace", "handover", "--row", "1", *words).out


def test_what_lies_beside_a_strangers_handover_is_traced(plait, tmp_path):
    (tmp_path / "visits.csv").write_text(TABLE)
    handed_over(plait, tmp_path, "visits.csv")
    by_somebody_else(tmp_path)
    said = plait("trace", "handover", "--row", "2", "--json").json
    assert said["unopened"] == [] and said["rows"][0]["cells"][0]["origins"][0]["text"] == "B"


def test_the_limits_of_a_stranger_are_not_ours(plait, tmp_path):
    deep = '[{"yard": ' + "[" * 120 + "]" * 120 + "}]"
    (tmp_path / "visits.json").write_text(deep)
    path = 'visits.json"\nlimit = { depth = "200" }\nnote = "'
    (tmp_path / "p.toml").write_text(PLAN.format(path=path).replace('\nnote = ""', ""))
    ended = plait("run", "p.toml")
    assert ended.status == 0, ended.err
    by_somebody_else(tmp_path)
    assert "nested deeper" in plait("trace", "handover", "--row", "1").out


PLANTED = {
    "history": "p.history.jsonl",
    "history being written": ".p.history.jsonl.plait-new",
    "turn": ".p.toml.plait-turn",
    "part": ".x.0123abcd-0.plait-part",
    "journal": ".0123abcd.plait-journal",
}


@pytest.mark.slow
@pytest.mark.parametrize("name", PLANTED.values(), ids=list(PLANTED))
def test_links_and_pipes_beside_a_plan_are_not_followed_or_waited_for(plait, tmp_path, name):
    (tmp_path / "visits.csv").write_text(TABLE)
    victim = tmp_path / "victim"
    victim.write_text("mine")
    (tmp_path / name).symlink_to(victim)
    handed_over(plait, tmp_path, "visits.csv")
    assert victim.read_text() == "mine"
    if name == PLANTED["history"]:
        assert (tmp_path / name).is_symlink()
    (tmp_path / name).unlink(missing_ok=True)
    os.mkfifo(tmp_path / name)
    handed_over(plait, tmp_path, "visits.csv")
    plait("history", "p.toml")
    ended = plait("mend", "visits.csv", "--out", "o.csv", "--replace")
    assert ended.status == 0, ended.err


def test_a_pipe_where_the_small_file_beside_an_output_was(plait, tmp_path):
    (tmp_path / "visits.csv").write_text(TABLE)
    os.mkfifo(tmp_path / ".o.csv.plait")
    words = ("mend", "visits.csv", "--where", "hive = 1", "--out", "o.csv", "--replace")
    assert plait(*words).status == 0


def test_a_pipe_in_a_handover_is_no_file_of_it(plait, tmp_path):
    (tmp_path / "visits.csv").write_text(TABLE)
    handed_over(plait, tmp_path, "visits.csv")
    for name in ("season.csv", "datapackage.json", "lineage.parquet"):
        path = tmp_path / "handover" / name
        content = path.read_bytes()
        path.unlink()
        os.mkfifo(path)
        ended = plait("trace", "handover", "--row", "1")
        assert ended.status == 3, ended.err
        path.unlink()
        path.write_bytes(content)
    assert plait("trace", "handover", "--row", "1").status == 0


def test_a_list_of_what_goes_with_a_result_leads_nowhere_else(plait, tmp_path):
    (tmp_path / "visits.csv").write_text(TABLE)
    (tmp_path / "out").mkdir()
    victim = tmp_path / "mine" / "x.csv"
    victim.parent.mkdir()
    victim.write_text("mine")
    (tmp_path / "out" / "there").symlink_to(victim.parent)
    state = victim.stat()
    said = {"path": "there/x.csv", "bytes": state.st_size, "modified": state.st_mtime_ns}
    planted = json.dumps({"result": "o.csv", "with": [said]})
    (tmp_path / "out" / ".o.csv.plait").write_text(planted)
    (tmp_path / "out" / "o.csv").write_text("old")
    assert plait("mend", "visits.csv", "--out", "out/o.csv", "--replace").status == 0
    assert victim.read_text() == "mine"
