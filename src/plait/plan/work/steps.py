"""The steps of a plan, each carried out by the verb that it names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from plait.core.account.errors import UsageError
from plait.core.account.names import joint_name
from plait.core.table.table import Table
from plait.core.verbs.compare import Compared
from plait.core.verbs.keys import Audited
from plait.core.verbs.result import Result
from plait.options.option import Form, Option, Takes, perform
from plait.options.verbs import VERBS
from plait.plan.file.model import Part, verb_of
from plait.plan.file.naming import as_written, result_name

Tables = Mapping[str, Sequence[Table]]
_LISTS = (Form.KEY_OF_TWO, Form.COLUMNS, Form.WORDS, Form.LINES, Form.KEY)


def carry_out(step: Part, tables: Tables) -> Result:
    """Carry out a step.

    Parameters
    ----------
    step : Part
    tables : mapping of str to sequence of Table
        What there is so far; several tables where a source has several extracts.

    Returns
    -------
    Result
        Named as the step says; an audit of keys has its first input as table, a comparison
        the list of changes.

    Raises
    ------
    UsageError
        When several extracts stand where one table is wanted; and as the verb.
    """
    written = as_written(step)
    verb = VERBS[str(verb_of(step))]
    named = _list(written[verb.name])
    if verb.takes is Takes.ALL:
        inputs = [table for one in named for table in tables[one]]
    else:
        inputs = [_one(tables, one) for one in named]
    values = {
        one.name: _value(one, written[one.name], tables)
        for one in verb.options
        if one.name in written
    }
    more = {"stacked": joint_name(named)} if verb.name == "settle" else {}
    made = perform(verb, inputs, values, result_name(written), **more)
    if isinstance(made, Audited):
        return Result("keys", inputs[0], (), tuple(made.findings))
    if isinstance(made, Compared):
        return made.result()
    result: Result = made
    return result


def _one(tables: Tables, name: str) -> Table:
    """The single table of that name."""
    found = tables[name]
    if len(found) != 1:
        raise UsageError(
            f"{name} has {len(found)} extracts where one table is wanted",
            remedy=f"stack them first: stack = [{name!r}]",
        )
    return found[0]


def _value(option: Option, value: Any, tables: Tables) -> Any:
    """What the plan gives for an option, as the verb takes it."""
    if option.form is Form.TABLE:
        return _one(tables, value)
    if option.form is Form.KEYS:
        return _keys_of(value)
    return _list(value) if option.form in _LISTS else value


def _list(value: Any) -> Any:
    """A list of names; pairs of names stay what they are."""
    if isinstance(value, Mapping):
        return value
    return [value] if isinstance(value, str) else list(value)


def _keys_of(key: Any) -> list[Any]:
    """A key for all tables, or one for each."""
    if isinstance(key, list) and key and isinstance(key[0], list):
        return list(key)
    return [key]
