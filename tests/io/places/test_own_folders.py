"""Folders of the user's own: one that others can write to, or that is not theirs, is not used."""

from __future__ import annotations

import os

import pytest

from plait.io.places import safe_files

pytestmark = pytest.mark.skipif(not hasattr(os, "geteuid"), reason="owners are of POSIX")


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    made = safe_files.cache_folder("templates")
    assert made is not None
    return made


@pytest.mark.parametrize(
    ("mode", "used"), [(0o700, True), (0o755, True), (0o775, False), (0o777, False)]
)
def test_a_folder_that_others_can_write_to_is_not_used(folder, mode, used):
    folder.chmod(mode)
    assert (safe_files.cache_folder("templates") == folder) is used


def test_a_folder_of_somebody_else_is_not_used(folder, monkeypatch):
    monkeypatch.setattr(safe_files.os, "geteuid", lambda: folder.stat().st_uid + 1)
    assert safe_files.cache_folder("templates") is None


def test_what_is_no_folder_is_not_used(folder):
    folder.rmdir()
    folder.symlink_to(folder.parent)
    assert safe_files.cache_folder("templates") is None
