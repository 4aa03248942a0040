"""What is new is told from digests as it is from all cells, and from nothing that was changed."""

from __future__ import annotations

import csv
import json
import random
import shutil
from pathlib import Path

import numpy as np
import pyarrow.parquet
import pytest

from conftest import rows_of
from makers import Quiet
from plait.core.operations.comparison.row_digests import (
    are_rows_of_blocks,
    blocks_without_equal,
    digest_rows,
)
from plait.core.table.table import table_from_columns
from plait.plan import run as running
from plait.plan.handover import dataset_digests
from plait.plan.handover.read import open_handover_account
from plait.plan.runs import since_last_run

PLAN = """\
[source.visits]
path = "visits.csv"
{types}
[[step]]
mend = "visits"
{mend}
into = "season"
[handover]
result = "season"
formats = ["{ending}"]
{key}
{more}
"""
WARDENS = ("Ann", "Bob", "", "NA", 'x"y', "a\nb", "née", "  ", "a name of more than seven bytes")
WEIGHTS = ("12.50", "9", "", "12.5", "1e3", "7", "12.500")
DAYS = ("2031-04-05", "2031-04-06", "")


@pytest.fixture
def digested(monkeypatch):
    """Digests for tables of any size; a key is never sought where none is known."""
    monkeypatch.setattr(dataset_digests, "LEAST_DIGESTED", 0)
    for module in (dataset_digests, since_last_run):
        monkeypatch.setattr(module, "MOST_SEARCHED", -1)


def visits(draw: random.Random, numbers: range, unique: bool) -> list[list[str]]:
    most = max(len(numbers), 1)
    return [
        [
            str(n if unique else draw.randrange(most)),
            draw.choice(WARDENS),
            draw.choice(WEIGHTS),
            draw.choice(DAYS),
        ]
        for n in numbers
    ]


def later(draw: random.Random, rows: list[list[str]], how: str, unique: bool) -> list[list[str]]:
    """What became of the rows in a month."""
    rows = [list(row) for row in rows]
    more = visits(draw, range(len(rows), len(rows) + 20), unique)
    if how == "few":
        for row in draw.sample(rows, min(3, len(rows))):
            row[1], row[2] = draw.choice(WARDENS), draw.choice(WEIGHTS)
    if how == "many":
        for row in rows:
            row[2] = draw.choice(WEIGHTS)
    if how == "shuffle":
        draw.shuffle(rows)
    return {
        "append": rows + more,
        "front": more + rows,
        "drop": [row for row in rows if draw.random() < 0.9],
    }.get(how, rows)


def write(path: Path, rows: list[list[str]]) -> None:
    with path.open("w", newline="") as file:
        csv.writer(file).writerows([["id", "warden", "kg", "seen"], *rows])


def told(since, findings):
    """All that is said of what is new."""
    if since is None:
        return findings
    found = since.compared
    columns = [(c.name, c.cells, c.from_missing, c.to_missing, c.by) for c in found.columns]
    return found.changes, columns, found.findings, found.entry, since.by_source, findings


@pytest.mark.parametrize("seed", range(8))
@pytest.mark.usefixtures("digested")
def test_digests_tell_what_all_cells_tell(seed, tmp_path, monkeypatch):
    draw, by_digests = random.Random(seed), []
    compare = since_last_run.changes_since_last_run

    def both_ways(*asked):
        found = compare(*asked)
        with monkeypatch.context() as patch:

            def not_by_digests(*sides) -> None:
                by_digests.append(dataset_digests.compare_by_digests(*sides) is not None)

            patch.setattr(since_last_run, "compare_by_digests", not_by_digests)
            assert told(*found) == told(*compare(*asked)), (how, plan)
        return found

    monkeypatch.setattr(running, "changes_since_last_run", both_ways)
    for case in range(5):
        folder = tmp_path / str(case)
        folder.mkdir()
        size, unique = draw.choice([0, 1, 40, 900]), draw.random() < 0.7
        how = draw.choice(["none", "few", "few", "append", "front", "drop", "shuffle", "many"])
        types = ["", 'type = { kg = "decimal" }', 'type = { id = "text", kg = "text" }']
        mends = ['compute = { twice = "id" }', 'drop = ["seen"]', 'rename = { warden = "who" }']
        plan = PLAN.format(
            types=draw.choice(types),
            mend=draw.choice(mends),
            ending=draw.choice(["csv", "csv", "tsv", "parquet", "arrow"]),
            key='key = ["id"]' if draw.random() < 0.6 else "",
            more="keep = 1",
        )
        (folder / "p.toml").write_text(plan)
        rows = visits(draw, range(size), unique)
        write(folder / "visits.csv", rows)
        running.run_plan(folder / "p.toml", [], Quiet())
        write(folder / "visits.csv", later(draw, rows, how, unique))
        running.run_plan(folder / "p.toml", [], Quiet(), True)
        shutil.rmtree(folder)
    assert any(by_digests)


def season(folder: Path, more: str = "keep = 1") -> Path:
    """A plan that has run once on 2,000 visits, and its handover."""
    (folder / "p.toml").write_text(
        PLAN.format(types="", mend="", ending="csv", key='key = ["id"]', more=more)
    )
    write(folder / "visits.csv", [[str(n), "Ann", "7", ""] for n in range(2000)])
    running.run_plan(folder / "p.toml", [], Quiet())
    return folder / "handover"


