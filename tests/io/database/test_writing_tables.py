"""Tables written into PostgreSQL and MariaDB: whole or not at all, and nothing else touched."""

from __future__ import annotations

import random
import threading
import time
from decimal import Decimal

import pyarrow as pa
import pytest

import plait
from cases import cases
from killed import calls_of, kill_at, spread
from odd_cells import random_table
from plait.core.base.errors import OutputError

HIVES = {"yard": ["A", "B"], "hive": ["1", "2"], "kg": ["12.50", ""]}


@pytest.fixture
def plait_in(plait):
    """The program, in the temporary folder."""
    return plait


def _hives(tmp_path, rows: str = "yard,hive,kg\nA,1,12.50\nB,2,\n"):
    (tmp_path / "hives.csv").write_text(rows)
    return tmp_path / "hives.csv"


def _types(server, table: str) -> dict[str, str]:
    schema = "current_schema()" if server.scheme == "postgresql" else "database()"
    kind = "data_type" if server.scheme == "postgresql" else "column_type"
    said = server.run(
        f"SELECT column_name, {kind} FROM information_schema.columns "
        f"WHERE table_schema = {schema} AND table_name = '{table}' ORDER BY ordinal_position"
    )
    return dict(line.replace("\t", "|").split("|") for line in said.splitlines())


def _tables(server) -> list[str]:
    schema = "current_schema()" if server.scheme == "postgresql" else "database()"
    return server.run(
        f"SELECT table_name FROM information_schema.tables WHERE table_schema = {schema} "
        "ORDER BY table_name"
    ).split("\n")[:-1]


@pytest.mark.parametrize("number", range(max(4, cases(40))))
def test_random_tables_come_back_as_they_were(server, number):
    table = random_table(random.Random(number), server.scheme)
    plait.write(table, f"{server.address()}#there")
    back = plait.read(f"{server.address()}#there")
    assert back.column_names == table.column_names
    expected, found = table.to_dict(), back.to_dict()
    for name in expected:
        assert found[name] == expected[name], name
        assert [type(one) for one in found[name]] == [type(one) for one in expected[name]]


def test_texts_become_the_types_found_for_them(server, tmp_path, plait_in):
    _hives(tmp_path, "id,kg,seen,calm,note\n007,12.5,2031-04-05,true,\n08,3,,false,x\n")
    assert plait_in("mend", "hives.csv", "--out", f"{server.address()}#hives").status == 0
    postgres = server.scheme == "postgresql"
    assert _types(server, "hives") == (
        {"id": "text", "kg": "numeric", "seen": "date", "calm": "boolean", "note": "text"}
        if postgres
        else {
            "id": "longtext",
            "kg": "decimal(18,1)",
            "seen": "date",
            "calm": "tinyint(1)",
            "note": "longtext",
        }
    )
    assert plait.read(f"{server.address()}#hives").to_dict()["kg"] == [
        Decimal("12.5"),
        Decimal("3.0"),
    ]


def test_a_table_is_replaced_only_when_that_is_asked_and_no_other(server, tmp_path, plait_in):
    server.run(
        "CREATE TABLE season (id int)",
        "CREATE TABLE other (id int)",
        "INSERT INTO other VALUES (1)",
    )
    _hives(tmp_path)
    out = f"{server.address()}#season"
    refused = plait_in("mend", "hives.csv", "--out", out)
    assert refused.status == 4 and "already exists" in refused.err and "--append" in refused.err
    assert _tables(server) == ["other", "season"]
    assert plait_in("mend", "hives.csv", "--out", out, "--replace").status == 0
    assert _tables(server) == ["other", "season"]
    assert server.run("SELECT count(*) FROM season", "SELECT count(*) FROM other") == "2\n1\n"


