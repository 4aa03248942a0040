"""Conditions on rows that a database may decide: those that mean exactly the same there.

Numbers, dates, true and false are compared alike everywhere, with the same three-valued logic.
Texts are equal alike where a database compares all their signs; an empty text counts as
missing here and not there, so that what is *not* equal is decided here.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from contextlib import suppress

from plait.core.sql.syntax import Node
from plait.formats.servers.relation import Field, Relation

_COMPARING = ("=", "<>", "<", "<=", ">", ">=")
_ALIKE = {"integer": "number", "numeric": "number", "date": "date", "boolean": "boolean"}


def pushable(node: Node, relation: Relation) -> Node | None:
    """The part of a condition that a database may decide; the whole holds only where that does.

    Examples
    --------
    >>> from plait.core.sql.syntax import read
    >>> hive = Field("hive", "integer", "integer", '"hive"', '"hive"::text')
    >>> visits = Relation("visits", "visits", (hive,))
    >>> found = pushable(read("hive > 7 AND UPPER(note) = 'CALM'"), visits)
    >>> condition_text(found, visits, lambda name: name)
    '(hive > 7)'
    """
    if node.op == "and":
        parts = [part for part in (pushable(one, relation) for one in node.parts) if part]
        if len(parts) == len(node.parts):
            return Node("and", tuple(parts))
        return parts[0] if parts else None
    return node if _means_the_same(node, relation, True) else None


def _means_the_same(node: Node, relation: Relation, plainly: bool) -> bool:
    """Whether a condition is the same there; ``plainly``: nothing above it turns it round."""
    if node.op in ("and", "or"):
        return all(_means_the_same(one, relation, plainly) for one in node.parts)
    if node.op == "not":
        return _means_the_same(node.parts[0], relation, False)
    if node.op == "is":
        return node.parts[1].op == "null" and _sort(node.parts[0], relation) in _ALIKE.values()
    if node.op in ("true", "false", "column"):
        return _sort(node, relation) == "boolean"
    if node.op in (*_COMPARING, "in", "between"):
        sorts = {_sort(one, relation) for one in node.parts}
        if sorts == {"text"}:
            column, *others = node.parts
            known = column.op == "column" and all(one.op == "text" and one.word for one in others)
            return plainly and known and node.op in ("=", "in")
        return len(sorts) == 1 and None not in sorts
    return False


def _sort(node: Node, relation: Relation) -> str | None:
    """What kind of value a part of a condition is, where that is certain."""
    if node.op == "column":
        field = _field(node.word, relation)
        if field is None:
            return None
        if field.kind == "text":
            return "text" if field.exact_text else None
        return _ALIKE.get(field.kind)
    if node.op == "number" and node.word.replace(".", "", 1).isdecimal():
        return "number"
    if node.op == "negative" and node.parts[0].op == "number":
        return _sort(node.parts[0], relation)
    if node.op == "cast" and node.parts[0].op == "text" and node.parts[1].word == "DATE":
        with suppress(ValueError):
            dt.date.fromisoformat(node.parts[0].word)
            return "date"
    return {"text": "text", "true": "boolean", "false": "boolean"}.get(node.op)


def _field(name: str, relation: Relation) -> Field | None:
    return next((one for one in relation.fields if one.name == name), None)


def condition_text(node: Node, relation: Relation, quoted: Callable[[str], str]) -> str:
    """A condition as SQL for a database; ``quoted`` writes names as it has them."""

    def said(one: Node) -> str:
        return condition_text(one, relation, quoted)

    parts = [said(one) for one in node.parts if one.op != "type"]
    if node.op == "column":
        return quoted(node.word)
    if node.op in ("text", "cast"):
        text = node.word if node.op == "text" else node.parts[0].word
        sign = text.replace("'", "''")
        return f"'{sign}'" if node.op == "text" else f"DATE '{sign}'"
    if node.op == "number":
        return node.word
    if node.op in ("true", "false", "null"):
        return node.op.upper()
    if node.op == "negative":
        return f"(- {parts[0]})"
    if node.op == "not":
        return f"(NOT {parts[0]})"
    if node.op == "in":
        return f"({parts[0]} IN ({', '.join(parts[1:])}))"
    if node.op == "between":
        return f"({parts[0]} BETWEEN {parts[1]} AND {parts[2]})"
    return f"({f' {node.op.upper()} '.join(parts)})"