def changed_source(folder: Path) -> None:
    write(
        folder / "visits.csv", [[str(n), "Ann", "8" if n == 77 else "7", ""] for n in range(2000)]
    )


def next_run(folder: Path):
    return running.run_plan(folder / "p.toml", [], Quiet(), True).story


@pytest.mark.usefixtures("digested")
def test_an_earlier_dataset_that_somebody_changed_is_not_compared(tmp_path):
    dataset = season(tmp_path) / "season.csv"
    dataset.write_text(dataset.read_text().replace("\n78,Ann,7", "\n78,Eve,7"))
    changed_source(tmp_path)
    story = next_run(tmp_path)
    assert story.changes is None
    assert "season.csv is another file" in story.account.findings[-1].message


@pytest.mark.usefixtures("digested")
@pytest.mark.parametrize("how", ["other", "none", "text", "rows"])
def test_digests_that_are_not_as_written_are_not_gone_by(how, tmp_path):
    path = season(tmp_path) / "digests.parquet"
    table = pyarrow.parquet.read_table(path)
    if how == "other":  # as a run of one row less would have written them
        pyarrow.parquet.write_table(table.slice(1), path)
    if how == "none":
        path.unlink()
    if how == "text":
        path.write_text("nothing of the kind")
    if how == "rows":
        descriptor = path.with_name("datapackage.json")
        said = json.loads(descriptor.read_text())
        pyarrow.parquet.write_table(table.slice(1), path)
        (one,) = (s for s in said["resources"] if s["path"] == path.name)
        one["hash"] = "sha256:" + dataset_digests.sha256(path)
        descriptor.write_text(json.dumps(said))
    changed_source(tmp_path)
    changes = next_run(tmp_path).changes.compared.changes
    assert (changes.rows_changed, changes.rows_equal) == (1, 1999)


@pytest.mark.usefixtures("digested")
@pytest.mark.parametrize(
    ("more", "kept"),
    [
        ("keep = 1", True),
        ('keep = 1\nwrite = { decimal = "," }', False),  # cells stand otherwise in the file
        ("keep = 0", False),  # nothing is compared
    ],
)
def test_digests_are_kept_where_the_next_run_goes_by_them(more, kept, tmp_path):
    assert (season(tmp_path, more=more) / "digests.parquet").exists() is kept


def wide(*cells: str):
    return table_from_columns("t", {str(n): [cell] for n, cell in enumerate(cells)})


@pytest.mark.parametrize(
    ("one", "other"),
    [
        (("aaaaaaabbbbbbb", "c"), ("aaaaaaa", "bbbbbbbc")),
        (("a", ""), ("", "a")),
        (("ab", "c"), ("a", "bc")),
        (("aaaaaaa\0", ""), ("aaaaaaa", "")),
    ],
)
def test_texts_that_are_cut_otherwise_have_other_digests(one, other):
    blocks = digest_rows(wide(*one)), digest_rows(wide(*other))
    assert [len(alone) for alone in blocks_without_equal(*blocks)] == [1, 1]


def test_blocks_are_cut_at_the_same_rows_whatever_stands_above():
    numbers = [str(n * n) for n in range(50_000)]
    old = digest_rows(table_from_columns("old", {"n": numbers}))
    new = digest_rows(table_from_columns("new", {"n": ["x", *numbers[:30_000], *numbers[30_001:]]}))
    alone = blocks_without_equal(old, new)
    gone, added = old.row_numbers(alone[0]), new.row_numbers(alone[1])
    assert 30_000 in gone
    assert 0 in added
    assert len(gone) + len(added) < 2_000
    assert int(old.rows.sum()) == 50_000


def test_rows_prove_to_be_those_of_blocks():
    numbers = [str(n * n) for n in range(3_000)]
    table = table_from_columns("old", {"n": numbers})
    old, new = digest_rows(table), digest_rows(table_from_columns("new", {"n": numbers[:2_000]}))
    alone, _ = blocks_without_equal(old, new)
    rows = old.row_numbers(alone)
    assert are_rows_of_blocks(table.take(rows), old, alone)
    assert not are_rows_of_blocks(table.take(rows[1:]), old, alone)
    assert not are_rows_of_blocks(table.take(np.roll(rows, 1)), old, alone)


def test_the_rows_of_a_dataset_are_not_those_of_what_was_set_aside(plait, put, tmp_path):
    put(visits_csv="hive,kg\n1,2\n2,3\n9,4\n8,1\n7,2\n", hives_csv="hive,yard\n1,Aue\n2,Moor\n")
    (tmp_path / "q.toml").write_text(
        '[source.visits]\npath = "visits.csv"\n[source.hives]\npath = "hives.csv"\n'
        '[[step]]\njoin = ["visits", "hives"]\nkey = "hive"\nkind = "inner"\ninto = "season"\n'
        '[handover]\nresult = "season"\n'
    )
    assert plait("run", "q.toml").status == 0
    account = open_handover_account(tmp_path / "handover")
    assert {output["rows"] for output in account.said["outputs"]} >= {2, 3}
    assert account.rows == len(rows_of(tmp_path / "handover" / "season.csv")) == 2
