"""What is new since the last run, and what may be."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from shlex import quote
from typing import Any

import numpy as np
import pyarrow.parquet

from plait.core.base.errors import PlaitError
from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.codes.key_codes import Rows
from plait.core.operations.compare import Comparison, compare
from plait.io.lineage_file import STATED
from plait.io.places.partial_files import sha256
from plait.io.read import read_single_source
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import AMOUNT
from plait.plan.handover.dataset_digests import (
    MOST_SEARCHED,
    DatasetComparison,
    compare_by_digests,
)
from plait.plan.handover.read import (
    EarlierHandover,
    check_as_written,
    choose_handover_key,
    comparison_source,
    is_handover,
    open_handover_account,
)
from plait.plan.runs.history import RunRecord, find_run_by_ledger, format_timestamp
from plait.report.changes import ChangesSinceLastRun, SourceRowChanges, diff_accounts
from plait.report.document import ExpectationResult

_MOST_SOURCES = 40
_ROWS = {"new": "rows_new", "gone": "rows_gone", "changed": "rows_changed"}
_CODES = {"new": "rows-new", "gone": "rows-gone", "changed": "cells-changed"}
_OF_COLUMNS = ("columns-new", "columns-gone", "columns-renamed", "type-changed")


def handover_time(folder: Path, records: Sequence[RunRecord]) -> str:
    """When the run began that made a handover, as far as the history knows it.

    Returns
    -------
    str
        In ISO form; without a history when the handover was written.
    """
    record = find_run_by_ledger(records, sha256(folder / "ledger.json"))
    if record:
        return record.started
    written = datetime.fromtimestamp((folder / "datapackage.json").stat().st_mtime)
    return written.astimezone().replace(microsecond=0).isoformat()


def changes_since_last_run(
    earlier: Path,
    part: Path,
    said: dict[str, Any],
    records: Sequence[RunRecord],
    further: str = "",
) -> tuple[ChangesSinceLastRun | None, list[Finding]]:
    """What changed since an earlier handover.

    Parameters
    ----------
    earlier : Path
        Its folder.
    part : Path
        The folder that is being written: dataset and lineage are there.
    said : dict
        The account of this run.
    records : sequence of RunRecord
        The history.
    further : str
        A result beside the main one, that is compared.

    Returns
    -------
    since : ChangesSinceLastRun or None
        ``None`` where there is none, or none that can be compared with.
    """
    if not is_handover(earlier):
        return None, []
    try:
        sides = [
            replace(side, further=further)
            for side in (open_handover_account(earlier), EarlierHandover(part, said))
        ]
        if further and not sides[0].files:
            return None, []  # it is handed over for the first time
        found = compare_by_digests(*sides) or _compared_whole(*sides)
        comparison = found.comparison
        by_source = () if further else _by_source(earlier, part, found)
    except (PlaitError, OSError, ValueError, KeyError) as error:
        remedy = f"plait compare {quote(str(earlier))} HANDOVER, once this one exists"
        message = f"cannot compare with the last run: {error}"
        return None, [
            Finding("not-compared", "warning", 1, message, remedy, Location(str(earlier)))
        ]
    when = format_timestamp(handover_time(earlier, records))
    return ChangesSinceLastRun(
        when, comparison, diff_accounts(sides[0].said, said), by_source
    ), list(_of_the_key(comparison))


def _compared_whole(old: EarlierHandover, new: EarlierHandover) -> DatasetComparison:
    """Every cell of both datasets compared.

    Raises
    ------
    SourceError
        When the earlier dataset has been changed since it was written.
    """
    check_as_written(old)
    sources = comparison_source(old, new), comparison_source(new, old)
    tables = [read_single_source(source) for source in sources]
    key = choose_handover_key([old, new], tables)
    if key is None and tables[1].rows > MOST_SEARCHED:
        key = ()  # none is sought among very many rows
    numbers = [np.arange(table.rows) for table in tables]
    return DatasetComparison(compare(tables, key), *numbers)


def _of_the_key(comparison: Comparison) -> Iterator[Finding]:
    """What a plan should say of its key, so that the next run need not guess."""
    for finding in comparison.findings:
        if finding.code in ("compared-as-wholes", "key-inferred"):
            columns = ", ".join(f'"{after}"' for _, after in comparison.key)
            remedy = f"under [handover]: key = [{columns or 'COLUMN, …'}]"
            yield replace(finding, severity="note", remedy=remedy)


def _by_source(earlier: Path, part: Path, found: DatasetComparison) -> tuple[SourceRowChanges, ...]:
    """From which sources the rows are that came, went or changed."""
    pairing = found.comparison.pairing
    changed = np.zeros(len(pairing.new), bool)
    for column in found.comparison.columns:
        changed[column.rows] = True
    counts = {
        "rows_new": _counts(part, found.new_rows[pairing.added]),
        "rows_gone": _counts(earlier, found.old_rows[pairing.gone]),
        "rows_changed": _counts(part, found.new_rows[pairing.new[changed]]),
    }
    names = dict.fromkeys(name for count in counts.values() for name in count)
    every = [
        SourceRowChanges(name, **{what: c.get(name, 0) for what, c in counts.items()})
        for name in names
    ]
    every.sort(key=lambda one: -one.rows)
    return tuple(every[:_MOST_SOURCES])


def _counts(folder: Path, rows: Rows) -> dict[str, int]:
    """Of which sources some rows of a handover's dataset are, by its lineage."""
    if not len(rows):
        return {}
    with pyarrow.parquet.ParquetFile(folder / "lineage.parquet") as file:
        stated = json.loads(file.schema_arrow.metadata[STATED])
        ways = [way for way in stated["rows"] if way in file.schema_arrow.names]
        if not ways:
            return {}
        numbers = file.read([ways[0]]).column(0).take(rows).drop_null().to_numpy()
    starts = np.array([one["start"] for one in stated["sources"]])
    which = np.searchsorted(starts, numbers, side="right") - 1
    counts = np.bincount(which, minlength=len(starts)).tolist()
    names = [s["name"] for s in stated["sources"]]
    return {name: count for name, count in zip(names, counts, strict=True) if count}


