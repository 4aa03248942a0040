"""A list of rows set aside has one name, by whatever way it is asked for."""

from __future__ import annotations

import pytest

SOURCES = {
    "a_csv": "k,v\n1,x\n1,y\n,z\n",
    "b_csv": "k,v\n1,x\n2,y\n,z\n",
}
STEPS = {
    "settle a.csv b.csv --key k": 'settle = ["a", "b"]\nkey = "k"',
    "settle a.csv --key k": 'settle = "a"\nkey = "k"',
    "join a.csv b.csv --key k --kind inner --cardinality many-to-many": 'join = ["a", "b"]\n'
    'key = "k"\nkind = "inner"\ncardinality = "many-to-many"',
    "mend a.csv --where v='x'": 'mend = "a"\nwhere = "v=\'x\'"',
    "stack a.csv b.csv --distinct --out r.csv": 'stack = ["a", "b"]\ndistinct = true',
}


@pytest.mark.parametrize("words", STEPS)
def test_command_and_plan_call_a_list_the_same(plait, put, tmp_path, words):
    put(**SOURCES)
    assert plait(*words.split(), "--aside", "apart").status == 0
    sources = "".join(f'[source.{name}]\npath = "{name}.csv"\n' for name in "ab")
    (tmp_path / "p.toml").write_text(
        f'{sources}[[step]]\n{STEPS[words]}\ninto = "r"\n[handover]\nresult = "r"\n'
    )
    assert plait("run", "p.toml").status in (0, 1)
    by_command = {path.name: path.read_bytes() for path in (tmp_path / "apart").iterdir()}
    by_plan = {
        path.name.removeprefix("1-"): path.read_bytes()
        for path in (tmp_path / "handover" / "aside").iterdir()
    }
    assert by_command == by_plan and by_command
