"""An interrupt that comes just when a part was made leaves no part behind."""

from __future__ import annotations

import os
import signal
import tempfile

import pytest

from plait.io.delivery import delivery, folder
from plait.io.delivery.delivery import Delivery
from plait.io.places import partial_files


@pytest.fixture(autouse=True)
def interrupts(monkeypatch, tmp_path):
    """Interrupt this process whenever a part has just been made."""
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    for module, name in [
        (delivery, "create_partial_file"),
        (folder, "create_partial_folder"),
        (partial_files, "create_partial_folder"),
    ]:
        monkeypatch.setattr(module, name, _interrupted(getattr(module, name)))
    yield
    signal.signal(signal.SIGINT, before)


def _interrupted(make):
    def made(*given):
        number = make(*given)
        os.kill(os.getpid(), signal.SIGINT)
        return number

    return made


def _file(tmp_path):
    with Delivery() as outputs:
        outputs.write(tmp_path / "a.csv", lambda path: path.write_text("x\n"))


def _folder(tmp_path):
    with folder.replace_folder_atomically(tmp_path / "handover"):
        pass


def _scratch(_tmp_path):
    with partial_files.scratch_folder():
        pass


@pytest.mark.parametrize("make", [_file, _folder, _scratch])
def test_nothing_is_left(tmp_path, make):
    with pytest.raises(KeyboardInterrupt):
        make(tmp_path)
    assert list(tmp_path.iterdir()) == []
