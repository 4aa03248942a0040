"""Arrays and columns in scratch files: the same cells, and nothing left behind."""

from __future__ import annotations

import errno
import gc
import os
import signal
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest

from plait.core.base.errors import ScratchError
from plait.core.base.wording import Setting
from plait.core.job import spill_arrays as store_arrays
from plait.core.job.current import current_job, reserve_memory, within_job
from plait.core.job.executor import map_ordered
from plait.core.job.mapped_files import MAPPINGS
from plait.core.job.memory import MemoryBudget
from plait.core.job.spill_columns import (
    ColumnBuilder,
    apply_in_batches,
    build_chunks,
    build_column,
    combine_column_chunks,
    fill_in_batches,
)
from plait.core.operations.join import join
from plait.core.table.table import table_from_columns

LARGE = 1 << 16


@pytest.fixture
def room(tmp_path):
    with within_job(memory=MemoryBudget(1 << 20, lambda: tmp_path, large=LARGE)) as job:
        reserve_memory(1 << 30 >> 4)
        yield job.memory


def files_behind(folder: Path) -> int:
    """How many regions of this process's memory are in files of a folder."""
    return Path("/proc/self/maps").read_text().count(f" {folder}/")


def test_large_arrays_stand_in_files_and_small_ones_do_not(room, tmp_path):
    small, before = np.arange(100), files_behind(tmp_path)
    large = np.arange(1 << 20)
    assert files_behind(tmp_path) == before + 1
    assert not list(tmp_path.iterdir())  # nothing that a killed run would leave
    assert small.sum() == 4950
    assert large[-1] == (1 << 20) - 1


def test_cells_are_there_again_after_all_pages_were_let_go_of(room):
    made = np.arange(1 << 20)
    zeros = np.zeros(1 << 18, np.int32)
    made[7] = -1
    for _ in MAPPINGS.let_go():
        pass
    assert made[7] == -1
    assert np.array_equal(made[8:], np.arange(8, 1 << 20))
    assert not zeros.any()


def test_pages_of_memory_that_was_freed_meanwhile_are_left_alone(room):
    """What stands at an address after an array was freed there is not an array's any more."""
    for _ in range(50):
        gone = np.full(1 << 18, 7, np.int64)
        regions = dict(MAPPINGS._lent)
        del gone
        other = bytearray(os.urandom(1 << 20)) * 2  # may well be given the same place
        before = bytes(other)
        for address, size in regions.items():
            MAPPINGS._advise_lent(address, address, size)
        assert bytes(other) == before


def test_arrays_that_grow_and_shrink_keep_their_cells(room):
    made = np.arange(1 << 16)
    made.resize(1 << 18, refcheck=False)
    assert np.array_equal(made[: 1 << 16], np.arange(1 << 16))
    made.resize(1 << 10, refcheck=False)
    assert np.array_equal(made, np.arange(1 << 10))


def test_arrays_may_be_freed_while_an_exception_is_on_its_way(room):
    def fails():
        held = np.arange(1 << 18)
        raise ValueError(str(held[-1]))

    for _ in range(20):
        with pytest.raises(ValueError, match="262143"):
            fails()
    gc.collect()


def test_threads_work_in_the_same_room(room, tmp_path):
    made = list(map_ordered(lambda n: np.full(1 << 18, n), range(4)))
    assert files_behind(tmp_path) >= 4
    assert [int(one[0]) for one in made] == [0, 1, 2, 3]


def test_an_array_outlives_the_room(tmp_path):
    with within_job(memory=MemoryBudget(1 << 20, lambda: tmp_path, large=LARGE)):
        reserve_memory(1 << 30)
        array, column = np.arange(1 << 18), build_column([pa.array(["x" * 100] * 5000)])
    assert current_job().spilling is None
    assert array[-1] == (1 << 18) - 1
    assert column[4999].as_py() == "x" * 100
    assert np.arange(1 << 20).sum() == (1 << 20) * ((1 << 20) - 1) // 2  # made as ever


def test_a_full_scratch_folder_is_an_error_that_says_so(tmp_path, monkeypatch):
    def full(number, begin, size):
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(store_arrays, "_reserve", full)
    with (
        pytest.raises(ScratchError, match="No space left") as refused,
        within_job(memory=MemoryBudget(1 << 20, lambda: tmp_path, large=LARGE)),
    ):
        reserve_memory(1 << 30)
        np.arange(1 << 20)
    assert Setting("scratch", "DIR") in refused.value.remedy.settings
    assert refused.value.where == str(tmp_path)


def test_room_is_looked_for_before_the_work_begins(tmp_path):
    with (
        within_job(memory=MemoryBudget(1 << 20, lambda: tmp_path)),
        pytest.raises(ScratchError) as no,
    ):
        reserve_memory(1 << 60)
    assert "GB are needed" in str(no.value)


