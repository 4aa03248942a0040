"""Joins of tables in a database: what the same tables give when they are in files."""

from __future__ import annotations

import random

import pytest

import plait
from cases import cases
from judging.joins import KINDS, random_tables, row_pairs
from plait.core.base.errors import PlaitError
from plait.core.operations.join import join
from plait.core.table.table import table_from_columns
from plait.core.types.column_type import TEXT


def _put(server, name: str, columns: dict, kinds: dict[str, str]) -> None:
    """A table with a number for each row, by the server's own client and not by Plait."""
    declared = ", ".join(f'"{column}" {kinds[column]}' for column in columns)
    server.run(f'CREATE TABLE "{name}" (no int PRIMARY KEY, {declared})')
    rows = list(zip(*columns.values(), strict=True))
    if rows:
        said = ", ".join(
            f"({number}, {', '.join(map(_literal, row))})" for number, row in enumerate(rows)
        )
        server.run(f'INSERT INTO "{name}" VALUES {said}')


def _literal(cell: str | None) -> str:
    return "NULL" if cell is None else "'" + cell.replace("'", "''") + "'"


@pytest.mark.parametrize("number", range(max(6, cases(60))))
def test_a_join_of_tables_gives_what_files_give(postgres, number):
    rng = random.Random(number)
    left, right, keys = random_tables(rng)
    kind = rng.choice([kind for kind in KINDS if kind != "cross"])
    sides = {"left": left, "right": right}
    # A key of whole numbers on both sides is one in the database too; all else is text there.
    whole = {
        key
        for key in keys
        if all(
            cell is None or (cell.lstrip("-").isdecimal() and str(int(cell)) == cell)
            for side in sides.values()
            for cell in side[key]
        )
    }
    in_base = rng.choice([("left", "right"), ("left",), ("right",)])
    tables = []
    for name, columns in sides.items():
        kinds = {column: "bigint" if column in whole else "text" for column in columns}
        declared = {column: None if column in whole else TEXT for column in columns}
        file = table_from_columns(
            name,
            {
                "no": list(map(str, range(len(left["p"] if name == "left" else right["q"])))),
                **columns,
            },
        )
        file = file.with_types(declared)
        if name in in_base:
            _put(postgres, name, columns, kinds)
            tables.append((file, plait.read(f"{postgres.address()}#{name}")))
        else:
            tables.append((file, file))
    results = []
    for pair in zip(*tables, strict=True):
        try:
            results.append(join(*pair, key=keys, kind=kind, cardinality="many-to-many"))
        except PlaitError as error:
            results.append(str(error))
    of_files, of_tables = results
    assert row_pairs(of_tables.table) == row_pairs(of_files.table)
    assert of_tables.match == of_files.match and of_tables.entries == of_files.entries
    expected, found = of_files.table.to_dict(), of_tables.table.to_dict()
    assert list(found) == list(expected)
    for name in expected:
        assert [_said(one) for one in found[name]] == [_said(one) for one in expected[name]], name


def _said(cell: object) -> str:
    return "" if cell is None else str(cell)