def test_a_key_that_is_known_to_be_unique_is_the_primary_key(server, tmp_path, plait_in):
    _hives(tmp_path, "yard,hive,kg\nA,1,12.50\nA,1,12.50\nB,2,\n")
    out = f"{server.address()}#season"
    assert plait_in("settle", "hives.csv", "--key", "yard,hive", "--out", out).status == 0
    found = plait.read(out)
    assert [str(place) for place in found.source_rows(0)] == ["season yard=A,hive=1"]


def test_rights_and_indexes_stay_when_a_table_is_replaced(postgres, tmp_path, plait_in):
    _hives(tmp_path)
    out = f"{postgres.address()}#season"
    assert plait_in("mend", "hives.csv", "--out", out).status == 0
    postgres.run("GRANT SELECT ON season TO PUBLIC", "CREATE INDEX by_kg ON season (kg)")
    assert plait_in("mend", "hives.csv", "--out", out, "--replace").status == 0
    assert "=r/keeper" in postgres.run("SELECT relacl FROM pg_class WHERE relname = 'season'")
    assert postgres.run("SELECT indexname FROM pg_indexes WHERE tablename = 'season'") == "by_kg\n"


def test_a_table_that_a_view_shows_is_not_dropped(postgres, tmp_path, plait_in):
    _hives(tmp_path)
    out = f"{postgres.address()}#season"
    assert plait_in("mend", "hives.csv", "--out", out).status == 0
    postgres.run("CREATE VIEW shown AS SELECT * FROM season")
    refused = plait_in("mend", "hives.csv", "--out", out, "--replace")
    assert refused.status == 4 and "depend" in refused.err
    assert _tables(postgres) == ["season", "shown"]
    assert postgres.run("SELECT count(*) FROM season") == "2\n"


def test_a_source_is_never_written_to_however_it_is_named(server, tmp_path, plait_in):
    server.run("CREATE TABLE hives (id int)", "INSERT INTO hives VALUES (1)")
    here = server.address()
    for source in (
        here,
        here.replace("127.0.0.1", "localhost") if server.scheme == "postgresql" else here,
    ):
        for how in ("--replace", "--append"):
            refused = plait_in("mend", f"{source}#hives", "--out", f"{here}#hives", how)
            assert refused.status == 4 and "is a source" in refused.err, refused.err
    asked = plait_in(
        "mend",
        f"x={here}",
        "--query",
        "x=SELECT * FROM hives",
        "--out",
        f"{here}#hives",
        "--replace",
    )
    assert asked.status == 4 and "names this table" in asked.err
    assert server.run("SELECT count(*) FROM hives") == "1\n"


def test_rows_are_added_to_a_table_of_the_same_shape(server, tmp_path, plait_in):
    _hives(tmp_path)
    out = f"{server.address()}#season"
    assert plait_in("mend", "hives.csv", "--out", out, "--append").status == 0
    assert plait_in("mend", "hives.csv", "--out", out, "--append").status == 0
    assert server.run("SELECT count(*) FROM season") == "4\n"
    (tmp_path / "hives.csv").write_text("yard,hive,Kg,more\nA,x,1.125,\n")
    refused = plait_in("mend", "hives.csv", "--out", out, "--append")
    assert refused.status == 4
    for said in ("hive is", "no column Kg (did you mean kg?)", "no column more", "it also has kg"):
        assert said in refused.err, refused.err
    (tmp_path / "hives.csv").write_text("yard,hive,kg\nA,1,1.125\n")
    rounded = plait_in("mend", "hives.csv", "--out", out, "--append")
    assert rounded.status == 4 and "kg is" in rounded.err
    assert server.run("SELECT count(*) FROM season") == "4\n"
    assert _tables(server) == ["season"]


def test_no_space_is_cut_off_where_a_text_is_too_long(server, tmp_path, plait_in):
    """Servers cut spaces off at the end, and say nothing."""
    server.run("CREATE TABLE season (yard varchar(2), kg bigint)")
    for cell in ("CU  ", "CUL"):
        _hives(tmp_path, f"yard,kg\nSO,1\n{cell},7\n")
        refused = plait_in("mend", "hives.csv", "--out", f"{server.address()}#season", "--append")
        assert (
            refused.status == 4
            and f"row 2, column yard: the database cannot store {cell!r}" in (refused.err)
        )
    assert server.run("SELECT count(*) FROM season") == "0\n"