def test_a_small_job_takes_no_folder():
    def never() -> Path:
        raise AssertionError

    with within_job(memory=MemoryBudget(1 << 30, never)):
        reserve_memory(1 << 20)
        assert current_job().spilling is None


def test_an_interrupt_that_comes_while_numpy_asks_for_memory_is_not_lost(room, monkeypatch):
    """It comes a moment later, as an exception that goes its way."""
    real = room._arrays._usual_malloc

    def interrupted(context, size):
        if size == 1 << 20:
            signal.raise_signal(signal.SIGINT)
        return real(context, size)

    monkeypatch.setattr(room._arrays, "_usual_malloc", interrupted)
    before = signal.getsignal(signal.SIGINT)
    as_before = store_arrays.defer_signals_during_allocation(room._arrays.codes)
    try:
        with pytest.raises(KeyboardInterrupt):
            made = np.empty(1 << 20, np.uint8)
            made[:] = 3
            end = time.monotonic() + 10
            while time.monotonic() < end:
                time.sleep(0.01)
        assert made[-1] == 3
    finally:
        as_before()
    assert signal.getsignal(signal.SIGINT) is before


CELLS = [
    [["a", "", None], ["ein längeres Wort"], [], ["ä"] * 30_000],
    [[1, None], [3] * 9000, [5]],
    [[True, None], [False] * 9000],
    [[1.5], [None] * 9000],
]


@pytest.mark.parametrize("wide", [False, True])
@pytest.mark.parametrize("pieces", CELLS)
def test_columns_come_back_as_they_were_put(room, pieces, wide):
    kind = pa.array([cell for piece in pieces for cell in piece]).type
    if kind == pa.string() and wide:
        kind = pa.large_string()
    arrays = [pa.array(piece, kind) for piece in pieces]
    column = pa.chunked_array(arrays).slice(1)
    assert build_column(column.chunks).to_pylist() == column.to_pylist()
    whole = combine_column_chunks(column)
    whole.validate(full=True)
    assert whole.type == kind and whole.to_pylist() == column.to_pylist()
    assert whole.slice(5).to_pylist() == column.to_pylist()[5:]


def test_a_shelf_in_a_file_has_the_rows_in_order(room):
    shelf = ColumnBuilder(["n", "text"])
    for start in range(0, 200_000, 5000):
        numbers = pa.array(range(start, start + 5000))
        shelf.append([numbers, numbers.cast(pa.string())])
    columns = shelf.finish()
    assert columns["n"].to_pylist() == list(range(200_000))
    assert columns["text"][199_999].as_py() == "199999"
    assert pa.total_allocated_bytes() < 8 << 20
    assert build_column([], pa.string()).to_pylist() == []


def test_pieces_of_several_types_are_kept_as_they_are(room):
    pieces = [pa.array(range(100_000)), pa.array(["x"] * 100_000), pa.array([None])]
    assert [piece.type for piece in build_chunks(pieces)] == [piece.type for piece in pieces]


def test_steps_make_what_the_whole_makes(room):
    cells = pa.array(range(2_500_000))
    assert apply_in_batches(lambda some: pa.compute.add(some, 1), cells).equals(
        pa.compute.add(cells, 1)
    )
    numbers = cells.to_numpy()
    assert np.array_equal(fill_in_batches(np.empty_like(numbers), np.negative, numbers), -numbers)


def test_what_grows_out_of_little_keeps_to_the_limit_too(tmp_path):
    """Few rows of two tables, each beside each: the row numbers go to files."""
    table = table_from_columns("t", {"n": list(map(str, range(700)))})
    with within_job(memory=MemoryBudget(1 << 20, lambda: tmp_path, large=LARGE)):
        joined = join(table, table.with_name("u"), kind="cross")
        assert files_behind(tmp_path) >= 2
        assert joined.table.rows == 490_000
        assert joined.table.take(np.array([489_999])).to_dict() == {"n": ["699"], "u.n": ["699"]}


def test_what_came_in_though_nothing_was_expected_goes_to_a_file(tmp_path):
    """As from standard input, of which nobody knows how much it will be."""
    with within_job(memory=MemoryBudget(1 << 20, lambda: tmp_path, large=LARGE)) as job:
        shelf = ColumnBuilder(["n"])
        for start in range(0, 500_000, 5000):
            shelf.append([pa.array(range(start, start + 5000)).cast(pa.string())])
        column = shelf.finish()["n"]
        assert job.memory.folder == tmp_path
        assert files_behind(tmp_path) >= 1
        assert column[499_999].as_py() == "499999"
