"""What was read is kept: the same to the byte, up to a size, opened only as this user left it."""

from __future__ import annotations

import json
import os
import pickle
import shutil
from pathlib import Path

import pytest

from makers import Quiet, workbook
from plait.io import source_cache
from plait.io.job import working
from plait.io.read import read_single_source
from plait.io.source_cache import SourceCache
from plait.io.sources import find_one_source
from plait.plan.run import run_plan

PLAN = """\
[source.visits]
path = "extracts"
[[step]]
stack = "visits"
into = "season"
[handover]
result = "season"
"""


@pytest.fixture
def folder(tmp_path, monkeypatch) -> Path:
    """Where tables are kept; files of any size are."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    monkeypatch.setattr(source_cache, "_LEAST_BYTES", 0)
    return tmp_path / "cache" / "plait" / "sources"


@pytest.fixture
def extracts(tmp_path):
    """Workbooks and JSON as an office has them: titles, notes below, gaps, other types."""
    made = tmp_path / "extracts"
    made.mkdir()
    rows = [["hive", "kg", "note"], *([f"{n:03}", n / 4, "calm"] for n in range(9000))]
    workbook(made / "may.xlsx", {"Visits": [["Visits of May"], [], *rows, ["Total", 9, None]]})
    (made / "june.json").write_text(
        json.dumps([{"hive": "007", "kg": 1.5, "note": None}, {"hive": "8", "kg": 2, "note": "x"}])
    )
    return made


def files_of(folder: Path) -> dict[str, bytes]:
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file()
    }


def handed_over(tmp_path: Path, cache: str) -> dict[str, bytes]:
    (tmp_path / "p.toml").write_text(PLAN)
    (tmp_path / "p.history.jsonl").unlink(missing_ok=True)
    shutil.rmtree(tmp_path / "handover", ignore_errors=True)
    with working(cache=cache):
        run_plan(tmp_path / "p.toml", (), Quiet())
    return files_of(tmp_path / "handover")


def test_results_are_the_same_to_the_byte(folder, extracts, tmp_path, monkeypatch):
    without = handed_over(tmp_path, "none")
    assert not folder.exists()
    first = handed_over(tmp_path, "300MB")
    assert len(list(folder.glob("*.entry"))) == 2

    def never(*_):
        raise AssertionError("it was read again")

    for reader in ("plait.io.workbook.read.read", "plait.io.json_files.read"):
        monkeypatch.setattr(reader, never)
    second = handed_over(tmp_path, "300MB")
    assert first == without
    assert second == without


def test_a_plan_says_how_much_is_kept(folder, extracts, tmp_path):
    (tmp_path / "p.toml").write_text(PLAN + '[work]\ncache = "300MB"\n')
    run_plan(tmp_path / "p.toml", (), Quiet())
    assert len(list(folder.glob("*.entry"))) == 2


def read_again(path: Path):
    with working(cache="300MB"):
        return read_single_source(find_one_source(str(path)))


def cells(table) -> list[list[str | None]]:
    return [table.chunks(name).to_pylist() for name in table.column_names]


def test_a_file_that_was_changed_is_read_anew(folder, extracts):
    path = extracts / "june.json"
    assert read_again(path).rows == 2
    path.write_text(path.read_text().replace("007", "009"))
    assert cells(read_again(path))[0] == ["009", "8"]
    assert len(list(folder.glob("*.entry"))) == 2


def test_what_is_kept_is_its_owners_alone(folder, extracts):
    read_again(extracts / "may.xlsx")
    assert folder.stat().st_mode & 0o077 == 0
    folder.chmod(0o777)  # where others may write, nothing is kept, and nothing is looked for
    before = files_of(folder)
    read_again(extracts / "june.json")
    assert files_of(folder) == before


class Opened:
    """What a file that somebody else made would do when it is opened."""

    def __reduce__(self):
        return print, ("opened",)


@pytest.mark.parametrize("how", ["entry", "large", "seal", "other", "nothing", "gone"])
def test_only_what_this_user_left_so_is_opened(how, folder, extracts, capsys):
    path = extracts / "may.xlsx"
    right = cells(read_again(path))
    (entry,) = folder.glob("*.entry")
    said = json.loads(entry.read_text())
    large = folder / said["large"]
    if how == "entry":
        said["data"] = pickle.dumps(Opened()).hex()
    if how == "large":
        data = bytearray(large.read_bytes())
        data[100] ^= 1
        large.write_bytes(data)
    if how == "seal":
        said["seal"] = "0" * 64
    if how == "other":
        said["large"] = "../../elsewhere"
    if how == "gone":
        large.unlink()
    entry.write_text("" if how == "nothing" else json.dumps(said))
    assert cells(read_again(path)) == right
    assert "opened" not in capsys.readouterr().out


def test_what_was_used_longest_ago_goes_first(folder, extracts, tmp_path):
    folder.mkdir(parents=True, mode=0o700)
    paths = []
    for number in range(3):
        path = tmp_path / f"{number}.xlsx"
        rows = [["hive", "kg"], *([f"{n:03}", n + number] for n in range(3000))]
        workbook(path, {"Visits": rows})
        paths.append(path)
    first = SourceCache(folder, 1 << 30)

    def read(cache: SourceCache, path: Path) -> None:
        from plait.io.workbook.read import read as read_workbook

        source = find_one_source(str(path))
        assert cache.keeps(source)
        cache.table(source, read_workbook, lambda _: None)

    read(first, paths[0])
    size = sum(len(content) for content in files_of(folder).values())
    tight = SourceCache(folder, int(size * 2.5))
    for path in (paths[1], paths[0], paths[2]):  # the first one is used again
        for entry in folder.glob("*.entry"):  # a moment passes, which a clock may not see
            state = entry.stat()
            os.utime(entry, ns=(state.st_atime_ns, state.st_mtime_ns - 10**9))
        read(tight, path)
    assert sum(len(content) for content in files_of(folder).values()) <= size * 2.5
    kept = {entry.stem for entry in folder.glob("*.entry")}
    names = [
        source_cache._name_of(find_one_source(str(path)), source_cache.sha256(path))
        for path in paths
    ]
    assert kept == {names[0], names[2]}
    read(SourceCache(folder, 10), paths[1])
    assert not files_of(folder), "what does not fit is not kept"


def test_text_is_not_kept_and_a_size_is_needed(folder, plait, put):
    put(v_csv="hive,kg\n1,2\n")
    assert plait("survey", "v.csv", "--cache", "300MB").status == 0
    assert not files_of(folder)
    ended = plait("survey", "v.csv", "--cache", "much")
    assert ended.status == 2 and "'much' is not a cache size" in ended.err
