"""Mistakes in a plan are told all at once, each with its line and the nearest right name."""

from __future__ import annotations

import json
import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from generate import SCHEMA
from plait.core.base.errors import UsageError
from plait.core.base.wording import Setting, wording
from plait.plan.file.line_numbers import PlanError, key_line_numbers
from plait.plan.file.load import load_plan
from plait.plan.file.name_checks import find_unused_names
from plait.plan.file.toml import as_plan_keys
from plait.plan.handover.read import matches_json_shape

GOOD = """\
title = "Season"
[parameters]
month = "2031-04"
most = 5

[source.visits]
path = "visits/${month}.csv"
[source.hives]
path = "hives.csv"

[[step]]
join = ["visits", "hives"]
key = ["yard", "hive"]
into = "season"
max_rows = "${most}"

[expect]
rows = "season = visits"

[handover]
result = "season"
"""


@pytest.fixture
def faults(tmp_path):
    """The mistakes of a plan: line, what, remedy."""

    def of(text: str) -> list[tuple[int, str, str]]:
        path = tmp_path / "season.toml"
        path.write_text(text)
        with pytest.raises(PlanError) as raised:
            load_plan(path)
        return [(one.line, one.what, one.remedy) for one in raised.value.faults]

    return of


def test_every_mistake_is_told_at_once_with_its_line(faults):
    text = (
        GOOD.replace("title =", "tilte =")
        .replace('path = "hives.csv"', "path = 7\nmissin = []")
        .replace("kind", "kind")
        .replace('join = ["visits", "hives"]', 'join = ["visits", "hvies"]')
        .replace('into = "season"', 'into = "season"\ncardinality = "many-to-on"')
        .replace('rows = "season = visits"', 'rows = "seasn > 3"')
    )
    found = faults(text)
    assert [line for line, _, _ in found] == sorted(line for line, _, _ in found)
    assert [(what, remedy) for _, what, remedy in found] == [
        ("unknown key 'tilte'", "did you mean title?"),
        ("path is a number, and should be a text", ""),
        ("unknown key 'missin'", "did you mean missing?"),
        ("no source or result 'hvies'", "did you mean hives?"),
        ("cardinality is 'many-to-on'", "did you mean many-to-one?"),
        ("no source or result 'seasn'", "did you mean season?"),
    ]
    lines = text.splitlines()
    for line, what, _ in found:
        word = what.split("'")[1] if "'" in what else "path = 7"
        assert word in lines[line - 1]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("title = nothing", "not valid TOML"),
        ("a = " + "[" * 3000, "nested too deep"),
        ("x = " + "9" * 5000, "too many digits"),
        ("step = 3", "step is a number"),
        ("[step]\nstack = 'a'", "step is a table"),
        ("[[step]]\nstck = 'a'", "unknown step 'stck'"),
        ("[[step]]\ninto = 'a'", "this step names no operation"),
        ("[[step]]\nstack = 'a'\nmend = 'a'", "several operations: stack, mend"),
        ("[source.a]\npath = 'x'\n[[step]]\njoin = ['a']", "join needs at least 2 names"),
        ("[source.a]\npath = '${b}'", "unknown parameter 'b'"),
        ("[source.a]\npath = 'x'\n[expect]\nrows = 'a'", "not a comparison"),
        ("[source.a]\npath = 'x'\nfooter = -1", "should not be below 0"),
    ],
)
def test_each_kind_of_mistake_is_put_in_words(faults, text, said):
    assert any(said in what for _, what, _ in faults(text))


def test_a_step_that_uses_a_later_one_is_told_so(faults):
    text = "[source.a]\npath='x'\n[[step]]\nmend='b'\ninto='c'\n[[step]]\nstack='a'\ninto='b'\n"
    ((line, what, remedy),) = faults(text)
    assert (line, what) == (4, "'b' is made by a later step")
    assert "before" in remedy


