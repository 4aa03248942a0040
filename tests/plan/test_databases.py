"""Plans whose tables are in a database, and whose result goes to one."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import sys
from contextlib import closing
from dataclasses import replace

import pytest

import plait
from plait.core.expressions.expression import parse_expression
from plait.core.operations.mend import mend
from plait.io.places.source import FetchSubset
from plait.io.read import read_source
from plait.io.sources import find_one_source

PLAN = """
[source.orders]
path = "{address}#orders"
[source.hives]
path = "hives.csv"
[[step]]
mend = "orders"
keep = ["id", "hive", "kg"]
where = '''kg > 2 AND year = 2031 AND UPPER("note") <> 'X' '''
[[step]]
join = ["orders", "hives"]
key = ["hive"]
into = "season"
[expect]
unique = {{ season = ["id"] }}
[describe]
kg = "honey, in kilograms"
[handover]
result = "season"
database = "{address}#season"
"""


@pytest.fixture
def orders(server, tmp_path, plait):
    """A server with orders, the hives in a file, and a plan of both."""
    server.run(
        "CREATE TABLE orders (id int PRIMARY KEY, year int, hive varchar(9), kg numeric(8,2), "
        "note varchar(20), more varchar(99))",
        "INSERT INTO orders VALUES (4, 2031, 'A', 5.00, 'a', ''), (2, 2031, 'B', 3.50, 'x', ''), "
        "(9, 2030, 'A', 7.25, 'a', ''), (7, 2031, 'C', 1.00, 'a', ''), "
        "(5, 2031, 'Z', 2.50, 'a', '')",
    )
    (tmp_path / "hives.csv").write_text("hive,breed\nA,Carnica\nB,Buckfast\n")
    (tmp_path / "plan.toml").write_text(PLAN.format(address=server.address(password="${KEEPER}")))
    return server


@pytest.fixture
def run(plait, monkeypatch):
    """The program, with the password in the environment."""
    from servers import PASSWORD

    monkeypatch.setenv("KEEPER", PASSWORD)
    return plait


@pytest.mark.slow
def test_what_the_plan_never_uses_stays_there_and_is_accounted_for(orders, run):
    ended = run("check", "plan.toml", "--json")
    found = ended.finding("fetched-in-part")
    assert found["count"] == 2 and "4 of its 6 columns" in found["message"].replace("5 of", "4 of")
    assert "kg > 2" in found["message"] and "UPPER" not in found["message"]
    reading = ended.json["ledger"][0]
    assert reading["rows_in"] == {"orders": 5} and reading["rows_out"] == 3
    assert [line["rows"] for line in reading["lines"]] == [5, -2]
    mended = ended.json["ledger"][1]
    assert mended["rows_out"] == 2


@pytest.mark.slow
@pytest.mark.parametrize(
    ("source", "step", "expected"),
    [
        ('path = "{a}#orders"', 'drop = ["note", "more"]\nwhere = "kg > 4"', "id,year,hive,kg"),
        ('path = "{a}"\nquery = "SELECT id, kg, note FROM orders"', 'keep = ["id"]', "id"),
        ('path = "{a}"\nquery = "SELECT id, kg FROM orders"', 'where = "kg > 4"', "id,kg"),
    ],
)
def test_what_is_dropped_or_asked_for_is_taken_as_it_is(
    orders, run, tmp_path, source, step, expected
):
    """The result is what a file with the same rows gives, whatever of it is fetched."""
    address = orders.address(password="${KEEPER}")
    asked = source.format(a=address)
    (tmp_path / "p.toml").write_text(
        f'[source.t]\n{asked}\n[[step]]\nmend = "t"\n{step}\n[handover]\nresult = "t"\n'
    )
    ended = run("run", "p.toml")
    assert ended.status == 0, ended.err
    lines = (tmp_path / "handover/t.csv").read_text().splitlines()
    assert lines[0] == expected
    assert len(lines) == (3 if "where" in step else 6)


def test_a_condition_that_a_dialect_is_not_asked_is_not_said_to_be(tmp_path, plait):
    with closing(sqlite3.connect(tmp_path / "field.db")) as base, base:
        base.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER, note TEXT)")
        base.execute("INSERT INTO t VALUES (1, 5, 'a'), (2, 1, 'b')")
    (tmp_path / "p.toml").write_text(
        f'[source.t]\npath = "sqlite:///{tmp_path}/field.db#t"\n'
        '[[step]]\nmend = "t"\nkeep = ["id"]\nwhere = "n > 2"\n[handover]\nresult = "t"\n'
    )
    found = plait("check", "p.toml", "--json").finding("fetched-in-part")
    assert "2 of its 3 columns" in found["message"] and "where" not in found["message"]


def test_the_result_stands_in_the_folder_and_in_the_database(orders, run, tmp_path):
    ended = run("run", "plan.toml")
    assert ended.status == 0, ended.err
    text = (tmp_path / "handover/season.csv").read_text()
    assert text == "id,hive,kg,breed\n4,A,5.00,Carnica\n5,Z,2.50,\n"
    table = plait.read(f"{orders.address()}#season")
    assert [str(place) for place in table.source_rows(0)] == ["season id=4"]
    kind = "SELECT col_description('season'::regclass, 3)"
    if orders.scheme == "mysql":
        kind = (
            "SELECT column_comment FROM information_schema.columns "
            "WHERE table_name = 'season' AND column_name = 'kg'"
        )
    assert orders.run(kind) == "honey, in kilograms\n"
    outputs = json.loads((tmp_path / "handover/ledger.json").read_text())["outputs"]
    assert any(one["path"].endswith("#season") and one["rows"] == 2 for one in outputs)
    again = run("run", "plan.toml")
    assert again.status == 4
    assert run("run", "plan.toml", "--replace").status == 0


def test_nothing_is_in_the_database_where_an_expectation_fails(orders, run, tmp_path):
    plan = tmp_path / "plan.toml"
    plan.write_text(plan.read_text().replace("[expect]", '[expect]\nrows = "season > 99"'))
    assert run("run", "plan.toml").status == 1
    assert "season" not in orders.run("SELECT table_name FROM information_schema.tables")
    assert not (tmp_path / "handover").exists()


_KILLED = """
import os, sys
from plait.io.database import mysql_writer, postgres_writer
for kind in (postgres_writer.PostgresWriter, mysql_writer.MySqlWriter):
    def commit(self, own=kind.commit):
        if sys.argv[1] == "after":
            own(self)
        os._exit(9)
    kind.commit = commit
