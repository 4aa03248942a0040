"""The SELECT that fetches what is wanted of a relation."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from plait.formats.servers.pushing import condition_text
from plait.formats.servers.relation import Relation, Wanted

Keys = Sequence[tuple[object, ...]]


def select(
    relation: Relation,
    wanted: Wanted,
    quoted: Callable[[str], str],
    one_of: Callable[[Relation, Keys], str],
) -> str:
    """The text of a SELECT.

    Parameters
    ----------
    relation : Relation
    wanted : Wanted
    quoted : callable
        Writes a name as the database has it.
    one_of : callable
        Writes that the key is one of some.

    Examples
    --------
    >>> from plait.formats.servers.relation import Field
    >>> hive = Field("hive", "integer", "integer", "hive", "hive::text")
    >>> hives = Relation("hives", "hives", (hive,), ("hive",))
    >>> select(hives, Wanted((hive,), ordered=True, most=9), lambda name: name, lambda *_: "")
    'SELECT hive FROM hives ORDER BY hive LIMIT 9'
    """
    # Where nothing is wanted but how many rows there are, something stands for them.
    columns = ", ".join(one.fetched for one in wanted.fields) or "1"
    text = f"SELECT {columns} FROM {relation.source}"
    conditions = []
    if wanted.where is not None:
        conditions.append(condition_text(wanted.where, relation, quoted))
    if wanted.keys:
        conditions.append(one_of(relation, wanted.keys))
    if conditions:
        text += f" WHERE {' AND '.join(conditions)}"
    if wanted.ordered and relation.key:
        text += f" ORDER BY {', '.join(map(quoted, relation.key))}"
    return text if wanted.most is None else f"{text} LIMIT {wanted.most}"