def test_a_column_that_fills_itself_may_be_there_besides(server, tmp_path, plait_in):
    filled = (
        "int GENERATED ALWAYS AS IDENTITY"
        if server.scheme == "postgresql"
        else "int AUTO_INCREMENT"
    )
    server.run(
        f"CREATE TABLE season (id {filled} PRIMARY KEY, yard varchar(9), hive bigint, "
        "kg numeric(18,4))"
    )
    _hives(tmp_path)
    ended = plait_in("mend", "hives.csv", "--out", f"{server.address()}#season", "--append")
    assert ended.status == 0, ended.err
    assert server.run("SELECT max(id) FROM season") == "2\n"


def test_what_is_set_aside_goes_to_tables_beside_it(server, tmp_path, plait_in):
    _hives(tmp_path)
    (tmp_path / "kg.csv").write_text("yard,hive,more\nA,1,x\n")
    out = f"{server.address()}#season"
    words = ("join", "hives.csv", "kg.csv", "--key", "yard,hive", "--kind", "inner", "--out", out)
    ended = plait_in(*words, "--aside", "#season_")
    assert ended.status == 0, ended.err
    assert _tables(server) == ["season", "season_hives_unmatched", "season_ledger"]
    assert plait.read(f"{server.address()}#season_hives_unmatched").to_dict()["place"] == ["line 3"]
    assert list(tmp_path.glob("*aside*")) == []


def test_cells_that_cannot_be_held_are_named(server, tmp_path, plait_in):
    infinite = server.scheme == "mysql"
    table = {"kg": pa.array([1.0, float("inf")]) if infinite else ["x", "a\0b"]}
    with pytest.raises(OutputError, match="row 2, column kg"):
        plait.write(table, f"{server.address()}#season")
    assert _tables(server) == []


def test_names_that_would_be_cut_short_are_refused(server):
    for name in ("é" * 40, "a" * 65) if server.scheme == "postgresql" else ("a" * 65, "hive 🐝"):
        with pytest.raises(OutputError, match="name"):
            plait.write({name: ["1"]}, f"{server.address()}#season")
    assert _tables(server) == []


def test_who_may_only_read_is_told_so_before_any_work(postgres, tmp_path, plait_in):
    postgres.run(
        "CREATE TABLE hives (hive int)",
        "DROP ROLE IF EXISTS reader",
        "CREATE ROLE reader LOGIN PASSWORD 'reads'",
        "GRANT SELECT ON hives TO reader",
        "GRANT USAGE ON SCHEMA public TO reader",
        "REVOKE CREATE ON SCHEMA public FROM PUBLIC",
    )
    reader = postgres.address(user="reader", password="reads")
    postgres.run("CREATE TABLE mine (hive int)", "ALTER TABLE mine OWNER TO reader")
    _hives(tmp_path)
    assert plait.read(f"{reader}#hives").rows == 0
    for table, how, said in (
        ("season", "--replace", "no table may be made"),
        ("mine", "--replace", "no table may be made"),  # it is made anew beside the old one
        ("hives", "--replace", "only the owner"),
        ("hives", "--append", "no permission to add rows"),
    ):
        refused = plait_in("mend", "hives.csv", "--out", f"{reader}#{table}", how)
        assert refused.status == 4 and said in refused.err, refused.err
        assert "reads@" not in refused.err


