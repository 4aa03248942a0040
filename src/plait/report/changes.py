"""What changed between two accounts, and since the last run."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from decimal import Decimal
from typing import Any

from plait._version import __version__
from plait.core.base.findings import Finding, by_severity, pluralize
from plait.core.operations.compare import Comparison
from plait.core.operations.comparison.cell_changes import ColumnChange
from plait.core.operations.comparison.change_findings import ChangeCounts
from plait.core.table.key_spec import quote_name
from plait.report.account import OutputSummary, finding_dict, ledger_dict, source_dict
from plait.report.document import (
    Bar,
    Block,
    Change,
    Document,
    Fact,
    Findings,
    Grid,
    GridColumn,
    Ledger,
    Note,
)

_MOST_COLUMNS = 12
_MOST_SOURCES = 8
_CHANGE_SYMBOLS = {"new": "+", "gone": "−", "changed": "≠", "same": "="}
_TOLD = ("unmatched", "conflicts", "set_aside")


@dataclass(frozen=True)
class FindingChange:
    """A finding of either account, and how much it counted; 0 where it does not stand."""

    code: str
    where: str
    message: str
    old: int
    new: int


@dataclass(frozen=True)
class SourceChange:
    """A source of either account.

    Parameters
    ----------
    old_rows, new_rows : int or None
        ``None`` where it was not read.
    """

    path: str
    state: str
    old_rows: int | None
    new_rows: int | None


@dataclass(frozen=True)
class AccountDiff:
    """Two accounts against each other.

    Parameters
    ----------
    figures : mapping of str to (int, int)
        Then and now, of each figure that both have.
    findings : tuple of FindingChange
        New ones first, then those that went, then those that stand.
    sources : tuple of SourceChange
        New, gone, changed, and the same.
    """

    figures: Mapping[str, tuple[int, int]]
    findings: tuple[FindingChange, ...]
    sources: tuple[SourceChange, ...]

    def sources_that_are(self, state: str) -> list[SourceChange]:
        """Those of a state."""
        return [source for source in self.sources if source.state == state]


def diff_accounts(old: Mapping[str, Any], new: Mapping[str, Any]) -> AccountDiff:
    """Set the account of a run against that of a later one.

    Parameters
    ----------
    old, new : mapping
        As ``ledger.json`` has them.

    Examples
    --------
    >>> said = {"figures": {"rows": 7}, "findings": [], "sources": []}
    >>> diff_accounts(said, said | {"figures": {"rows": 9}}).figures
    {'rows': (7, 9)}
    """
    then, now = old["figures"], new["figures"]
    figures = {name: (then[name], now[name]) for name in now if name in then}
    return AccountDiff(figures, tuple(_findings(old, new)), tuple(_sources(old, new)))


def _findings(old: Mapping[str, Any], new: Mapping[str, Any]) -> list[FindingChange]:
    sides = [{(s["code"], s.get("where", "")): s for s in said["findings"]} for said in (old, new)]
    every = dict.fromkeys([*sides[1], *sides[0]])
    finding_changes = [
        FindingChange(
            *name,
            (sides[1].get(name) or sides[0][name])["message"],
            sides[0].get(name, {}).get("count", 0),
            sides[1].get(name, {}).get("count", 0),
        )
        for name in every
    ]
    return sorted(finding_changes, key=lambda f: 0 if not f.old else 1 if not f.new else 2)


_STATES = ("new", "gone", "changed", "same")


def _sources(old: Mapping[str, Any], new: Mapping[str, Any]) -> list[SourceChange]:
    """Each source by its path; one without a checksum is the same when its rows are as many."""
    sides = [{s["path"]: s for s in said["sources"]} for said in (old, new)]
    found = []
    for path in dict.fromkeys([*sides[1], *sides[0]]):
        was, is_ = (side.get(path) for side in sides)
        if was is None or is_ is None:
            state = "new" if was is None else "gone"
        else:
            same = all(was.get(name) == is_.get(name) for name in ("sha256", "rows"))
            state = "same" if same else "changed"
        rows = [None if one is None else one["rows"] for one in (was, is_)]
        found.append(SourceChange(path, state, *rows))
    return sorted(found, key=lambda f: _STATES.index(f.state))


def comparison_document(
    comparison: Comparison,
    accounts: AccountDiff | None,
    findings: Sequence[Finding],
    listed_in: str = "",
    whole: bool = False,
) -> Document:
    """What changed: in rows, by column, in the figures and sources of two handovers.

    Parameters
    ----------
    listed_in : str
        The file that lists each change, where one is written.
    whole : bool
        Also figures and sources that are the same.
    """
    changes = comparison.changes
    if changes.none and not changes.keys_repeated:
        answer = f"nothing changed: {pluralize(changes.new_rows, 'row')}, all equal"
    else:
        answer = (
            f"{pluralize(changes.rows_new, 'row')} new, {changes.rows_gone:,} gone, "
            f"{changes.rows_changed:,} changed, {changes.rows_equal:,} equal"
        )
    blocks = [
        Ledger((comparison.entry,)),
        *_cells_changed(comparison),
        *(_figures_of_both(accounts, whole) if accounts else ()),
        *(_sources_of_both(accounts, whole) if accounts else ()),
        Findings(tuple(findings)),
    ]
    return Document((answer,), tuple(_facts(comparison, listed_in)), tuple(blocks))


def _facts(comparison: Comparison, listed_in: str) -> Iterator[Fact]:
    changes = comparison.changes
    if comparison.key:
        yield Fact("key", ",".join(quote_name(after) for _, after in comparison.key))
    cells = sum(changes.columns.values())
    if cells:
        columns = pluralize(len(changes.columns), "column")
        yield Fact("cells", f"{cells:,} changed, in {columns}")
    columns_changed = [
        f"{len(names):,} {what}"
        for names, what in (
            (changes.columns_new, "new"),
            (changes.columns_gone, "gone"),
            (changes.columns_renamed, "renamed"),
            (changes.types, "of another type"),
        )
        if names
    ]
    if columns_changed:
        yield Fact("columns", ", ".join(columns_changed))
    if listed_in:
        yield Fact("changes", f"{listed_in} lists each one with its old and new row")


def _cells_changed(comparison: Comparison) -> Iterator[Block]:
    """For each column how many cells changed, and by how much."""
    columns = changed_columns(comparison.columns)
    heads = ("cells", "filled", "emptied", "sum", "smallest", "largest")
    if columns:
        yield Grid(
            (GridColumn("column", share=1), *(GridColumn(h, "right", 0, False) for h in heads),
             GridColumn()),
            [
                (
                    *(column.name, column.cells, column.from_missing, column.to_missing),
                    *map(Change, (column.by.sum, column.by.smallest, column.by.largest)),
                    Bar(column.cells, columns[0].cells, "odd"),
                )
                for column in columns
            ],
            "cells changed, and by how much",
            _MOST_COLUMNS,
        )  # fmt: skip


def _figures_of_both(accounts: AccountDiff, whole: bool) -> Iterator[Block]:
    """The figures of both accounts that are not the same, side by side."""
    same = [name for name, (then, now) in accounts.figures.items() if then == now]
    yield Grid(
        (GridColumn("figure"), *(GridColumn(head, "right") for head in ("then", "now", "change"))),
        [
            (
                name.replace("_", " "),
                f"{then:,}",
                f"{now:,}",
                Change(Decimal(now - then) if now != then else None),
            )
            for name, (then, now) in accounts.figures.items()
            if then != now or whole
        ],
        "figures of both runs",
    )
    if same and not whole:
        yield Note(f"the same: {', '.join(name.replace('_', ' ') for name in same)}")
    for word, some in (
        ("new", [finding for finding in accounts.findings if not finding.old]),
        ("gone", [finding for finding in accounts.findings if not finding.new]),
    ):
        for finding in some:
            yield Note(f"{word} finding: {finding.message} [{finding.code}]")


def _sources_of_both(accounts: AccountDiff, whole: bool) -> Iterator[Block]:
    """Which files are new, gone or other ones now."""
    yield Grid(
        (GridColumn(wraps=False), GridColumn(share=1), GridColumn("", "right", 0, False)),
        [
            (f"{_CHANGE_SYMBOLS[source.state]} {source.state}", source.path, _rows(source))
            for source in accounts.sources
            if source.state != "same" or whole
        ],
        "the sources",
        _MOST_SOURCES,
        has_heads=False,
    )
    same = len(accounts.sources_that_are("same"))
    if same and not whole:
        yield Note(f"{pluralize(same, 'source')} the same")


def _rows(source_change: SourceChange) -> str:
    there = [
        f"{rows:,}" for rows in (source_change.old_rows, source_change.new_rows) if rows is not None
    ]
    return f"{' → '.join(dict.fromkeys(there))} rows"


def comparison_dict(
    comparison: Comparison,
    accounts: AccountDiff | None,
    findings: Sequence[Finding],
    outputs: Sequence[OutputSummary],
) -> dict[str, Any]:
    """All of it as plain dictionaries and lists."""
    return {
        "command": "compare",
        "version": __version__,
        "sources": [source_dict(table) for table in (comparison.old, comparison.new)],
        "ledger": [ledger_dict(comparison.entry)],
        "findings": [finding_dict(finding) for finding in by_severity(findings)],
        "outputs": [asdict(output) for output in outputs],
        "changes": change_counts_dict(comparison.changes, comparison.columns, accounts),
    }


def change_counts_dict(
    changes: ChangeCounts, columns: Sequence[ColumnChange], accounts: AccountDiff | None
) -> dict[str, Any]:
    """What changed, and the figures of two accounts where there are two."""
    said = asdict(changes)
    said["types"] = {name: list(two) for name, two in changes.types.items()}
    said["cells"] = {
        column.name: _cells(column) for column in columns if column.cells or column.otherwise
    }
    figures = accounts.figures if accounts else {}
    said["figures"] = {name: list(two) for name, two in figures.items()}
    if accounts:
        said["accounts"] = {
            "findings": [asdict(finding) for finding in accounts.findings],
            "sources": [asdict(source) for source in accounts.sources],
        }
    return said


def _cells(column_change: ColumnChange) -> dict[str, Any]:
    by = column_change.by
    return {
        "changed": column_change.cells,
        "from_missing": column_change.from_missing,
        "to_missing": column_change.to_missing,
        "written_otherwise": column_change.otherwise,
        "within": column_change.within,
        "sum": None if by.sum is None else str(by.sum),
        "smallest": None if by.smallest is None else str(by.smallest),
        "largest": None if by.largest is None else str(by.largest),
    }


def compared_json(
    comparison: Comparison,
    accounts: AccountDiff | None,
    findings: Sequence[Finding],
    outputs: Sequence[OutputSummary],
) -> str:
    """All of it as JSON text, two spaces deep."""
    said = comparison_dict(comparison, accounts, findings, outputs)
    return json.dumps(said, indent=2, ensure_ascii=False)


def changed_columns(columns: Sequence[ColumnChange]) -> list[ColumnChange]:
    """Those in which cells changed, most first."""
    return sorted((column for column in columns if column.cells), key=lambda c: -c.cells)


@dataclass(frozen=True)
class SourceRowChanges:
    """How many rows of a source came, went and changed."""

    name: str
    rows_new: int
    rows_gone: int
    rows_changed: int

    @property
    def rows(self) -> int:
        """All of them."""
        return self.rows_new + self.rows_gone + self.rows_changed


@dataclass(frozen=True, eq=False)
class ChangesSinceLastRun:
    """What changed since the last run that handed over.

    Parameters
    ----------
    when : str
        When that was: ``2031-05-03 06:00``.
    compared : Comparison
        Its dataset and this one.
    accounts : AccountDiff
        Its account and this one.
    by_source : tuple of SourceRowChanges
        Those with any change, most first.
    """

    when: str
    compared: Comparison
    accounts: AccountDiff
    by_source: tuple[SourceRowChanges, ...]

    def facts(self) -> Iterator[Fact]:
        """What is new, in up to three lines."""
        yield Fact(f"since {self.when}", self.in_short())
        figures = [
            f"{name.replace('_', ' ')} {then:,} → {now:,}"
            for name in _TOLD
            if name in self.accounts.figures
            for then, now in [self.accounts.figures[name]]
            if then != now
        ]
        if figures:
            yield Fact("figures", ", ".join(figures))
        states = ("new", "gone", "changed")
        counts = {state: len(self.accounts.sources_that_are(state)) for state in states}
        files = [f"{pluralize(count, 'file')} {state}" for state, count in counts.items() if count]
        if files:
            yield Fact("sources", ", ".join(files))

    def in_short(self) -> str:
        """How many rows are new, gone and changed."""
        changes = self.compared.changes
        if changes.none:
            return f"the same {pluralize(changes.new_rows, 'row')}"
        return (
            f"{pluralize(changes.rows_new, 'row')} new, {changes.rows_gone:,} gone, "
            f"{changes.rows_changed:,} changed{self._columns()}"
        )

    def _columns(self) -> str:
        changes = self.compared.changes
        told = (
            (len(changes.columns_new), "new"),
            (len(changes.columns_gone), "gone"),
            (len(changes.columns_renamed), "renamed"),
            (len(changes.types), "of another type"),
        )
        texts = [f"{pluralize(number, 'column')} {word}" for number, word in told if number]
        return f"; {', '.join(texts)}" if texts else ""


def since_dict(since: ChangesSinceLastRun) -> dict[str, Any]:
    """What is new as plain dictionaries and lists."""
    return {
        "since": since.when,
        **change_counts_dict(since.compared.changes, since.compared.columns, since.accounts),
        "by_source": [asdict(b) for b in since.by_source],
    }
