"""What a plan never uses of a table in a database, so that it is not fetched.

Only what the one step that takes the table says beyond doubt: the columns that a ``mend``
keeps or drops, and its condition on rows where nothing before that changes their cells.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from plait.core.expressions.expression import parse_expression
from plait.core.table.key_spec import parse_names
from plait.io.places.source import FetchSubset, Source
from plait.io.read import find_reader
from plait.plan.file.model import Plan, step_operation
from plait.plan.file.name_checks import step_inputs, step_keys, step_result_name

_CHANGING = (
    *("header", "rename", "missing", "trim", "split", "replace_value", "fill", "type"),
    "compute_first",
)


def unused_database_columns(plan: Plan, name: str, source: Source) -> FetchSubset | None:
    """What is fetched for a source of a plan; ``None`` for all of it.

    Parameters
    ----------
    name : str
        The plan's name for the source.
    source : Source
        A table of a database.
    """
    step = _only_step(plan, name)
    if step is None or step_operation(step) != "mend":
        return None
    spec: Any = plan.source[name]
    columns = _columns(step, spec, source) if not step.get("header") else ()
    where = None
    if step.get("where") and not any(step.get(c) for c in _CHANGING):
        asked = parse_expression(step["where"])
        made = {*step.get("compute", {}), *spec.label, *spec.type}
        if not spec.missing and not made & set(asked.names()):
            where = asked.tree
    return FetchSubset(columns, where) if columns or where is not None else None


def _only_step(plan: Plan, name: str) -> Mapping[str, Any] | None:
    """The one step that takes a source, where nothing else looks at it."""
    found: list[Mapping[str, Any]] = []
    for step in map(step_keys, plan.step):
        if name in step_inputs(step):
            found.append(step)
        if step_result_name(step) == name:
            return found[0] if len(found) == 1 else None
    handed = (plan.handover.result, *plan.handover.further) if plan.handover else ()
    if len(found) != 1 or name in handed or name in _looked_at(plan):
        return None
    return found[0]


def _looked_at(plan: Plan) -> set[str]:
    """The words in what a plan expects, in which names of tables may be."""
    return {s for text in _texts(plan.expect.model_dump()) for s in text.split()}


def _columns(step: Mapping[str, Any], spec: Any, source: Source) -> tuple[str, ...]:
    """The columns that are needed; empty where that is all of them."""
    keep, drop = parse_names(step.get("keep", ())), parse_names(step.get("drop", ()))
    if not keep and not drop:
        return ()
    there = find_reader(source).columns(source)
    used = {*_named({k: v for k, v in step.items() if k != "drop"}), *keep, *spec.type}
    needed = [t for t in there if t in used or (not keep and t not in drop)]
    return tuple(needed) if len(needed) < len(there) else ()


def _named(step: Mapping[str, Any]) -> Iterator[str]:
    """Everything in a step that may be the name of a column."""
    for text in _texts(step):
        yield text
        yield text.partition(":")[0]
        yield text.removesuffix(" desc").removesuffix(" asc")
    for expression in (*step.get("compute", {}).values(), *_compute_first(step)):
        yield from parse_expression(expression).names()
    if step.get("where"):
        yield from parse_expression(step["where"]).names()


def _compute_first(step: Mapping[str, Any]) -> Sequence[str]:
    return tuple(step.get("compute_first", {}).values())


def _texts(value: Any) -> Iterator[str]:
    """All texts in what a plan says, keys too."""
    if isinstance(value, str):
        yield value
        yield from (one.strip() for one in value.split(","))
    elif isinstance(value, Mapping):
        for key, one in value.items():
            yield from _texts(key)
            yield from _texts(one)
    elif isinstance(value, list | tuple):
        for one in value:
            yield from _texts(one)
