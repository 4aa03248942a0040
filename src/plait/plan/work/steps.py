"""The steps of a plan, each carried out by the verb of the core that it names."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from plait.core.account.errors import UsageError
from plait.core.lineage.origin import with_origin
from plait.core.table.table import Table
from plait.core.verbs.beside import beside
from plait.core.verbs.group import group
from plait.core.verbs.join import join_all
from plait.core.verbs.keys import keys
from plait.core.verbs.lengthen import lengthen
from plait.core.verbs.mend import mend
from plait.core.verbs.result import Result
from plait.core.verbs.settle import settle
from plait.core.verbs.stack import stack
from plait.core.verbs.widen import widen
from plait.plan.file.model import (
    Beside,
    Group,
    Join,
    Keys,
    Lengthen,
    Mend,
    Part,
    Settle,
    Stack,
    Widen,
    verb_of,
)
from plait.plan.file.naming import as_written, inputs_of, result_name

Tables = Mapping[str, Sequence[Table]]


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
        Named as the step says; an audit of keys has its first input as table.

    Raises
    ------
    UsageError
        When several extracts stand where one table is wanted; and as the verb.
    """
    verb = verb_of(step)
    assert verb is not None
    name = result_name(as_written(step))
    result = _DOING[verb](step, tables)
    return replace(result, table=result.table.named(name)) if name else result


def _one(tables: Tables, name: str) -> Table:
    """The single table of that name."""
    found = tables[name]
    if len(found) != 1:
        raise UsageError(
            f"{name} has {len(found)} extracts where one table is wanted",
            remedy=f"stack them first: stack = [{name!r}]",
        )
    return found[0]


def _several(tables: Tables, names: str | Sequence[str]) -> list[Table]:
    """All tables of some names."""
    every = [names] if isinstance(names, str) else names
    return [table for name in every for table in tables[name]]


def _list(value: str | list[str] | None) -> list[str]:
    return [value] if isinstance(value, str) else list(value or ())


def _across(step: Join | Settle | Keys, tables: Tables) -> Table | None:
    return _one(tables, step.pairs) if step.pairs else None


def _keys_of(key: Any) -> list[Any]:
    """A key for all tables, or one for each."""
    if isinstance(key, list) and key and isinstance(key[0], list):
        return list(key)
    return [key]


def _stack(step: Stack, tables: Tables) -> Result:
    made = stack(
        _several(tables, step.stack),
        step.label,
        step.distinct,
        step.number,
        step.same,
        step.fold_headers,
        str(result_name(as_written(step))),
        step.by,
    )
    table = with_origin(made.table, step.origin) if step.origin else made.table
    return replace(made, table=table)


def _mend(step: Mend, tables: Tables) -> Result:
    asked = as_written(step)
    for key in ("mend", "into"):
        asked.pop(key, None)
    for key in ("split", "replace_value"):
        if key in asked:
            asked[key] = _list(asked[key])
    return mend(_one(tables, step.mend), **asked)


def _join(step: Join, tables: Tables) -> Result:
    made = join_all(
        [_one(tables, name) for name in step.join],
        _keys_of(step.key),
        step.kind,
        step.cardinality,
        _list(step.ignore),
        take=None if step.take is None else _list(step.take),
        rename=step.rename,
        pairs=_across(step, tables),
        missing_match=step.missing_keys == "match",
        nearest=step.nearest,
        within=step.within,
        prefer=step.prefer,
        max_rows=step.max_rows,
    )
    table = with_origin(made.table, step.origin) if step.origin else made.table
    return replace(made, table=table)


def _settle(step: Settle, tables: Tables) -> Result:
    inputs = _several(tables, step.settle)
    stacked = stack(inputs, name=inputs_of(as_written(step))[0]) if len(inputs) > 1 else None
    made = settle(
        stacked.table if stacked else inputs[0],
        _list(step.key),
        step.rule,
        step.otherwise,
        step.keep_rule,
        _list(step.ignore),
        _across(step, tables),
        missing_match=step.missing_keys == "match",
    )
    result = made
    if stacked is None:
        return result
    return replace(
        result,
        entries=(*stacked.entries, *made.entries),
        findings=(*stacked.findings, *made.findings),
    )


def _beside(step: Beside, tables: Tables) -> Result:
    return beside([_one(tables, name) for name in step.beside])


def _group(step: Group, tables: Tables) -> Result:
    return group(
        _one(tables, step.group), _list(step.by), step.take, step.onto_rows, _list(step.ignore)
    )


def _widen(step: Widen, tables: Tables) -> Result:
    return widen(
        _one(tables, step.widen), step.heads, _list(step.cells), _list(step.key), step.rule
    )


def _lengthen(step: Lengthen, tables: Tables) -> Result:
    return lengthen(
        _one(tables, step.lengthen),
        step.heads,
        step.cells,
        _list(step.columns),
        _list(step.key),
        step.without_missing,
    )


def _audit(step: Keys, tables: Tables) -> Result:
    sources = _several(tables, step.keys)
    audited = keys(
        sources,
        _keys_of(step.key),
        _list(step.ignore),
        _across(step, tables),
        step.missing_keys == "match",
    )
    return Result("keys", sources[0], (), tuple(audited.findings))


_DOING: dict[str, Callable[[Any, Tables], Result]] = {
    "stack": _stack,
    "mend": _mend,
    "join": _join,
    "settle": _settle,
    "beside": _beside,
    "group": _group,
    "widen": _widen,
    "lengthen": _lengthen,
    "keys": _audit,
}
