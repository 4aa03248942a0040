"""A cell of a database is the same whether its table is read or a query asks for it."""

from __future__ import annotations

import pytest

import plait
from plait.core.base.errors import UsageError


def cells(address, how):
    """The texts of all cells of the table ``t``, read as a table or by a query."""
    if how == "table":
        table = plait.read(f"{address}#t")
    else:
        table = plait.read(address, query="SELECT * FROM t ORDER BY id")
    return {
        name: [None if cell is None else str(cell) for cell in table.chunks(name).to_pylist()]
        for name in table.column_names
    }


def test_postgres_gives_the_same_to_both(postgres):
    postgres.run(
        "CREATE DOMAIN euros AS money",
        "CREATE TABLE t (id int PRIMARY KEY, m money, e euros, o oid, n numeric(10,2), f real, "
        "d double precision, b bytea, a int[], u uuid, j jsonb, w timestamptz, i interval)",
        "INSERT INTO t VALUES (1, '$1,234.56', '$2.50', 4294967295, 12.50, 0.1, 0.1, '\\xff', "
        "'{1,2}', '00000000-0000-0000-0000-000000000001', '{\"a\": 1}', "
        "'2031-01-01 00:30+02', '1 day 02:00'), (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL, "
        "NULL, NULL, NULL, NULL, NULL)",
    )
    read = cells(postgres.address(), "table")
    assert read["m"] == ["$1,234.56", None] and read["o"] == ["4294967295", None]
    assert cells(postgres.address(), "query") == read
    postgres.run("DROP TABLE t", "DROP DOMAIN euros")


def test_mariadb_gives_the_same_to_both(mariadb):
    mariadb.run(
        "CREATE TABLE t (id int PRIMARY KEY, f float, d double, b bit(5), flag tinyint(1), "
        "n tinyint(1), k decimal(10,2), w datetime(3))",
        "INSERT INTO t VALUES (1, 0.1, 0.1, b'101', 1, 9, 12.50, '2031-01-01 08:00:00.250'), "
        "(2, 12.5, NULL, NULL, 0, 10, NULL, NULL), (3, NULL, 1e300, b'0', NULL, 0, 1, NULL)",
    )
    read = cells(mariadb.address(), "table")
    assert read["n"] == ["9", "10", "0"] and read["f"] == ["0.10000000149011612", "12.5", None]
    asked = cells(mariadb.address(), "query")
    assert {**asked, "flag": None} == {**read, "flag": None}
    assert plait.group(f"{mariadb.address()}#t", "", {"m": "max:n"}).table.to_dict() == {"m": [10]}
    mariadb.run("DROP TABLE t")


def test_which_rows_are_fetched_does_not_decide_what_a_cell_is(mariadb, tmp_path, monkeypatch):
    """A condition that the server decides must not make truths of numbers that are 0 and 1."""
    monkeypatch.chdir(tmp_path)
    mariadb.run("CREATE TABLE t (id int PRIMARY KEY, n tinyint(1))",
                "INSERT INTO t VALUES (1, 1), (2, 0), (3, 9)")  # fmt: skip
    (tmp_path / "p.toml").write_text(
        f'[source.t]\npath = "{mariadb.address()}#t"\n[[step]]\nmend = "t"\nwhere = "id < 3"\n'
        '[handover]\nresult = "t"\n'
    )
    plait.run("p.toml")
    assert (tmp_path / "handover" / "t.csv").read_text().split() == ["id,n", "1,1", "2,0"]
    mariadb.run("DROP TABLE t")


def test_a_table_named_beside_a_query_is_what_to_leave_out(postgres):
    with pytest.raises(UsageError, match="a query replaces the table") as refused:
        plait.read(f"{postgres.address()}#hives", query="SELECT 1 AS one")
    assert refused.value.remedy == "leave out #hives"
