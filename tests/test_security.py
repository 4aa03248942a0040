"""What SECURITY.md promises: each sentence is held by tests, and these are they."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
HELD = {
    "never writes to a source": ["cli/test_bad_input.py::test_requests_that_cannot_be_carried_out"],
    "can run code": ["test_security.py::test_nothing_that_is_read_is_carried_out"],
    "sends nothing anywhere": ["test_security.py::test_a_whole_plan_asks_nobody_for_anything"],
    "What somebody else wrote is data": [
        "plan/test_strangers.py::test_an_address_in_a_strangers_handover_is_not_opened",
        "plan/test_strangers.py::test_a_file_outside_is_not_opened_for_a_strangers_handover",
        "plan/test_strangers.py::test_what_lies_beside_a_strangers_handover_is_traced",
        "io/delivery/test_delivery.py::"
        "test_a_database_that_somebody_elses_journal_names_is_not_asked",
    ],
    "Of a crontab only": [
        "plan/schedule/test_schedule.py::test_nobody_elses_line_of_a_crontab_changes_by_a_byte",
        "plan/schedule/test_schedule.py::test_a_line_break_in_a_word_is_no_line_of_the_scheduler",
    ],
    "A file from an address": [
        "io/places/test_misbehaving_server.py::test_what_is_read_is_one_version_or_nothing_is",
        "io/places/test_misbehaving_server.py::"
        "test_what_unpacks_on_the_way_past_the_limit_is_refused",
        "io/places/test_misbehaving_server.py::test_a_body_without_a_length_does_not_fill_the_disk",
    ],
    "No wait is without end": [
        "io/database/test_silent_servers.py::test_a_wait_ends_when_its_time_is_over",
        "io/database/test_silent_servers.py::test_an_interrupt_ends_a_wait",
        "plan/notices/test_notices.py::test_an_answer_without_an_end_keeps_no_run",
    ],
    "Links, pipes and devices": [
        "plan/test_strangers.py::test_links_and_pipes_beside_a_plan_are_not_followed_or_waited_for",
        "plan/test_strangers.py::test_a_pipe_where_the_small_file_beside_an_output_was",
    ],
    "serves no page": [
        "cli/test_workers.py::test_workers_show_no_page_to_whoever_is_on_this_machine"
    ],
    "Passwords and tokens": [
        "io/database/test_what_goes_wrong.py::test_no_output_has_a_secret_in_it"
    ],
    "No script but its own": [
        "report/html/test_all_pages.py::test_nothing_hostile_runs_and_all_of_it_is_shown"
    ],
    "Outputs are complete or absent": [
        "faults/test_outputs_are_whole.py::test_all_outputs_are_new_or_all_are_old",
        "io/delivery/test_delivery.py::"
        "test_what_is_half_written_is_its_owners_alone_and_then_as_files_are_there",
    ],
    "No copy of your data": [
        "io/test_source_cache.py::test_results_are_the_same_to_the_byte",
        "io/test_source_cache.py::test_only_what_this_user_left_so_is_opened",
        "io/test_source_cache.py::test_what_is_kept_is_its_owners_alone",
    ],
}
PLAN = """
[source.visits]
path = "visits.csv"
[[step]]
mend = "visits"
where = '''note <> '__import__("os").mkdir("ran")' '''
compute = { more = "kg * 2" }
into = "season"
[describe]
kg = "{{ 7 * 7 }} <script>document.title = 1</script>"
[handover]
result = "season"
formats = ["csv", "xlsx", "parquet"]
"""
VISITS = (
    "hive,kg,note\n"
    '1,2.5,"__import__(""os"").mkdir(""ran"")"\n'
    "2,7,{{ cycler.__init__.__globals__.os.mkdir('ran') }}\n"
    "3,1,$(mkdir ran)\n4,2,`mkdir ran`\n5,3,!!python/object/apply:os.mkdir [ran]\n"
)
_WATCHED = """
import sys
def watch(event, args):
    if event in ("subprocess.Popen", "os.system", "os.exec", "os.posix_spawn", "os.spawn"):
        raise SystemExit(f"a program is started: {args}")
    if event in ("socket.connect", "socket.getaddrinfo", "socket.gethostbyname", "socket.sendto"):
        raise SystemExit(f"somebody is asked: {args}")
sys.addaudithook(watch)
from plait.cli.main import run_command_line
sys.exit(run_command_line(sys.argv[1:]))
"""


def _promises() -> list[str]:
    (part,) = re.findall(
        r"## What Plait promises\n(.*?)\n## ", (ROOT / "SECURITY.md").read_text(), re.DOTALL
    )
    return [" ".join(one.split()) for one in re.split(r"\n- ", part.strip().removeprefix("- "))]


def test_every_promise_is_held_by_a_test():
    for promise in _promises():
        (words,) = [words for words in HELD if words in promise]
        for place in HELD[words]:
            file, _, name = place.partition("::")
            assert f"def {name}(" in (ROOT / "tests" / file).read_text(), (promise, place)
    assert len(_promises()) == len(HELD)


@pytest.fixture
def watched(put, tmp_path):
    """Runs the program where starting another one, or asking another machine, ends it."""
    put(visits_csv=VISITS)
    (tmp_path / "p.toml").write_text(PLAN)

    def run(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-c", _WATCHED, *words],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            timeout=120,
        )

    return run


COMMANDS = [
    ("survey", "visits.csv", "--report", "look.html"),
    ("keys", "visits.csv", "--key", "hive"),
    ("run", "p.toml", "--replace", "--again"),
    ("trace", "handover", "--row", "1"),
    ("compare", "handover", "visits.csv"),
    ("draft", "visits.csv"),
]


@pytest.mark.slow
@pytest.mark.parametrize("words", COMMANDS, ids=lambda words: words[0])
def test_a_whole_plan_asks_nobody_for_anything(watched, words):
    if words[0] in ("trace", "compare"):
        assert watched("run", "p.toml").returncode == 0
    ended = watched(*words)
    assert ended.returncode == 0, ended.stderr


def test_nothing_that_is_read_is_carried_out(watched, tmp_path):
    ended = watched("run", "p.toml")
    assert ended.returncode == 0, ended.stderr
    assert not (tmp_path / "ran").exists()
    page = (tmp_path / "handover" / "report.html").read_text()
    assert "{{ 7 * 7 }}" in page and "<script>document.title" not in page
    rows = (tmp_path / "handover" / "season.csv").read_text()
    assert "$(mkdir ran)" in rows and "cycler.__init__" in rows
    for expression in ("__import__('os').mkdir('ran')", "open('ran', 'w')", "hive.__class__"):
        refused = watched("mend", "visits.csv", "--compute", f"x={expression}")
        assert refused.returncode == 2 and "Traceback" not in refused.stderr
    assert not (tmp_path / "ran").exists()
