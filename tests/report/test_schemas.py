"""What ``--json`` prints is what the shipped schemas say, no field more or less."""

from __future__ import annotations

import jsonschema
import pytest

from plait.report.account import COMMANDS, schema_of

VISITS = "yard,hive,kg\nElm,1,2\nelm,2,3\nNorthfeild,1,5\nOak,9,6\n,4,7\nElm,1,8\n"
HIVES = "yard,hive,breed\nElm,1,Carnica\nElm,2,x\nNorthfield,1,z\nElm,1,Buckfast\n"


@pytest.fixture
def files(put):
    put(visits_csv=VISITS, hives_csv=HIVES, yards_csv="yard,name\nElm,Elm Court\n")


@pytest.mark.parametrize("command", COMMANDS)
def test_the_schemas_are_schemas(command):
    jsonschema.Draft202012Validator.check_schema(schema_of(command))


@pytest.mark.parametrize(
    "words",
    [
        ["join", "visits.csv", "yards.csv", "--out", "o.csv"],
        ["join", "visits.csv", "hives.csv", "yards.csv", "--key", "yard", "--kind", "semi"],
        ["join", "visits.csv", "hives.csv", "--key", "yard,hive"],
        ["keys", "visits.csv", "--key", "yard,hive"],
        ["keys", "visits.csv", "hives.csv", "--key", "yard,hive", "--out", "p.csv"],
        ["keys", "visits.csv", "hives.csv", "yards.csv", "--key", "yard"],
    ],
)
def test_every_account_is_valid(plait, files, words):
    out = [] if words[0] == "keys" or "--out" in words else ["--out", "o.csv"]
    said = plait(*words, *out, "--json").json
    jsonschema.validate(said, schema_of(words[0]))
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**said, "more": 1}, schema_of(words[0]))
