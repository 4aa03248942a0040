"""What an analyst must know of the changes between two tables."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from shlex import quote

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.codes.groups import Rows
from plait.core.keys.duplicates import as_shown, key_text
from plait.core.table.keyspec import quoted
from plait.core.table.table import Table
from plait.core.text.cells import as_text
from plait.core.verbs.comparing.cells import ColumnChange
from plait.core.verbs.comparing.changes import Changes
from plait.core.verbs.comparing.pairing import Names, Pairing


def change_findings(
    old: Table,
    new: Table,
    key: Names,
    pairing: Pairing,
    columns: Sequence[ColumnChange],
    changes: Changes,
    chosen: bool,
) -> Iterator[Finding]:
    """The findings, with examples.

    Parameters
    ----------
    old, new : Table
    key : sequence of (str, str)
    pairing : Pairing
    columns : sequence of ColumnChange
    changes : Changes
    chosen : bool
        Whether the key was found among the candidates.
    """
    yield from _of_the_key(old, new, key, pairing, chosen)
    names = [before for before, _ in key], [after for _, after in key]
    yield from _of_rows(old, names[0], pairing.gone, "rows-gone", "warning", "only in the old")
    yield from _of_rows(new, names[1], pairing.added, "rows-new", "note", "only in the new")
    yield from _of_columns(changes)
    for one in columns:
        yield from _of_cells(old, new, names[1], pairing, one)


def _of_the_key(
    old: Table, new: Table, key: Names, pairing: Pairing, chosen: bool
) -> Iterator[Finding]:
    if not key:
        yield Finding(
            "compared-as-wholes",
            "warning",
            new.rows,
            "no key given or found, so whole rows are compared: a row with a changed "
            "cell counts as one row gone and one new",
            "--key COLUMN,…",
        )
    elif chosen:
        said = ",".join(quoted(after) for _, after in key)
        yield Finding(
            "key-inferred",
            "note",
            len(key),
            f"no key given: rows are identified by {said}, which is unique in both tables",
            f"confirm it, or name another key: --key {quote(said)}",
        )
    if pairing.keys_repeated:
        some = [(old, row, 0) for row in pairing.repeated[0][:MOST_EXAMPLES]]
        some += [(new, row, 1) for row in pairing.repeated[1][:MOST_EXAMPLES]]
        yield Finding(
            "key-not-unique",
            "warning",
            pairing.keys_repeated,
            f"{counted(pairing.keys_repeated, 'key')} on several rows of one table: "
            "identical rows are paired; the other rows count as gone or new",
            f"plait keys {quote(new.path or new.name)} --key "
            f"{quote(','.join(quoted(after) for _, after in key))}",
            new.name,
            tuple(
                Example(key_text(table, [pair[side] for pair in key], int(row)), table.places(row))
                for table, row, side in some[:MOST_EXAMPLES]
            ),
        )


def _of_rows(
    table: Table, key: Sequence[str], rows: Rows, code: str, severity: str, where: str
) -> Iterator[Finding]:
    if len(rows):
        names = key or table.column_names[:3]
        yield Finding(
            code,
            severity,
            len(rows),
            f"{counted(len(rows), 'row')} {where}",
            "--out changes.csv lists them",
            table.name,
            tuple(
                Example(key_text(table, names, int(row)), table.places(int(row)))
                for row in rows[:MOST_EXAMPLES]
            ),
        )


def _of_columns(changes: Changes) -> Iterator[Finding]:
    renamed = [f"{before} is {after}" for after, before in changes.columns_renamed.items()]
    types = [f"{name}: {was}, and now {is_}" for name, (was, is_) in changes.types.items()]
    told: list[tuple[str, str, str, Iterable[str]]] = [
        ("columns-gone", "warning", "only in the old", changes.columns_gone),
        ("columns-renamed", "warning", "renamed, judging by their values", renamed),
        ("type-changed", "warning", "of another type", types),
        ("columns-new", "note", "only in the new", changes.columns_new),
    ]
    for code, severity, what, names in told:
        every = list(names)
        if every:
            examples = tuple(map(Example, every)) if len(every) > MOST_EXAMPLES else ()
            message = f"{counted(len(every), 'column')} {what}: {', '.join(every[:MOST_EXAMPLES])}"
            yield Finding(code, severity, len(every), message, examples=examples[:MOST_EXAMPLES])


def _of_cells(
    old: Table, new: Table, key: Sequence[str], pairing: Pairing, one: ColumnChange
) -> Iterator[Finding]:
    if one.cells:
        few = one.rows[:MOST_EXAMPLES]
        yield Finding(
            "cells-changed",
            "note",
            one.cells,
            f"{counted(one.cells, 'cell')} of {one.name} changed",
            "--out changes.csv lists them",
            one.name,
            tuple(
                _example(old, new, key, one, int(before), int(after))
                for before, after in zip(pairing.old[few], pairing.new[few], strict=True)
            ),
        )
    if one.otherwise:
        yield Finding(
            "written-otherwise",
            "note",
            one.otherwise,
            f"{counted(one.otherwise, 'number')} of {one.name} written differently but "
            "equal in value; not counted as changed",
            where=one.name,
        )


def _example(
    old: Table, new: Table, key: Sequence[str], one: ColumnChange, before: int, after: int
) -> Example:
    was, is_ = cell_of(old, one.old_name, before), cell_of(new, one.name, after)
    who = f"{key_text(new, key, after)}: " if key else ""
    return Example(f"{who}{was} → {is_}", (*old.places(before), *new.places(after)))


def cell_of(table: Table, name: str, row: int) -> str:
    """A cell as people are shown it."""
    return as_shown(as_text(table.cells(table.column(name), row, row + 1))[0].as_py())
