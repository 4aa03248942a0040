"""Settings as each front end writes them: what is read back is what was meant."""

from __future__ import annotations

import ast
import shlex
import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plait.core.base.wording import Command, Setting, wording
from plait.core.table.key_spec import key_setting, parse_assignments, parse_key_columns, parse_names
from plait.plan.file.toml import as_plan_keys
from plait.report.flags import as_flags

NAMES = st.text(st.sampled_from("ab ,=\"'ü%$`\\{}#;"), min_size=1, max_size=8).filter(
    lambda name: name == name.strip()
)


@given(NAMES, st.lists(NAMES, min_size=1, max_size=3))
def test_a_list_of_names_is_read_back_from_a_command_line(name, olds):
    flag, value = shlex.split(as_flags(wording(Setting("same", tuple(olds), name))))
    assert flag == "--same"
    ((new, names),) = parse_assignments([value], "same").items()
    assert (new, parse_names(names)) == (name, tuple(olds))


@given(st.lists(st.tuples(NAMES, NAMES), min_size=1, max_size=3))
def test_a_key_is_read_back_from_a_command_line_a_plan_and_python(key):
    setting = key_setting(tuple(key))
    _, value = shlex.split(as_flags(wording(setting)))
    assert parse_key_columns(value) == tuple(key)
    assert parse_key_columns(tomllib.loads(as_plan_keys(wording(setting)))["key"]) == tuple(key)
    assert parse_key_columns(ast.literal_eval(str(setting).partition("=")[2])) == tuple(key)


@given(st.dictionaries(NAMES, NAMES, min_size=1, max_size=3))
def test_values_by_name_are_one_table_of_a_plan_and_one_mapping_of_python(types):
    text = wording(*(Setting("type", kind, name) for name, kind in types.items()))
    assert tomllib.loads(as_plan_keys(text))["type"] == types
    assert ast.literal_eval(str(text).partition("=")[2]) == types
    words = shlex.split(as_flags(text))
    assert words[::2] == ["--type"] * len(types)
    assert parse_assignments(words[1::2], "type") == types


@pytest.mark.parametrize(
    ("text", "flags", "keys", "python"),
    [
        (wording(Setting("distinct", True)), "--distinct", "distinct = true", "distinct=True"),
        (wording(Setting("footer", 2)), "--footer 2", "footer = 2", "footer=2"),
        (
            wording(Setting("footer", 2, source="may visits")),
            "--footer 'may visits=2'",
            "may visits as a source of its own: footer = 2",
            "footer=2 for may visits",
        ),
        (wording("in ", Setting("key")), "in --key", "in key", "in key"),
        (
            wording(Command("mend", ("a b.csv",), (Setting("trim", True), Setting("out", "…")))),
            "plait mend 'a b.csv' --trim --out …",
            "plait mend 'a b.csv' --trim --out …",
            "plait.mend('a b.csv', trim=True)",
        ),
        (
            wording(Setting("type", "date", "day", "may"), Setting("type", "text", "day", "june")),
            "--type may=day=date --type june=day=text",
            'may as a source of its own: type = { day = "date" }, '
            'june as a source of its own: type = { day = "text" }',
            "type={'day': 'date'} for may, type={'day': 'text'} for june",
        ),
        ("no option in it", *["no option in it"] * 3),
    ],
)  # fmt: skip
def test_each_front_end_writes_it_its_own_way(text, flags, keys, python):
    assert (as_flags(text), as_plan_keys(text), str(text)) == (flags, keys, python)