def test_readers_find_the_old_table_or_the_new_one(server, tmp_path):
    """While it is replaced again and again, somebody who reads always finds it whole."""
    plait.write({"n": ["1"] * 100}, f"{server.address()}#season")
    seen, ended = set(), threading.Event()

    def read() -> None:
        while not ended.is_set():
            seen.add(server.run("SELECT count(*), count(DISTINCT n) FROM season").strip())

    reader = threading.Thread(target=read)
    reader.start()
    try:
        for number in range(6):
            plait.write(
                {"n": [str(number)] * (100 + number)}, f"{server.address()}#season", replace=True
            )
    finally:
        ended.set()
        reader.join()
    seen = {one.replace("\t", "|") for one in seen}
    assert seen <= {f"{100 + number}|1" for number in range(6)} and len(seen) > 1


def test_two_writers_at_once_leave_the_table_of_one(server):
    def write(number: int) -> None:
        plait.write({"n": [str(number)] * 1000}, f"{server.address()}#season", replace=True)

    writers = [threading.Thread(target=write, args=(number,)) for number in range(4)]
    for one in writers:
        one.start()
    for one in writers:
        one.join()
    assert server.run("SELECT count(*), count(DISTINCT n) FROM season").split() in (
        ["1000|1"],
        ["1000", "1"],
    )
    assert _tables(server) == ["season"]


@pytest.mark.slow
def test_a_kill_at_any_moment_leaves_the_old_table_or_the_new_one(server, tmp_path):
    """Fifty times in all, at calls spread over the whole of the writing."""
    out = f"{server.address()}#season"
    (tmp_path / "twos.csv").write_text("n\n" + "2\n" * 200_000)
    words = ["mend", "twos.csv", "--out", out, "--replace"]
    plait.write({"n": pa.array([1] * 10)}, out)
    calls = calls_of(words, tmp_path)
    seen = set()
    for call in spread(calls, max(3, cases(25)), 25):
        plait.write({"n": pa.array([1] * 10)}, out, replace=True)
        kill_at(call, words, tmp_path)
        seen.add(
            server.run("SELECT count(*), min(n), max(n) FROM season").strip().replace("\t", "|")
        )
    assert seen <= {"10|1|1", "200000|2|2"} and seen
    # A busy server takes a while to see that nobody is there any more.
    until = time.monotonic() + 60
    while _tables(server) != ["season"] and time.monotonic() < until:
        time.sleep(0.5)
        plait.write({"n": pa.array([1] * 10)}, out, replace=True)
    assert _tables(server) == ["season"]


LOST = {
    "row level security": "ALTER TABLE season ENABLE ROW LEVEL SECURITY",
    "the policy mine": "CREATE POLICY mine ON season USING (kg > 0)",
    "rights on the column kg": "GRANT SELECT (kg) ON season TO PUBLIC",
    "the trigger told": "CREATE TRIGGER told BEFORE UPDATE ON season FOR EACH ROW "
    "EXECUTE FUNCTION suppress_redundant_updates_trigger()",
    "the constraint positive": "ALTER TABLE season ADD CONSTRAINT positive CHECK (kg > 0)",
    "the reference of visits": "CREATE TABLE visits (hive int REFERENCES season)",
}


@pytest.mark.parametrize("what", LOST)
def test_what_protects_a_table_is_not_lost_with_it(postgres, tmp_path, what):
    """Replaced, the table would show its rows to those who may not see them."""
    postgres.run("CREATE TABLE season (hive int PRIMARY KEY, kg int)", LOST[what])
    with pytest.raises(OutputError, match=what):
        plait.write({"kg": [1]}, f"{postgres.address()}#season", replace=True)
    postgres.run("DROP TABLE IF EXISTS visits", "DROP TABLE season")


@pytest.mark.parametrize("name", ["season", "part"])
def test_partitions_are_not_replaced_by_a_table(postgres, name):
    postgres.run(
        "CREATE TABLE season (kg int) PARTITION BY RANGE (kg)",
        "CREATE TABLE part PARTITION OF season FOR VALUES FROM (0) TO (9)",
    )
    with pytest.raises(OutputError, match="partition"):
        plait.write({"kg": [1]}, f"{postgres.address()}#{name}", replace=True)
    postgres.run("DROP TABLE season")
