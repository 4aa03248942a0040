"""The commands of the README and of the pages run as they stand, on the demo's files."""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from plait.demo.data import rewind_one_month, write_demo_data, write_records
from servers import PASSWORD

ROOT = Path(__file__).parents[1]
# In the order in which a reader comes to them; what one makes, the next may use.
PAGES = ("docs/stack.md", "README.md", "docs/survey-and-mend.md", "docs/keys-and-joins.md",
         "docs/pairs.md", "docs/group-and-reshape.md", "docs/python.md")  # fmt: skip

pytestmark = pytest.mark.slow


def _text(page: str) -> str:
    """A page; of the README what follows installing and ``plait demo``."""
    text = (ROOT / page).read_text(encoding="utf-8")
    return text.partition("## The whole job")[2] if page == "README.md" else text


def commands(page: str) -> list[list[str]]:
    return _commands(_text(page))


def _commands(text: str) -> list[list[str]]:
    blocks = "".join(re.findall(r"```sh\n(.*?)```", text, re.DOTALL)).replace("\\\n", " ")
    return [shlex.split(line) for line in blocks.splitlines() if line.startswith("plait ")]


def python(page: str) -> list[str]:
    return re.findall(r"```python\n(.*?)```", _text(page), re.DOTALL)


def test_the_commands_and_the_python_of_the_pages_run_in_their_order(plait, tmp_path):
    write_demo_data(tmp_path)
    every = [(page, words) for page in PAGES for words in commands(page)]
    assert len(every) >= 20
    for page, words in every:
        again = [] if "--replace" in words or "--out" not in words else ["--replace"]
        ended = plait(*words[1:], *again)
        assert ended.status == 0, (page, words, ended.err)
    code = "\n".join(part for page in PAGES for part in python(page))
    done = subprocess.run(
        [sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert code.count("import plait") >= 2 and done.returncode == 0, done.stderr


def test_the_month_after_runs_as_the_page_says(plait, tmp_path):
    page, october = "docs/monthly.md", "<!-- october arrives -->"
    write_demo_data(tmp_path)
    rewind_one_month(tmp_path)
    plan = tmp_path / "season.toml"
    plan.write_text(plan.read_text().replace("# ignore =", "ignore ="))
    before, _, after = _text(page).partition(october)
    assert len(_commands(before)) == 1 and len(_commands(after)) >= 12
    said = ""
    for words in _commands(before):
        assert plait(*words[1:]).status == 0
    write_records(tmp_path)
    for words in _commands(after):
        named = [name for word in words[1:] for name in _named(tmp_path, word)]
        again = ["--replace"] if "--out" in words else []
        ended = plait(*named, *again)
        assert ended.status == 0, (words, ended.err)
        said += ended.err
    told = re.search(r"```\nsince [0-9: -]+: (.*?)```", _text(page), re.DOTALL)
    assert told and all(line in said for line in told[1].splitlines()), told
    code = "\n".join(python(page))
    done = subprocess.run(
        [sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert "import plait" in code and done.returncode == 0, done.stderr


def _named(folder: Path, word: str) -> list[str]:
    """What a word of a line means to a shell."""
    fits = sorted(str(path.relative_to(folder)) for path in folder.glob(word))
    return fits if word.endswith("2*") else [word]


def test_the_commands_about_databases_run_on_a_server(plait, tmp_path, postgres, monkeypatch):
    page = "docs/databases.md"
    here = postgres.address(password="")
    monkeypatch.setenv("PGPASSWORD", PASSWORD)
    write_demo_data(tmp_path)
    named = re.findall(r"<!-- plan (\S+) -->\n```toml\n(.*?)```", _text(page), re.DOTALL)
    for name, text in named:
        (tmp_path / name).write_text(text.replace("postgresql://keeper@localhost/co_op", here))
    every = commands(page)
    assert len(named) == 1 and len(every) >= 10
    for words in every:
        words = [one.replace("postgresql://keeper@localhost/co_op", here) for one in words]
        ended = plait(*words[1:])
        assert ended.status == 0, (words, ended.err)
    assert postgres.run("SELECT count(*) > 900 FROM season") == "t\n"
    assert postgres.run("SELECT count(*) > 0 FROM season_ledger") == "t\n"


@pytest.mark.parametrize("page", [*sorted(ROOT.glob("docs/*.md")), *ROOT.glob("*.md")], ids=str)
def test_links_lead_somewhere(page):
    for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", page.read_text(encoding="utf-8")):
        assert "://" in target or (page.parent / target).exists(), target


def test_what_goes_in_and_comes_out_is_as_the_readme_shows(plait, tmp_path):
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    shown = text.partition("## What goes in")[2].partition("## Two commands")[0]
    sources, answer, result = re.findall(r"```(?:text)?\n(.*?)```", shown, re.DOTALL)
    pairs = [(line[:21].rstrip(), line[21:]) for line in sources.splitlines()]
    for name, *lines in zip(*pairs, strict=True):
        (tmp_path / name).write_text("".join(f"{line}\n" for line in lines if line))
    command = shlex.split(re.findall(r"`plait (.*?)`", shown)[0])
    ended = plait(*command)
    assert [line.rstrip() for line in ended.err.splitlines()] == answer.splitlines()
    plait(*command, "--ignore", "case,space", "--replace")
    assert (tmp_path / "season.csv").read_text() == result
