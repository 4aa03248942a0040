"""A file that others read in stretches is the file that is read alone, or the same error."""

from __future__ import annotations

import random
import tempfile
from pathlib import Path

import pytest

from cases import cases
from company import in_company
from plait.core.base.errors import SourceError, WorkerPoolError
from plait.io.delimited.parallel_read import RecordFile, parse_range
from plait.io.delimited.parse import DelimitedSchema
from plait.io.delimited.read import read_delimited

PLAIN = ["", "a", "007", "12.50", "Aue", "ein längeres Wort", "1", "2"]
QUOTED = ['"two\nlines"', '"a,b"', '"say ""so"""', '""', '"\n\n"', '""""']
# What is wrong, or only looks so: a quote within a cell, text behind one, one that stays open.
ODD = ['5" pipe', 'a"b"', '"a"b', '"open', "a,b", "", "\0", "\udcff"]
ENDS = ["\n", "\r\n", "\r", "\n\n"]


def text(draw, odd):
    cells = PLAIN + QUOTED * draw.choice([0, 1, 3])
    end = draw.choice(ENDS)
    lines = [",".join(draw.choice(cells) for _ in range(3)) for _ in range(draw.choice([40, 200]))]
    for _ in range(odd):
        lines[draw.randrange(len(lines))] += draw.choice(ODD)
    return ("x,y,z" + end + end.join(lines) + draw.choice(["", end])).encode(
        "utf-8", "surrogateescape"
    )


def told(path, **options):
    try:
        with path.open("rb", buffering=0) as stream:
            table = read_delimited(stream, "t", path.name, ",", **options)
    except SourceError as error:
        return str(error)
    aside = [one.listed().to_dict() for one in table.set_aside]
    return table.to_dict(), table.findings, table.read_as, aside


@pytest.mark.parametrize("ragged", ["error", "set-aside"])
def test_what_others_read_is_what_is_there(ragged, tmp_path):
    shared = 0
    for seed in range(cases(120)):
        draw = random.Random(seed)
        path = tmp_path / f"{seed}.csv"
        path.write_bytes(text(draw, draw.choice([0, 0, 1, 2])))
        expected = told(path, ragged=ragged)
        with tempfile.TemporaryDirectory() as folder:
            with in_company(Path(folder), draw.choice([1 << 16, 1 << 18])) as company:
                ticks: list[int] = []
                assert told(path, ragged=ragged, on_progress=ticks.append) == expected, seed
                shared += company.calls
            assert not list(Path(folder).iterdir())
        path.unlink()
    assert shared > cases(120)


def test_a_worker_that_sees_another_file_is_told(tmp_path):
    path = tmp_path / "t.csv"
    path.write_text("x,y\n1,2\n")
    seen = path.stat()
    right = RecordFile(
        str(path), seen.st_size, seen.st_mtime_ns, 4, 1, DelimitedSchema(("x", "y"), ",", True), 9
    )
    for path_, size in ((str(path), 7), (str(tmp_path / "no.csv"), seen.st_size)):
        other = RecordFile(path_, size, right.changed, 4, 1, right.shape, 9)
        with pytest.raises(WorkerPoolError, match="all workers see them"):
            parse_range(other, None)
