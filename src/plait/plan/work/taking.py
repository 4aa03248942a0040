"""What a plan never uses of a table in a database, so that it is not fetched.

Only what the one step that takes the table says beyond doubt: the columns that a ``mend``
keeps or drops, and its condition on rows where nothing before that changes their cells.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from plait.core.sql.expression import parse
from plait.core.table.keyspec import names
from plait.formats.places.source import Source, Taking
from plait.formats.readers import reader_of
from plait.plan.file.model import Plan, verb_of
from plait.plan.file.naming import as_written, inputs_of, result_name

_CHANGING = (
    *("header", "rename", "missing", "trim", "split", "replace_value", "fill", "type"),
    "compute_first",
)


def taking_of(plan: Plan, name: str, source: Source) -> Taking | None:
    """What is fetched for a source of a plan; ``None`` for all of it.

    Parameters
    ----------
    plan : Plan
    name : str
        The plan's name for the source.
    source : Source
        A table of a database.
    """
    step = _only_step(plan, name)
    if step is None or verb_of(step) != "mend":
        return None
    spec: Any = plan.source[name]
    columns = _columns(step, spec, source) if not step.get("header") else ()
    where = None
    if step.get("where") and not any(step.get(one) for one in _CHANGING):
        asked = parse(step["where"])
        made = {*step.get("compute", {}), *spec.label, *spec.type}
        if not spec.missing and not made & set(asked.names()):
            where = asked.tree
    return Taking(columns, where) if columns or where is not None else None


def _only_step(plan: Plan, name: str) -> Mapping[str, Any] | None:
    """The one step that takes a source, where nothing else looks at it."""
    found: list[Mapping[str, Any]] = []
    for step in map(as_written, plan.step):
        if name in inputs_of(step):
            found.append(step)
        if result_name(step) == name:
            return found[0] if len(found) == 1 else None
    handed = plan.handover.result if plan.handover else None
    if len(found) != 1 or handed == name or name in _looked_at(plan):
        return None
    return found[0]


def _looked_at(plan: Plan) -> set[str]:
    """The words in what a plan expects, in which names of tables may be."""
    return {word for text in _texts(plan.expect.model_dump()) for word in text.split()}


def _columns(step: Mapping[str, Any], spec: Any, source: Source) -> tuple[str, ...]:
    """The columns that are needed; empty where that is all of them."""
    keep, drop = names(step.get("keep", ())), names(step.get("drop", ()))
    if not keep and not drop:
        return ()
    there = reader_of(source).columns(source)
    used = {*_named({k: v for k, v in step.items() if k != "drop"}), *keep, *spec.type}
    needed = [one for one in there if one in used or (not keep and one not in drop)]
    return tuple(needed) if len(needed) < len(there) else ()


def _named(step: Mapping[str, Any]) -> Iterator[str]:
    """Everything in a step that may be the name of a column."""
    for text in _texts(step):
        yield text
        yield text.partition(":")[0]
        yield text.removesuffix(" desc").removesuffix(" asc")
    for expression in (*step.get("compute", {}).values(), *_compute_first(step)):
        yield from parse(expression).names()
    if step.get("where"):
        yield from parse(step["where"]).names()


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
