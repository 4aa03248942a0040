"""What a person writes for a source, and what it means."""

from __future__ import annotations

import pytest

from plait.core.base.errors import SourceError, UsageError
from plait.io.places.source import Source
from plait.io.read import read_columns
from plait.io.sources import find_one_source, find_sources


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    for name in ("m10.csv", "m9.csv", "M1.CSV", "t.tsv", "skip.pdf", ".hidden.csv", "a=b.csv"):
        (tmp_path / name).write_text("x,y\n1,2\n")
    for part in ("north", "south"):
        (tmp_path / part).mkdir()
        (tmp_path / part / "may.csv").write_text("x\n1\n")
    return tmp_path


def meant(*words):
    return [(source.name, source.path) for source in find_sources(words)]


def test_a_folder_means_its_files_in_natural_order(folder):
    assert [name for name, _ in meant(".")] == ["a-b", "M1", "m9", "m10", "t"]


def test_globs_names_and_equal_stems(folder):
    assert meant("m*.csv") == [("m9", "m9.csv"), ("m10", "m10.csv")]
    assert meant("spring=m9.csv") == [("spring", "m9.csv")]
    assert meant("a=b.csv") == [("a-b", "a=b.csv")]
    assert [name for name, _ in meant("*/may.csv")] == ["north/may", "south/may"]
    assert [name for name, _ in meant("m9.csv", "m9.csv")] == ["m9", "m9 (2)"]
    assert meant("-") == [("input", "-")]


@pytest.mark.parametrize(
    ("word", "says"),
    [
        ("m99.csv", "did you mean"),
        ("*.xyz", "no file matches"),
        ("no/x.csv", "folder no does not exist"),
    ],
)
def test_what_is_not_there(folder, word, says):
    with pytest.raises(SourceError, match=says):
        find_sources([word])


def test_a_folder_without_tables_and_a_word_for_many(folder):
    (folder / "empty").mkdir()
    with pytest.raises(SourceError, match="no file in a supported format"):
        find_sources(["empty"])
    with pytest.raises(UsageError, match="plait stack"):
        find_one_source("m*.csv")


def test_columns_and_size_without_reading_the_rows(folder):
    assert read_columns(Source("m9", "m9.csv")) == ["x", "y"]
    assert Source("m9", "m9.csv").size == 8
    assert Source("input", "-").size == 0
