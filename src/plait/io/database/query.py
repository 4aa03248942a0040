"""What is asked of a server: statements, and conditions that it can decide.

Numbers, dates, true and false are compared alike everywhere, with the same three-valued logic.
Texts are equal alike where a database compares all their signs; an empty text counts as
missing here and not there, so that what is *not* equal is decided here.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from contextlib import suppress

from plait.core.expressions.parser import SyntaxNode
from plait.io.database.relation import FetchRequest, Relation, RelationColumn

_COMPARING = ("=", "<>", "<", "<=", ">", ">=")
_ALIKE = {"integer": "number", "numeric": "number", "date": "date", "boolean": "boolean"}

Keys = Sequence[tuple[object, ...]]


def pushable_predicate(node: SyntaxNode, relation: Relation) -> SyntaxNode | None:
    """The part of a condition that a database may decide; the whole holds only where that does.

    Examples
    --------
    >>> from plait.core.expressions.parser import parse_syntax
    >>> hive = RelationColumn("hive", "integer", "integer", '"hive"', '"hive"::text')
    >>> visits = Relation("visits", "visits", (hive,))
    >>> found = pushable_predicate(parse_syntax("hive > 7 AND UPPER(note) = 'CALM'"), visits)
    >>> predicate_to_sql(found, visits, lambda name: name)
    '(hive > 7)'
    """
    if node.op == "and":
        parts = [part for part in (pushable_predicate(p, relation) for p in node.parts) if part]
        if len(parts) == len(node.parts):
            return SyntaxNode("and", tuple(parts))
        return parts[0] if parts else None
    return node if _means_the_same(node, relation, True) else None


def _means_the_same(node: SyntaxNode, relation: Relation, plainly: bool) -> bool:
    """Whether a condition is the same there; ``plainly``: nothing above it turns it round."""
    if node.op in ("and", "or"):
        return all(_means_the_same(p, relation, plainly) for p in node.parts)
    if node.op == "not":
        return _means_the_same(node.parts[0], relation, False)
    if node.op == "is":
        return node.parts[1].op == "null" and _sort(node.parts[0], relation) in _ALIKE.values()
    if node.op in ("true", "false", "column"):
        return _sort(node, relation) == "boolean"
    if node.op in (*_COMPARING, "in", "between"):
        sorts = {_sort(part, relation) for part in node.parts}
        if sorts == {"text"}:
            column, *others = node.parts
            known = column.op == "column" and all(o.op == "text" and o.word for o in others)
            return plainly and known and node.op in ("=", "in")
        return len(sorts) == 1 and None not in sorts
    return False


def _sort(node: SyntaxNode, relation: Relation) -> str | None:
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


def _field(name: str, relation: Relation) -> RelationColumn | None:
    return next((field for field in relation.fields if field.name == name), None)


def predicate_to_sql(node: SyntaxNode, relation: Relation, quoted: Callable[[str], str]) -> str:
    """A condition as SQL for a database; ``quoted`` writes names as it has them."""

    def said(syntax_node: SyntaxNode) -> str:
        return predicate_to_sql(syntax_node, relation, quoted)

    parts = [said(part) for part in node.parts if part.op != "type"]
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


def select_statement(
    relation: Relation,
    fetch_request: FetchRequest,
    quoted: Callable[[str], str],
    one_of: Callable[[Relation, Keys], str],
) -> str:
    """The text of a SELECT.

    Parameters
    ----------
    quoted : callable
        Writes a name as the database has it.
    one_of : callable
        Writes that the key is one of some.

    Examples
    --------
    >>> from plait.io.database.relation import RelationColumn
    >>> hive = RelationColumn("hive", "integer", "integer", "hive", "hive::text")
    >>> hives = Relation("hives", "hives", (hive,), ("hive",))
    >>> request = FetchRequest((hive,), ordered=True, most=9)
    >>> select_statement(hives, request, lambda name: name, lambda *_: "")
    'SELECT hive FROM hives ORDER BY hive LIMIT 9'
    """
    # Where nothing is wanted but how many rows there are, something stands for them.
    columns = ", ".join(field.fetched for field in fetch_request.fields) or "1"
    text = f"SELECT {columns} FROM {relation.source}"
    conditions = []
    if fetch_request.where is not None:
        conditions.append(predicate_to_sql(fetch_request.where, relation, quoted))
    if fetch_request.keys:
        conditions.append(one_of(relation, fetch_request.keys))
    if conditions:
        text += f" WHERE {' AND '.join(conditions)}"
    if fetch_request.ordered and relation.key:
        text += f" ORDER BY {', '.join(map(quoted, relation.key))}"
    return text if fetch_request.most is None else f"{text} LIMIT {fetch_request.most}"
