"""A row is known again by its key, whatever type the key has."""

from __future__ import annotations

import pytest

from servers import PASSWORD

MARIADB = {
    "datetime(3)": ("'2031-04-05 06:07:08.250'", "'2031-04-05 06:07:08.251'"),
    "datetime(6)": ("'2031-04-05 06:07:08.000001'", "'2031-04-05 06:07:08'"),
    "datetime": ("'2031-04-05 06:07:08'", "'2031-04-06'"),
    "timestamp": ("'2031-04-05 06:07:08'", "'2031-10-26 02:30:00'"),
    "timestamp(3)": ("'2031-04-05 06:07:08.5'", "'2031-04-05 06:07:08.501'"),
    "time(3)": ("'06:07:08.250'", "'-99:00:00.001'"),
    "time": ("'06:07:08'", "'123:00:00'"),
    "date": ("'2031-04-05'", "'2031-04-06'"),
    "year": ("2031", "1999"),
    "float": ("0.1", "12.5"),
    "double": ("0.1", "1e300"),
    "decimal(10,2)": ("12.50", "-0.10"),
    "tinyint(1)": ("1", "0"),
    "tinyint(1) ": ("1", "9"),
    "int(5) zerofill": ("42", "99999"),
    "bigint unsigned": ("18446744073709551615", "1"),
    "bit(5)": ("b'101'", "b'0'"),
    "varchar(20)": ("'Elm '", "'o''ak\\\\n'"),
    "char(4)": ("'Elm'", "'Oak'"),
    "varbinary(4)": ("x'00ff'", "x'41'"),
    "enum('b','a')": ("'a'", "'b'"),
    "uuid": ("'00000000-0000-0000-0000-000000000001'", "'00000000-0000-0000-0000-0000000000ff'"),
}
POSTGRES = {
    "timestamp(3)": ("'2031-04-05 06:07:08.250'", "'2031-04-05 06:07:08.251'"),
    "timestamptz": ("'2031-04-05 06:07:08.000001+02'", "'infinity'"),
    "time": ("'06:07:08.25'", "'24:00:00'"),
    "timetz": ("'06:07:08+02'", "'06:07:08+03'"),
    "date": ("'2031-04-05'", "'4000-01-01'"),
    "interval": ("'1 day 02:00'", "'-1 month'"),
    "real": ("0.1", "'NaN'"),
    "double precision": ("0.1", "'-Infinity'"),
    "numeric(10,2)": ("12.50", "-0.10"),
    "numeric": ("12345678901234567890.5", "1.500"),
    "boolean": ("true", "false"),
    "money": ("'$1,234.56'", "'-$0.50'"),
    "oid": ("4294967295", "1"),
    "bytea": ("'\\x00ff'", "'\\x41'"),
    "char(4)": ("'Elm'", "'Oak'"),
    "text": ("'Elm '", "'o''ak\\n'"),
    "uuid": ("'00000000-0000-0000-0000-000000000001'", "'00000000-0000-0000-0000-0000000000ff'"),
    "inet": ("'10.0.0.1/8'", "'::1'"),
    "bit(5)": ("B'00101'", "B'00000'"),
    "jsonb": ("'{\"a\": 1}'", "'[]'"),
    "int[]": ("'{1,2}'", "'{}'"),
}
PLAN = """
[source.t]
path = "{address}#t"
[[step]]
mend = "t"
keep = ["kg"]
into = "out"
[handover]
result = "out"
"""


@pytest.mark.parametrize(
    ("server", "type_", "keys"),
    [
        pytest.param(server, type_.strip(), keys, marks=[pytest.mark.slow] * (number > 0))
        for server, types in (("mariadb", MARIADB), ("postgres", POSTGRES))
        for number, (type_, keys) in enumerate(types.items())
    ],
    indirect=["server"],
)
def test_a_row_that_did_not_change_is_known_again_and_one_that_did_is_told(
    server, type_, keys, plait, tmp_path, monkeypatch
):
    monkeypatch.setenv("KEEPER", PASSWORD)
    (tmp_path / "p.toml").write_text(PLAN.format(address=server.address(password="${KEEPER}")))
    server.run(
        "DROP TABLE IF EXISTS t",
        f"CREATE TABLE t (k {type_} PRIMARY KEY, kg int)",
        f"INSERT INTO t VALUES ({keys[0]}, 1), ({keys[1]}, 2)",
    )
    assert plait("run", "p.toml").status == 0
    asked = ("trace", "handover", "--row", "1", "--row", "2", "--json")
    traced = plait(*asked).json
    assert traced["changed"] == []
    assert plait("trace", "handover", "--row", "2", "--json").json["changed"] == []
    server.run("UPDATE t SET kg = kg + 10")
    changed = plait(*asked).json["changed"]
    assert len(changed) == 2 and all("has changed since the run" in row for row in changed)
    server.run("DELETE FROM t")
    gone = plait(*asked).json["changed"]
    assert len(gone) == 2 and all("no longer exists" in row for row in gone)
    server.run("DROP TABLE t")


@pytest.mark.slow
@pytest.mark.parametrize(
    ("type_", "key"),
    [("date", "2031-02-31"), ("datetime(3)", "0000-00-00"), ("date", "0000-00-00")],
)
def test_a_day_of_no_calendar_is_known_again_too(mariadb, plait, tmp_path, monkeypatch, type_, key):
    monkeypatch.setenv("KEEPER", PASSWORD)
    (tmp_path / "p.toml").write_text(PLAN.format(address=mariadb.address(password="${KEEPER}")))
    mariadb.run(
        f"CREATE TABLE t (k {type_} PRIMARY KEY, kg int)",
        "SET STATEMENT sql_mode = 'ALLOW_INVALID_DATES' FOR "
        f"INSERT INTO t VALUES ('{key}', 1), ('2031-04-05', 2)",
    )
    assert plait("run", "p.toml").status == 0
    for row in "12":
        assert plait("trace", "handover", "--row", row, "--json").json["changed"] == []
    mariadb.run("DROP TABLE t")