def test_parameters_are_filled_in_and_keep_their_type(tmp_path):
    path = tmp_path / "season.toml"
    path.write_text(GOOD)
    plan = load_plan(path, ["month=2031-05", "most=9"]).plan
    assert plan.source["visits"].path == "visits/2031-05.csv"
    assert plan.step[0].max_rows == 9
    with pytest.raises(UsageError, match="the plan has no parameter 'mnth'") as raised:
        load_plan(path, ["mnth=1"])
    assert raised.value.remedy == "did you mean month?"


def test_what_nothing_uses_is_a_finding_with_its_line(tmp_path):
    path = tmp_path / "season.toml"
    path.write_text(GOOD.replace("[handover]", "[source.more]\npath = 'x'\n[handover]"))
    loaded = load_plan(path)
    (found,) = find_unused_names(loaded.plan, loaded.lines)
    assert found.code == "not-used" and "'more'" in found.message
    assert str(found.where) == "line 20 of the plan"


NAMES = st.text(st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), max_size=6)


VALUES = st.sampled_from(["1", "'''a\n[b]\nc'''", "[\n1,\n2]"])


@given(st.lists(st.tuples(NAMES, VALUES), max_size=6))
def test_lines_are_found_whatever_stands_around(pairs):
    pairs = list(dict(pairs).items())
    lines, wanted = [], {}
    for number, (name, value) in enumerate(pairs):
        lines += ["# [not.a.table]", "", "[[part]]"]
        wanted["part", number] = len(lines)
        quoted = json.dumps(name, ensure_ascii=False).replace("\x7f", "\\u007f")
        lines.append(f"{quoted} = {value}")
        wanted["part", number, name] = len(lines)
        lines += [""] * value.count("\n")
        lines[-1 - value.count("\n") :] = f"{quoted} = {value}".split("\n")
    text = "\n".join(lines)
    tomllib.loads(text)
    assert key_line_numbers(text) == wanted


def test_the_schema_passes_what_the_model_passes(tmp_path):
    import jsonschema

    schema = json.loads(SCHEMA.read_text())
    jsonschema.Draft202012Validator.check_schema(schema)
    plan = tomllib.loads(GOOD.replace('"${most}"', "5"))
    jsonschema.validate(plan, schema)
    plan["step"][0]["kye"] = 1
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(plan, schema)


@pytest.mark.parametrize(
    ("option", "key"),
    [
        (wording(Setting("type", "date", "Seen at")), 'type = { "Seen at" = "date" }'),
        (wording(Setting("key", ("yard", "hive"))), 'key = ["yard", "hive"]'),
        (
            wording("say which: ", Setting("prefer", "left"), ", or right"),
            'say which: prefer = "left", or right',
        ),
        (wording("name it in ", Setting("key")), "name it in key"),
        (
            wording(Setting("footer", 2), Setting("fold_headers", True)),
            "footer = 2, fold_headers = true",
        ),
        ("no option here", "no option here"),
    ],
)
def test_remedies_become_keys_of_a_plan(option, key):
    assert as_plan_keys(option) == key


@pytest.mark.parametrize(
    ("value", "shape", "fitting"),
    [
        ({"a": [1], "more": 2}, {"a": [int]}, True),
        ({"a": ["x"]}, {"a": [int]}, False),
        ({"a": 1}, {"a": [int]}, False),
        (3, {"a": int}, False),
        ([], {"a": int}, False),
        ({}, {"a": int}, False),
        (True, int, False),
        (True, bool, True),
        (1, bool, False),
        ({"x": 1, "y": 2}, {str: int}, True),
        ({"x": 1, "y": "z"}, {str: int}, False),
        ([{"a": 1}, {"a": None}], [{"a": int}], False),
        (None, (int, type(None)), True),
    ],
)
def test_what_is_read_of_a_handover_has_its_shape_or_is_refused(value, shape, fitting):
    assert matches_json_shape(value, shape) is fitting