from plait.cli.main import run_command_line
run_command_line(sys.argv[2:])
"""


@pytest.mark.slow
@pytest.mark.parametrize(
    ("server", "when"),
    [("postgres", "before"), ("postgres", "after"), ("mariadb", "after")],
    indirect=["server"],
)
def test_folder_and_table_are_of_one_run_also_when_it_is_killed(orders, run, tmp_path, when):
    """Killed as the transaction ends: before, neither is there; after, the next run finishes it."""
    ended = subprocess.run(
        [sys.executable, "-c", _KILLED, when, "run", "plan.toml"], cwd=tmp_path, check=False
    )
    assert ended.returncode == 9
    again = run("run", "plan.toml")
    if when == "before":
        assert again.status == 0, again.err
    else:
        assert again.status == 4 and "already exists" in again.err
    assert (tmp_path / "handover/season.csv").read_text().startswith("id,hive,kg,breed\n4,A,")
    assert plait.read(f"{orders.address()}#season").rows == 2
    assert [path for path in tmp_path.iterdir() if path.name.startswith(".")] == []


@pytest.mark.slow
def test_rows_are_traced_by_their_keys_and_changes_are_told(orders, run):
    assert run("run", "plan.toml").status == 0
    traced = run("trace", "handover", "--row", "1", "--row", "2", "--json").json
    rows = traced["rows"]
    assert [row["places"][0] for row in rows] == [["orders", "id=4"], ["orders", "id=5"]]
    assert traced["changed"] == []
    (kg,) = [cell for cell in rows[0]["cells"] if cell["column"] == "kg"]
    assert kg["origins"][0]["row"] == "id=4" and kg["origins"][0]["text"] == "5.00"
    orders.run(
        "UPDATE orders SET kg = 6 WHERE id = 4",
        "UPDATE orders SET more = 'not fetched' WHERE id = 5",
        "INSERT INTO orders VALUES (1, 2031, 'A', 9, 'a', '')",
    )
    traced = run("trace", "handover", "--row", "1", "--row", "2", "--json").json
    assert traced["changed"] == ["orders id=4 has changed since the run; its present text is shown"]
    (kg,) = [cell for cell in traced["rows"][0]["cells"] if cell["column"] == "kg"]
    assert kg["value"] == "5.00" and kg["origins"][0]["text"] == "6.00"
    orders.run("DELETE FROM orders WHERE id = 5")
    traced = run("trace", "handover", "--row", "2", "--json").json
    assert traced["changed"] == ["orders id=5 no longer exists"]


def test_set_aside_rows_name_their_keys(orders, run, tmp_path):
    assert run("run", "plan.toml").status == 0
    (unmatched,) = (tmp_path / "handover/aside").glob("*orders-unmatched*")
    assert ",orders,id=5,5,Z,2.50" in unmatched.read_text()


@pytest.mark.slow
def test_pushed_conditions_give_what_the_plan_gives_of_files(server, tmp_path):
    """Every condition twice: on the table in the database, and on the same rows in a file."""
    server.run(
        "CREATE TABLE t (id int PRIMARY KEY, n int, d numeric(6,2), b boolean, day date, "
        "s varchar(9))",
        "INSERT INTO t VALUES (1, 5, 1.50, true, '2031-04-05', 'a'), "
        "(2, NULL, NULL, NULL, NULL, NULL), "
        "(3, -2, 0.00, false, '2030-01-01', 'A'), (4, 7, 9.99, true, '2031-12-31', ''), "
        "(5, 5, -1.00, false, '2031-04-05', 'a ')",
    )
    source, pushes = find_one_source(f"{server.address()}#t"), []
    plait.write(read_source(source), tmp_path / "t.parquet")
    whole = plait.read(tmp_path / "t.parquet")
    for condition in (
        "n > 2",
        "n <> 5",
        "NOT (n > 2)",
        "n IN (5, -2)",
        "n BETWEEN -2 AND 5",
        "d >= 1.5",
        "d < -0.5 OR n = 7",
        "b",
        "NOT b",
        "b = TRUE AND n = 5",
        "n IS NULL",
        "NOT (day IS NULL)",
        "day >= DATE '2031-04-05'",
        "day BETWEEN DATE '2030-01-01' AND DATE '2031-04-05' AND d > 0",
        "s = 'a'",
        "s IN ('a', 'A')",
        "NOT (s = 'a')",
        "s <> 'a'",
        "s = 'a' OR n = 7",
        "n = 5 AND LOWER(s) = 'a'",
        "n > d",
        "n + 1 > 5",
    ):
        pushed = read_source(
            replace(source, subset=FetchSubset((), parse_expression(condition).tree))
        )
        kept = [mend(table, where=condition).table.to_dict() for table in (pushed, whole)]
        assert kept[0] == kept[1], condition
        pushes.append(pushed.rows < whole.rows)
    assert sum(pushes) > 10
