"""How much memory there is, and how a person says it."""

from __future__ import annotations

import pytest

from plait.core.base.errors import UsageError
from plait.core.job import memory


@pytest.mark.parametrize(
    ("said", "size"),
    [("2GB", 2 << 30), ("2 GiB", 2 << 30), ("1.5g", 3 << 29), ("512mb", 512 << 20)],
)
def test_an_amount_of_memory_is_read_as_people_write_it(said, size):
    assert memory.parse_memory_size(said) == size


@pytest.mark.parametrize("said", ["", "much", "-2GB", "2", "2 000 MB", "1e9B", "٢GB"])
def test_what_is_no_amount_is_refused(said):
    with pytest.raises(UsageError, match="is not a memory size"):
        memory.parse_memory_size(said)


def test_too_little_to_work_with_is_refused_with_what_is_enough():
    with pytest.raises(UsageError) as refused:
        memory.parse_memory_size("100MB")
    assert memory.parse_memory_size(refused.value.remedy.split()[0]) == memory.LEAST


def test_the_group_of_the_process_counts_where_it_leaves_less(tmp_path, monkeypatch):
    group = tmp_path / "memory"
    group.mkdir()
    (group / "memory.limit_in_bytes").write_text(str(3 << 30))
    (group / "memory.usage_in_bytes").write_text(str(1 << 30))
    monkeypatch.setattr(memory, "_GROUP", tmp_path)
    assert memory._of_group(tmp_path) == 2 << 30
    (tmp_path / "memory.max").write_text("max\n")
    (tmp_path / "memory.current").write_text("7\n")
    assert memory._of_group(tmp_path) == 2 << 30  # a group without a limit leaves all
    (tmp_path / "memory.max").write_text(str(1 << 30))
    assert memory._of_group(tmp_path) == (1 << 30) - 7


def test_what_the_machine_has_free_is_read(tmp_path):
    told = tmp_path / "meminfo"
    told.write_text("MemTotal: 24000000 kB\nMemAvailable:   2048 kB\n")
    assert memory._of_machine(told) == 2 << 20
    assert memory.default_memory_limit() >= memory.LEAST