def judge_change_expectations(
    loaded_plan: LoadedPlan,
    since: ChangesSinceLastRun | None,
    findings: Iterable[Finding],
    last: RunRecord | None = None,
    accepted: bool = False,
) -> Iterator[ExpectationResult]:
    """Each thing expected of the change, and whether it holds.

    Parameters
    ----------
    since : ChangesSinceLastRun or None
        What changed; ``None`` where that could not be told.
    findings : iterable of Finding
        Of the run.
    last : RunRecord or None
        The last run that handed over, by the history. Where there is one, and what changed
        since cannot be told, nothing that is expected of it holds: only a first run has
        nothing to compare with.
    accepted : bool
        Whether a person accepts whatever changed, this once.
    """
    asked = loaded_plan.plan.expect.change
    if asked is None:
        return
    every = {name: value for name, value in asked.model_dump().items() if value is not None}
    for name, value in every.items():
        line = loaded_plan.line("expect", "change", name)
        message = f"change of {name}: {_in_words(value)}"
        if accepted:
            yield ExpectationResult(message, True, "accepted for this run: --accept-change", line)
        elif since is None and last is not None:
            when = format_timestamp(last.started)
            text = f"cannot be checked: the result of {when} has changed since it was written; "
            yield ExpectationResult(
                message, False, text + "to go on all the same: --accept-change", line
            )
        elif since is None:
            yield ExpectationResult(message, True, "no earlier run to compare with", line)
        else:
            known = (*since.compared.findings, *findings)
            yield _judged(since, known, name, value, message, line)


def _in_words(value: int | str) -> str:
    return "none" if value in (0, "0", "none") else f"at most {value}"


def _judged(
    since: ChangesSinceLastRun,
    findings: Iterable[Finding],
    name: str,
    value: int | str,
    what: str,
    line: int,
) -> ExpectationResult:
    changes = since.compared.changes
    if name == "columns":
        number = len(changes.columns_new) + len(changes.columns_gone)
        number += len(changes.columns_renamed) + len(changes.types)
        holds = number <= _allowed(value, changes.new_rows)[1]
        found = pluralize(number, "column") + " new, gone, renamed or of another type"
        return ExpectationResult(
            what, holds, found, line, () if holds else _examples(findings, *_OF_COLUMNS)
        )
    if name in _ROWS:
        rows = getattr(changes, _ROWS[name])
        holds = rows <= _allowed(value, changes.old_rows)[1]
        found = f"{pluralize(rows, 'row')} {name}"
        return ExpectationResult(
            what, holds, found, line, () if holds else _examples(findings, _CODES[name])
        )
    if name not in since.accounts.figures:
        return ExpectationResult(what, True, "the earlier run did not count them", line)
    then, now = since.accounts.figures[name]
    least, most = _allowed(value, then)
    holds = least <= now - then <= most
    codes = {"unmatched": ("key-unmatched",), "rows": ("rows-gone", "rows-new")}.get(name, ())
    found = f"{then:,} → {now:,}"
    return ExpectationResult(what, holds, found, line, () if holds else _examples(findings, *codes))


def _allowed(value: int | str, of: int) -> tuple[Fraction, Fraction]:
    """The least and the greatest change that is allowed.

    >>> [str(one) for one in _allowed("10 %", 200)], [str(one) for one in _allowed(3, 200)]
    (['-20', '20'], ['-3', '3'])
    """
    match = re.fullmatch(AMOUNT, str(value))
    if match is None or match["none"]:
        return Fraction(0), Fraction(0)
    size = Fraction(match["number"]) * (Fraction(of, 100) if match["percent"] else 1)
    everything = Fraction(10**18)
    least = -everything if match["sign"] == "+" else -size
    return least, everything if match["sign"] == "-" else size


def _examples(findings: Iterable[Finding], *codes: str) -> tuple[FindingExample, ...]:
    every = [finding for finding in findings if finding.code in codes]
    return tuple(example for e in every for example in e.examples)[:MOST_EXAMPLES]
