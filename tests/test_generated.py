"""What is made from the descriptions of the verbs is up to date, and says what they say."""

from __future__ import annotations

import inspect
from importlib import import_module

import pytest

import plait
from generate import ROOT, generated
from plait.core.specs.option import InputArity, OptionKind
from plait.core.specs.several_tables import OPERATIONS
from plait.core.table.table import Table

MADE = generated()


@pytest.mark.parametrize("path", MADE, ids=lambda path: path.name)
def test_a_generated_file_is_what_would_be_generated(path):
    advice = "run: python tools/generate.py"
    assert path.read_text(encoding="utf-8") == MADE[path], advice
    assert path.is_relative_to(ROOT)


@pytest.mark.parametrize("name", OPERATIONS)
def test_the_function_of_a_verb_takes_what_its_description_offers(name):
    """The description, the core and ``import plait`` agree on names and defaults."""
    verb = OPERATIONS[name]
    place, _, function = verb.function.partition(":")
    signature = inspect.signature(getattr(import_module(place), function))
    core, given = signature.parameters, inspect.signature(getattr(plait, name)).parameters
    open_ended = any(one.kind is one.VAR_KEYWORD for one in core.values())
    for option in verb.options:
        argument = option.parameter or option.name
        assert argument in core or open_ended, (name, argument)
        offered = given["keys" if option.kind is OptionKind.KEYS else option.name]
        if not option.required and option.kind is not OptionKind.KEYS and argument in core:
            default = core[argument].default
            if option.kind is OptionKind.SWITCH:
                default = option.choices[default]
            assert (offered.default or None) == (default or None), (name, argument)
    assert set(given) >= {*verb.python_inputs, *({"more"} if verb.arity is InputArity.EACH else ())}


def test_everything_offered_can_be_seen_and_has_a_page():
    for name in dir(plait):
        assert getattr(plait, name) is not None
        if name in OPERATIONS:
            assert "Parameters" in inspect.getdoc(getattr(plait, name))
    assert plait.Table is Table
