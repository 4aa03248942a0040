"""The counts of a comparison, and the findings about them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.base.wording import Command, Setting, wording
from plait.core.codes.key_codes import Rows
from plait.core.keys.duplicates import format_cell, format_key
from plait.core.operations.comparison.cell_changes import ColumnChange
from plait.core.operations.comparison.record_pairing import Names, RecordPairs
from plait.core.table.key_spec import quote_name
from plait.core.table.table import Table
from plait.core.text.cells import to_text


@dataclass(frozen=True)
class ChangeCounts:
    """What changed, in numbers.

    Parameters
    ----------
    key : tuple of str
        The new table's columns by which rows are known; none where they are compared as wholes.
    columns : mapping of str to int
        Cells changed, of each column in which any did.
    columns_renamed : mapping of str to str
        New name to old name.
    types : mapping of str to (str, str)
        What the cells of a column were and are, where that is not the same.
    keys_repeated : int
        Keys on several rows of either table: their rows are compared as wholes.
    """

    key: tuple[str, ...]
    old_rows: int
    new_rows: int
    rows_new: int
    rows_gone: int
    rows_equal: int
    rows_changed: int
    columns: Mapping[str, int]
    columns_new: tuple[str, ...]
    columns_gone: tuple[str, ...]
    columns_renamed: Mapping[str, str]
    types: Mapping[str, tuple[str, str]]
    keys_repeated: int

    @property
    def none(self) -> bool:
        """Whether the two say the same."""
        rows = self.rows_new or self.rows_gone or self.rows_changed
        columns = self.columns_new or self.columns_gone or self.columns_renamed
        return not (rows or columns or self.types)


def report_changes(
    old: Table,
    new: Table,
    key: Names,
    pairing: RecordPairs,
    columns: Sequence[ColumnChange],
    changes: ChangeCounts,
    chosen: bool,
) -> Iterator[Finding]:
    """The findings, with examples.

    Parameters
    ----------
    chosen : bool
        Whether the key was found among the candidates.
    """
    yield from _of_the_key(old, new, key, pairing, changes.new_rows, chosen)
    names = [before for before, _ in key], [after for _, after in key]
    yield from _of_rows(old, names[0], pairing.gone, "rows-gone", "warning", "only in the old")
    yield from _of_rows(new, names[1], pairing.added, "rows-new", "note", "only in the new")
    yield from _of_columns(changes)
    for column in columns:
        yield from _of_cells(old, new, names[1], pairing, column)


def _of_the_key(
    old: Table, new: Table, key: Names, pairing: RecordPairs, rows: int, chosen: bool
) -> Iterator[Finding]:
    columns = tuple(quote_name(after) for _, after in key)
    if not key:
        yield Finding(
            "compared-as-wholes",
            "warning",
            rows,
            "no key given or found, so whole rows are compared: a row with a changed "
            "cell counts as one row gone and one new",
            wording(Setting("key", ("COLUMN", "…"))),
        )
    elif chosen:
        yield Finding(
            "key-inferred",
            "note",
            len(key),
            f"no key given: rows are identified by {','.join(columns)}, which is unique in both "
            "tables",
            wording("confirm it, or name another key: ", Setting("key", columns)),
        )
    if pairing.keys_repeated:
        some = [(old, row, 0) for row in pairing.repeated[0][:MOST_EXAMPLES]]
        some += [(new, row, 1) for row in pairing.repeated[1][:MOST_EXAMPLES]]
        yield Finding(
            "key-not-unique",
            "warning",
            pairing.keys_repeated,
            f"{pluralize(pairing.keys_repeated, 'key')} on several rows of one table: "
            "identical rows are paired; the other rows count as gone or new",
            wording(Command("keys", (new.path or new.name,), (Setting("key", columns),))),
            Location(new.name),
            tuple(
                FindingExample(
                    format_key(table, [pair[side] for pair in key], int(row)),
                    table.source_rows(row),
                )
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
            f"{pluralize(len(rows), 'row')} {where}",
            wording("to list them: ", Setting("out", "changes.csv")),
            Location(table.name),
            tuple(
                FindingExample(format_key(table, names, int(row)), table.source_rows(int(row)))
                for row in rows[:MOST_EXAMPLES]
            ),
        )


def _of_columns(changes: ChangeCounts) -> Iterator[Finding]:
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
            examples = tuple(map(FindingExample, every)) if len(every) > MOST_EXAMPLES else ()
            message = (
                f"{pluralize(len(every), 'column')} {what}: {', '.join(every[:MOST_EXAMPLES])}"
            )
            yield Finding(code, severity, len(every), message, examples=examples[:MOST_EXAMPLES])


def _of_cells(
    old: Table, new: Table, key: Sequence[str], pairing: RecordPairs, column_change: ColumnChange
) -> Iterator[Finding]:
    if column_change.cells:
        few = column_change.rows[:MOST_EXAMPLES]
        yield Finding(
            "cells-changed",
            "note",
            column_change.cells,
            f"{pluralize(column_change.cells, 'cell')} of {column_change.name} changed",
            wording("to list them: ", Setting("out", "changes.csv")),
            Location(column=column_change.name),
            tuple(
                _example(old, new, key, column_change, int(before), int(after))
                for before, after in zip(pairing.old[few], pairing.new[few], strict=True)
            ),
        )
    if column_change.otherwise:
        yield Finding(
            "written-otherwise",
            "note",
            column_change.otherwise,
            f"{pluralize(column_change.otherwise, 'number')} of {column_change.name} "
            "written differently but "
            "equal in value; not counted as changed",
            where=Location(column=column_change.name),
        )


def _example(
    old: Table, new: Table, key: Sequence[str], column_change: ColumnChange, before: int, after: int
) -> FindingExample:
    was, is_ = (
        format_changed_cell(old, column_change.old_name, before),
        format_changed_cell(new, column_change.name, after),
    )
    who = f"{format_key(new, key, after)}: " if key else ""
    return FindingExample(
        f"{who}{was} → {is_}", (*old.source_rows(before), *new.source_rows(after))
    )


def format_changed_cell(table: Table, name: str, row: int) -> str:
    """A cell as people are shown it."""
    return format_cell(to_text(table.cells(table.column(name), row, row + 1))[0].as_py())
