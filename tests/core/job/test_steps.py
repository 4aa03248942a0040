"""What is made step by step is what is made in one go, whatever the number of rows."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pytest

from plait.core.job import spill_columns
from plait.core.job.current import Job, current_job, within_job
from plait.core.job.memory import MemoryBudget


@pytest.mark.parametrize("rows", [0, 1, 7, 8, 9, 24, 25])
def test_steps_give_what_one_go_gives(rows, monkeypatch, tmp_path):
    monkeypatch.setattr(spill_columns, "_STEP", 8)
    low, high = np.arange(rows), np.arange(rows)[::-1].copy()
    assert spill_columns.fill_in_batches(
        np.empty(rows, int), np.subtract, low, high
    ).tolist() == list(low - high)
    here, there = pa.array(low), pa.array(high)
    whole = pc.subtract(here, there)
    assert spill_columns.apply_in_batches(pc.subtract, here, there).equals(whole)
    with within_job(memory=MemoryBudget(1 << 30, lambda: tmp_path)) as job:
        job.memory.start_spilling()
        assert spill_columns.apply_in_batches(pc.subtract, here, there).equals(whole)
        assert spill_columns.apply_in_batches(pc.subtract, here, there).type == whole.type


def test_a_reader_that_ends_after_its_job_brings_back_nothing_of_it(tmp_path):
    def reader():
        with within_job(databases="a session"):
            yield current_job()

    with within_job(memory=MemoryBudget(1 << 30, lambda: tmp_path)) as job:
        reading = reader()
        assert next(reading).memory is job.memory
    assert current_job().memory is None
    reading.close()
    assert current_job() == Job()
