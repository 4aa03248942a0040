"""Folders that appear whole or not at all."""

from __future__ import annotations

import os

import pytest

import plait.formats.delivery.folder as folder_module
from plait.core.account.errors import OutputError
from plait.formats.delivery.folder import check_folder, whole_folder, write_flushed


def _write(target, text):
    with whole_folder(target) as part:
        write_flushed(part / "sub" / "a.txt", lambda path: path.write_text(text))


def _names(folder):
    return sorted(one.name for one in folder.iterdir())


@pytest.mark.parametrize("swaps", [True, False])
def test_a_new_folder_takes_the_place_of_the_old_one(tmp_path, monkeypatch, swaps):
    if not swaps:
        monkeypatch.setattr(folder_module, "_exchanged", lambda one, other: False)
    target = tmp_path / "out"
    for text in ("one", "two"):
        _write(target, text)
        assert (target / "sub" / "a.txt").read_text() == text
        assert _names(tmp_path) == ["out"]


@pytest.mark.parametrize("error", [ValueError, KeyboardInterrupt])
def test_the_old_folder_stands_when_writing_the_new_one_fails(tmp_path, error):
    target = tmp_path / "out"
    _write(target, "old")
    with pytest.raises(error), whole_folder(target) as part:
        (part / "a.txt").write_text("half")
        raise error
    assert (target / "sub" / "a.txt").read_text() == "old"
    assert _names(tmp_path) == ["out"]


def test_errors_of_the_system_are_told_as_such(tmp_path):
    target = tmp_path / "out"
    with pytest.raises(OutputError, match="cannot be written") as raised, whole_folder(target):
        raise OSError(28, "No space left on device")
    assert "nothing was handed over" in raised.value.remedy
    assert _names(tmp_path) == []


def test_what_killed_runs_left_is_taken_away_and_what_runs_is_not(tmp_path):
    dead = f".out.{2**22 + 1}-0123abcd.part"
    alive = f".out.{os.getppid()}-0123abcd.part"
    other = f".other.{2**22 + 1}-0123abcd.part"
    for name in (dead, alive, other):
        (tmp_path / name).mkdir()
    _write(tmp_path / "out", "new")
    assert _names(tmp_path) == sorted([alive, other, "out"])


def test_a_run_killed_between_two_renames_gives_the_old_folder_back(tmp_path):
    left = tmp_path / f".out.{2**22 + 1}-0123abcd.part.old"
    left.mkdir()
    (left / "a.txt").write_text("old")
    with pytest.raises(ValueError, match="stop"), whole_folder(tmp_path / "out"):
        raise ValueError("stop")
    assert (tmp_path / "out" / "a.txt").read_text() == "old"


def test_only_an_earlier_one_is_replaced_and_only_when_asked(tmp_path):
    target, marks = tmp_path / "out", ("mark.json",)
    check_folder(target, False, marks)
    target.mkdir()
    check_folder(target, True, marks)
    (target / "letter.txt").write_text("dear")
    with pytest.raises(OutputError, match="no earlier handover"):
        check_folder(target, True, marks)
    (target / "mark.json").write_text("{}")
    check_folder(target, True, marks)
    with pytest.raises(OutputError, match="there already"):
        check_folder(target, False, marks)
    with pytest.raises(OutputError, match="is in it"):
        check_folder(target, True, marks, [str(target / "letter.txt")])
    with pytest.raises(OutputError, match="not there"):
        check_folder(tmp_path / "no" / "out", False, marks)
    (tmp_path / "link").symlink_to(target)
    with pytest.raises(OutputError, match="no folder"):
        check_folder(tmp_path / "link", True, marks)


def test_what_a_killed_run_left_of_a_long_name_is_taken_away(tmp_path):
    name = "n" * 120
    (tmp_path / f".{name[:80]}.{2**22 + 1}-0123abcd.part").mkdir()
    _write(tmp_path / name, "new")
    assert _names(tmp_path) == [name]
