"""Folders that appear whole or not at all."""

from __future__ import annotations

import os

import pytest

import plait.io.delivery.folder as folder_module
import plait.io.delivery.journal as journal_module
from plait.core.base.errors import OutputError
from plait.io.delivery.folder import (
    check_folder,
    recover_folder,
    replace_folder_atomically,
    write_flushed,
)
from plait.io.places.partial_files import (
    PART,
    create_partial_folder,
    new_delivery_token,
    partial_name,
)


def _write(target, text):
    with replace_folder_atomically(target) as part:
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
    with pytest.raises(error), replace_folder_atomically(target) as part:
        (part / "a.txt").write_text("half")
        raise error
    assert (target / "sub" / "a.txt").read_text() == "old"
    assert _names(tmp_path) == ["out"]


def test_errors_of_the_system_are_told_as_such(tmp_path):
    target = tmp_path / "out"
    with (
        pytest.raises(OutputError, match="cannot be written") as raised,
        replace_folder_atomically(target),
    ):
        raise OSError(28, "No space left on device")
    assert "no output was written" in raised.value.remedy
    assert _names(tmp_path) == []


def test_what_killed_runs_left_is_taken_away_and_what_runs_is_not(tmp_path):
    left, alive = tmp_path / ".out.0123abcd-0.plait-part", tmp_path / ".out.89abcdef-0.plait-part"
    foreign = tmp_path / ".out.0123abcd.part"
    left.mkdir()
    foreign.mkdir()
    (left / "big.csv").write_text("half")
    held = create_partial_folder(alive)
    recover_folder(tmp_path)
    os.close(held)
    assert _names(tmp_path) == sorted([alive.name, foreign.name])
    recover_folder(tmp_path)
    assert _names(tmp_path) == [foreign.name]


def test_only_an_earlier_one_is_replaced_and_only_when_asked(tmp_path):
    target, marks = tmp_path / "out", ("mark.json",)
    check_folder(target, False, marks)
    target.mkdir()
    check_folder(target, True, marks)
    (target / "letter.txt").write_text("dear")
    with pytest.raises(OutputError, match="not a handover"):
        check_folder(target, True, marks)
    (target / "mark.json").write_text("{}")
    check_folder(target, True, marks)
    with pytest.raises(OutputError, match="already exists"):
        check_folder(target, False, marks)
    with pytest.raises(OutputError, match="is in this folder"):
        check_folder(target, True, marks, [str(target / "letter.txt")])
    with pytest.raises(OutputError, match="does not exist"):
        check_folder(tmp_path / "no" / "out", False, marks)
    (tmp_path / "link").symlink_to(target)
    with pytest.raises(OutputError, match="not a folder"):
        check_folder(tmp_path / "link", True, marks)


def test_what_a_killed_run_left_of_a_long_name_is_taken_away(tmp_path):
    name = "ñ" * 120
    part = partial_name(tmp_path / name, new_delivery_token(), 0, PART)
    part.mkdir()
    recover_folder(tmp_path)
    assert _names(tmp_path) == []
    _write(tmp_path / name, "new")
    assert _names(tmp_path) == [name]


def test_a_swap_that_can_neither_be_done_nor_undone_is_told_and_finished_later(
    tmp_path, monkeypatch
):
    target = tmp_path / "out"
    _write(target, "old")

    def stops(*_):
        raise OSError(5, "Input/output error")

    with monkeypatch.context() as patched:
        patched.setattr(folder_module, "_exchanged", lambda one, other: False)
        patched.setattr(journal_module, "_do", stops)
        patched.setattr(journal_module, "_taken_back", lambda step: False)
        with pytest.raises(OutputError, match="not all outputs could be moved into place"):
            _write(target, "new")
    recover_folder(tmp_path)
    assert (target / "sub" / "a.txt").read_text() == "new"
    assert _names(tmp_path) == ["out"]
