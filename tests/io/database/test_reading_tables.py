"""Tables of PostgreSQL and MariaDB as sources: what is declared is what is read."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

import pytest

import plait
from plait.core.base.errors import PlaitError, SourceError
from plait.io.read import read_in_parallel, read_source
from plait.io.sources import find_one_source, find_sources

UTC = dt.UTC
POSTGRES_KINDS = {
    # declared: (SQL of a value, what an analyst would say is read)
    "boolean": ("true", True),
    "smallint": ("-7", -7),
    "integer": ("2147483647", 2147483647),
    "bigint": ("9223372036854775807", 9223372036854775807),
    "oid": ("4294967295", 4294967295),
    "numeric(12,2)": ("12.50", Decimal("12.50")),
    "numeric(60,5)": (
        "123456789012345678901234567890.12340",
        Decimal("123456789012345678901234567890.12340"),
    ),
    "numeric": ("1.10", "1.10"),
    "real": ("0.5", 0.5),
    "double precision": ("0.1", 0.1),
    "text": ("'007'", "007"),
    "varchar(10)": ("'  padded '", "  padded "),
    "char(6)": ("'A1'", "A1"),
    "date": ("'2031-04-05'", dt.date(2031, 4, 5)),
    "time": ("'12:30:00.123456'", dt.time(12, 30, 0, 123456)),
    "timestamp": ("'2031-04-05 12:30:00.123456'", dt.datetime(2031, 4, 5, 12, 30, 0, 123456)),
    "timestamptz": ("'2031-04-05 12:30:00+02'", dt.datetime(2031, 4, 5, 10, 30, tzinfo=UTC)),
    "timetz": ("'12:30+02'", "12:30:00+02"),
    "interval": ("'1 day 2 hours'", "P1DT2H"),
    "uuid": ("'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'", "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"),
    "json": ("'{\"kg\": 1.50}'", '{"kg": 1.50}'),
    "jsonb": ("'[1, 2]'", "[1, 2]"),
    "integer[]": ("ARRAY[1,NULL,3]", "[1,null,3]"),
    "text[]": ("ARRAY['a','b,\"c\"']", '["a","b,\\"c\\""]'),
    "bytea": ("'abc'", "616263"),
    "inet": ("'10.0.0.1'", "10.0.0.1/32"),
}
MARIADB_KINDS = {
    "boolean": ("true", True),
    "tinyint(4)": ("-7", -7),
    "int": ("2147483647", 2147483647),
    "bigint": ("9223372036854775807", 9223372036854775807),
    "bigint unsigned": ("18446744073709551615", Decimal("18446744073709551615")),
    "decimal(12,2)": ("12.50", Decimal("12.50")),
    "decimal(65,30)": (
        "1.000000000000000000000000000001",
        Decimal("1.000000000000000000000000000001"),
    ),
    "float": ("0.5", 0.5),
    "double": ("0.1", 0.1),
    "varchar(10)": ("'007'", "007"),
    "longtext": ("'  padded '", "  padded "),
    "enum('calm','wild')": ("'wild'", "wild"),
    "date": ("'2031-04-05'", dt.date(2031, 4, 5)),
    "time(6)": ("'12:30:00.123456'", dt.time(12, 30, 0, 123456)),
    "datetime(6)": ("'2031-04-05 12:30:00.123456'", dt.datetime(2031, 4, 5, 12, 30, 0, 123456)),
    "timestamp": ("'2031-04-05 12:30:00'", dt.datetime(2031, 4, 5, 12, 30, tzinfo=UTC)),
    "year": ("2031", 2031),
    "bit(8)": ("b'101'", Decimal("5")),
    "json": ("'{\"kg\": 1.50}'", '{"kg": 1.50}'),
    "varbinary(9)": ("'abc'", "616263"),
    "point": ("ST_GeomFromText('POINT(1 2)')", "POINT(1 2)"),
}


def _made(server, name: str, kinds: dict) -> None:
    """A table with a column of every type: a row of values, and one of none."""
    columns = ", ".join(f"c{n} {kind} NULL" for n, kind in enumerate(kinds))
    values = ", ".join(value for value, _ in kinds.values())
    none = ", ".join(["NULL"] * len(kinds))
    zone = "SET time_zone = '+00:00'; " if server.scheme == "mysql" else ""
    server.run(
        f"CREATE TABLE {name} (id integer PRIMARY KEY, {columns})",
        f"{zone}INSERT INTO {name} VALUES (2, {values}), (1, {none})",
    )


@pytest.mark.parametrize(
    ("which", "kinds"), [("postgres", POSTGRES_KINDS), ("mariadb", MARIADB_KINDS)]
)
def test_every_type_is_read_as_it_is_declared(request, which, kinds):
    server = request.getfixturevalue(which)
    _made(server, "kinds", kinds)
    cells = plait.read(f"{server.address()}#kinds").to_dict()
    assert cells.pop("id") == [1, 2]
    for column, (declared, (_, expected)) in zip(cells.values(), kinds.items(), strict=True):
        assert column == [None, expected], declared
        assert type(column[1]) is type(expected), declared


def test_what_no_calendar_has_is_text_with_every_sign(postgres):
    postgres.run(
        "CREATE TABLE odd (id int PRIMARY KEY, d date, ts timestamp, tz timestamptz, t time, "
        "n numeric(6,2))",
        "INSERT INTO odd VALUES "
        "(1, 'infinity', '-infinity', '0044-03-15 12:00+00 BC', '24:00', 'NaN'), "
        "(2, '2031-04-05', '2031-04-05 12:30', '2031-04-05 12:30+00', '12:30', 1.50)",
    )
    assert plait.read(f"{postgres.address()}#odd").to_dict() == {
        "id": [1, 2],
        "d": ["infinity", "2031-04-05"],
        "ts": ["-infinity", "2031-04-05 12:30:00"],
        "tz": ["0044-03-15 12:00:00+00 BC", "2031-04-05 12:30:00Z"],
        "t": ["24:00:00", "12:30:00"],
        "n": ["NaN", "1.50"],
    }


def test_what_no_calendar_has_is_text_in_mariadb_too(mariadb):
    mariadb.run(
        "CREATE TABLE odd (id int PRIMARY KEY, d date, t time, b boolean)",
        "SET sql_mode=''; INSERT INTO odd VALUES (1, '0000-00-00', '-26:30:00', 2), "
        "(2, '2031-04-05', '12:30:00', 1)",
    )
    assert plait.read(f"{mariadb.address()}#odd").to_dict() == {
        "id": [1, 2],
        "d": ["0000-00-00", "2031-04-05"],
        "t": ["-26:30:00", "12:30:00"],
        "b": [2, 1],
    }


def test_nothing_and_an_empty_text_are_two_things(server):
    server.run(
        "CREATE TABLE t (id int PRIMARY KEY, a text)", "INSERT INTO t VALUES (1, ''), (2, NULL)"
    )
    assert plait.read(f"{server.address()}#t").to_dict()["a"] == ["", None]


def test_rows_come_in_the_order_of_the_key_and_are_known_by_it(server):
    server.run(
        "CREATE TABLE hives (yard varchar(9), hive int, breed text, PRIMARY KEY (yard, hive))",
        "INSERT INTO hives VALUES ('B', 2, 'x'), ('A', 10, 'y'), ('A', 9, NULL), ('a', 1, 'z')",
    )
    table = plait.read(f"{server.address()}#hives")
    ends = [("A", 9), ("A", 10), ("B", 2), ("a", 1)]
    assert list(zip(table.to_dict()["yard"], table.to_dict()["hive"], strict=True)) == ends
    assert [str(place) for place in table.source_rows(0)] == ["hives yard=A,hive=9"]
    names, rows = table.describe_source_rows()
    assert rows.to_pylist() == [f"yard={yard},hive={hive}" for yard, hive in ends]
    assert set(names.to_pylist()) == {"hives"}


def test_tables_and_views_are_listed_and_patterns_take_several(postgres):
    postgres.run(
        "CREATE TABLE hives (hive int)",
        "CREATE VIEW calm AS SELECT * FROM hives",
        "CREATE SCHEMA sales",
        "CREATE TABLE sales.may (kg int)",
        "CREATE TABLE sales.june (kg int)",
    )
    address = postgres.address()
    named = lambda word: [one.part for one in find_sources([word])]  # noqa: E731
    assert named(address) == ["calm", "hives", "sales.june", "sales.may"]
    assert named(f"{address}#sales.*") == ["sales.june", "sales.may"]
    assert named(f"{address}#public.hives") == ["hives"]
    with pytest.raises(SourceError, match=r"no table 'hivs'.*did you mean hives"):
        named(f"{address}#hivs")


HOSTILE_NAMES = (
    '"; DROP TABLE hives; --',
    "O'Hara",
    "two\nlines",
    "Ümlaut 🐝",
    "UPPER",
    "a" * 63,
    "a.b",
    "50%",
    "a:b",
    "back\\slash",
    "`tick`",
)


def test_hostile_names_are_names(server):
    """Of tables and columns: all are read, and written again, and nothing else is done."""
    names, statements = HOSTILE_NAMES, ["CREATE TABLE hives (hive int)"]
    if server.scheme == "mysql":
        names = [name.replace("🐝", "æ") for name in names]  # no sign of four bytes there
    sign = '"' if server.scheme == "postgresql" else "`"
    for number, name in enumerate(names):
        whole = sign + name.replace(sign, sign * 2) + sign
        statements += [
            f"CREATE TABLE {whole} (id int PRIMARY KEY, {whole} text)",
            f"INSERT INTO {whole} VALUES ({number}, 'x{number}')",
        ]
    server.run(*statements)
    sources = {source.part: source for source in find_sources([server.address()])}
    assert set(sources) == {*names, "hives"}
    for number, name in enumerate(names):
        table = read_source(sources[name])
        assert list(table.to_dict().values()) == [[number], [f"x{number}"]]
        if number % 3 == 0:
            plait.write(table, f"{server.address()}#copy", replace=True)
            assert plait.read(f"{server.address()}#copy").to_dict() == table.to_dict()
    assert server.run("SELECT count(*) FROM hives") == "0\n"


def test_a_query_is_read_and_only_reads(server):
    server.run(
        "CREATE TABLE hives (yard varchar(9), kg int)",
        "INSERT INTO hives VALUES ('A', 1), ('A', 2), ('B', 3)",
    )
    ask = "SELECT yard, sum(kg) AS kg, 'a=b%' AS t FROM hives GROUP BY yard ORDER BY yard DESC;"
    table = plait.read(f"found={server.address()}", query=ask)
    assert table.name == "found"
    assert {k: [str(one) for one in v] for k, v in table.to_dict().items()} == {
        "yard": ["B", "A"],
        "kg": ["3", "3"],
        "t": ["a=b%", "a=b%"],
    }
    for wrong in (
        "DELETE FROM hives",
        "WITH x AS (DELETE FROM hives RETURNING *) SELECT * FROM x",
        "SELECT 1; DROP TABLE hives",
        "SELECT * FROM hives; COMMIT; DROP TABLE hives",
    ):
        with pytest.raises(PlaitError):
            plait.read(server.address(), query=wrong)
    assert server.run("SELECT count(*) FROM hives") == "3\n"


def test_all_tables_of_a_run_are_read_as_they_were_at_one_moment(server):
    server.run(
        "CREATE TABLE a (n int)",
        "CREATE TABLE b (n int)",
        "INSERT INTO a VALUES (1)",
        "INSERT INTO b VALUES (1)",
    )
    sources = find_sources([f"{server.address()}#{name}" for name in ("a", "b")])

    def read(source):
        table = read_source(source)
        server.run(f"INSERT INTO {'b' if source.part == 'a' else 'a'} VALUES (2)")
        return table

    assert [one.rows for one in read_in_parallel(sources[:1] + sources[1:], read)] == [1, 1]


def test_a_table_altered_before_its_turn_is_no_empty_table(postgres):
    postgres.run(
        "CREATE TABLE a (n int)",
        "CREATE TABLE b (n int)",
        "INSERT INTO a VALUES (1)",
        "INSERT INTO b VALUES (1)",
    )
    sources = find_sources([f"{postgres.address()}#{name}" for name in ("a", "b")])

    def read(source):
        table = read_source(source)
        if source.part == "a":
            postgres.run("ALTER TABLE b ALTER n TYPE bigint")
        return table

    with pytest.raises(SourceError, match="altered while Plait was reading it"):
        # One after the other: ``b`` is looked at when the moment of ``a`` has passed.
        from plait.io.database.connections import snapshot_session

        with snapshot_session():
            [read(one) for one in sources]


def test_a_view_that_fails_does_not_stand_in_the_way_of_other_tables(postgres, plait_in):
    postgres.run(
        "CREATE TABLE hives (n int)",
        "INSERT INTO hives VALUES (5)",
        "CREATE VIEW bad AS SELECT 1 / (n - 5) AS x FROM hives",
        "CREATE VIEW good AS SELECT * FROM hives",
    )
    said = plait_in("survey", postgres.address(), "--json").json
    assert [one["message"] for one in said["findings"] if one["code"] == "unreadable"] == [
        "division by zero"
    ]
    assert {one["name"] for one in said["sources"]} == {"good", "hives"}


@pytest.fixture
def plait_in(plait):
    """The program, in the temporary folder."""
    return plait


def test_generic_dialects_are_read_with_their_types(tmp_path):
    import sqlite3

    with sqlite3.connect(tmp_path / "field.db") as base:
        base.execute(
            "CREATE TABLE hives (id INTEGER PRIMARY KEY, kg NUMERIC(8,2), seen DATE, note TEXT)"
        )
        base.execute("INSERT INTO hives VALUES (2, 12.5, '2031-04-05', ''), (1, NULL, NULL, '007')")
    address = f"sqlite:///{tmp_path / 'field.db'}"
    assert plait.read(f"{address}#hives").to_dict() == {
        "id": [1, 2],
        "kg": [None, "12.50"],
        "seen": [None, dt.date(2031, 4, 5)],
        "note": ["007", ""],
    }
    assert plait.read(address, query="SELECT count(*) AS n FROM hives").to_dict() == {"n": ["2"]}
    assert find_one_source(f"{address}#hives").name == "hives"
