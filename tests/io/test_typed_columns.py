"""Columns of every Arrow type through every verb: a result or a clear error, and no other end."""

from __future__ import annotations

import re
import uuid
from pathlib import Path

import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet
import pytest

import plait
from odd_types import COLUMNS, ROWS

pytestmark = pytest.mark.slow

COMPUTED = {
    "z": "v * 2 + 1 / v", "y": "FLOOR(v)", "x": "CAST(v AS INTEGER)", "w": "CAST(v AS DOUBLE)",
    "u": "CAST(v AS DECIMAL(10, 2))", "s": "v || 'x'", "r": "ROUND(v, 1)", "q": "v > 1",
}  # fmt: skip
FIGURES = (
    "sum", "mean", "middle", "spread", "share", "smallest", "largest", "count", "distinct",
    "commonest", "first",
)  # fmt: skip


def _calls(cells):
    table = pa.table({"k": ["x", "x", "y"], "v": cells})
    other = table.rename_columns(["k", "u"])
    yield lambda: plait.survey([table])
    yield lambda: plait.keys([table, table], "v")
    yield lambda: plait.join(table, table, key="v", cardinality="many-to-many")
    yield lambda: plait.join(table, other, key="k", nearest="v=u:either")
    yield lambda: plait.join(table, {"k": ["x", "y"], "v": ["7", "8"]}, key="k", prefer="left")
    yield lambda: plait.stack([table, {"k": ["z"], "v": ["text"]}], distinct=True)
    yield lambda: plait.widen({"a": ["1", "2", "3"], "h": cells, "v": [1, 2, 3]}, "h", "v", key="a")
    yield lambda: plait.lengthen(table, "h", "c", columns="v", without_missing=True)
    yield lambda: plait.group(table, "v", {"n": "count"})
    yield lambda: plait.group(table, "v:month", {"n": "count"})
    yield lambda: plait.group(table, "k", {"r": "rank:v"}, onto_rows=True)
    yield lambda: plait.settle(table, "k", rule={"v": "max"})
    yield lambda: plait.settle(table, "k")
    yield lambda: plait.mend(table, sort=["v desc"])
    yield lambda: plait.mend(table, type={"v": "text"})
    yield lambda: plait.mend(table, type={"v": "decimal"}, unfit="missing")
    yield lambda: plait.mend(table, fill={"v": "0"})
    for figure in FIGURES:
        yield lambda figure=figure: plait.group(table, "k", {"f": f"{figure}:v"})
    for name, text in COMPUTED.items():
        yield lambda name=name, text=text: plait.mend(table, compute={name: text})


@pytest.mark.parametrize("kind", COLUMNS)
@pytest.mark.filterwarnings("error")
def test_every_verb_ends_well(kind):
    done = 0
    for call in _calls(COLUMNS[kind]):
        try:
            made = call()
        except plait.PlaitError as error:
            assert error.what
            continue
        if hasattr(made, "table"):
            made.table.to_dict()
        done += 1
    fields = kind.startswith(("struct ", "dictionary 3"))  # of which each is a column
    assert done >= (3 if fields else 10)


@pytest.mark.parametrize("kind", COLUMNS)
@pytest.mark.parametrize("ending", ["csv", "parquet", "arrow", "json", "jsonl", "xlsx", "sqlite"])
def test_every_format_takes_it_and_gives_it_back(tmp_path, kind, ending):
    made = plait.mend({"k": ["x", "x", "y"], "v": COLUMNS[kind]}).table
    target = tmp_path / f"t.{ending}"
    plait.write(made, target)
    again = plait.read(target)
    assert again.rows == 3 and again.column_names == made.column_names
    for name in made.column_names:
        before, after = made.chunks(name), again.chunks(name)
        absent = [cell is None or cell == "" for cell in before.to_pylist()]
        given_back = [not cell and cell != 0 for cell in after.to_pylist()]
        assert given_back == absent or kind.startswith("bool")


def test_the_documents_tell_what_each_type_is_read_as():
    text = (Path(__file__).parents[2] / "docs" / "types.md").read_text()
    told = dict(re.findall(r"^\| (.+?) \| (.+?) \|", text, re.MULTILINE))
    for row, columns in ROWS.items():
        for column in columns:
            found = {str(one.type) for one in plait.mend({"v": column}).table.to_arrow().columns}
            said = {one.strip("` ") for one in told[row].split(", ")}
            assert {_plain(one) for one in found} <= said, (row, found)


def _plain(kind: str) -> str:
    """A type without its numbers: ``decimal128(38, 3)`` is a decimal."""
    word = re.match("[a-z]+", kind)[0]
    return {"u": "uint"}.get(word, word)


def test_a_table_without_columns_is_refused(tmp_path):
    pa.parquet.write_table(pa.table({}), tmp_path / "none.parquet")
    with pytest.raises(plait.SourceError, match="no columns"):
        plait.read(tmp_path / "none.parquet")


def test_types_of_arrow_that_are_stored_as_others_are_read_as_what_they_mean(tmp_path):
    number = uuid.UUID("a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11")
    stored = pa.array([number.bytes, None], pa.binary(16))
    cells = {
        "id": pa.ExtensionArray.from_storage(pa.uuid(), stored),
        "seen": pa.ExtensionArray.from_storage(pa.bool8(), pa.array([1, 0], pa.int8())),
        "yard": pa.array(["Aue", "Moor"]).dictionary_encode(),
    }
    pyarrow.feather.write_feather(pa.table(cells), tmp_path / "t.arrow", "uncompressed")
    found = plait.read(tmp_path / "t.arrow")
    assert found.to_dict() == {
        "id": [str(number), None],
        "seen": [True, False],
        "yard": ["Aue", "Moor"],
    }
