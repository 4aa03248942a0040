"""A run against the last one that handed over."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from shlex import quote
from typing import Any

import numpy as np
import pyarrow.parquet

from plait.core.account.errors import PlaitError
from plait.core.account.finding import Finding
from plait.core.codes.groups import Rows
from plait.core.table.keyspec import KeySpec
from plait.core.table.table import Table
from plait.core.verbs.compare import Compared, compare
from plait.formats.delivery.checksum import sha256
from plait.formats.lineage_out import STATED
from plait.formats.reading import read_alone
from plait.plan.runs.clock import day_and_time
from plait.plan.runs.handed import (
    Handed,
    check_as_written,
    dataset_of,
    handed_in,
    is_handover,
    known_key,
)
from plait.plan.runs.history import run_with
from plait.plan.runs.record import Record
from plait.report.between import between
from plait.report.since import BySource, Since

_MOST_SOURCES = 40
_MOST_SEARCHED = 1_000_000  # rows among which a key is sought: it takes a second


def when_made(folder: Path, records: Sequence[Record]) -> str:
    """When the run began that made a handover, as far as the history knows it.

    Returns
    -------
    str
        In ISO form; without a history when the handover was written.
    """
    record = run_with(records, sha256(folder / "ledger.json"))
    if record:
        return record.started
    written = datetime.fromtimestamp((folder / "datapackage.json").stat().st_mtime)
    return written.astimezone().replace(microsecond=0).isoformat()


def what_is_new(
    earlier: Path, part: Path, said: dict[str, Any], records: Sequence[Record]
) -> tuple[Since | None, list[Finding]]:
    """What changed since an earlier handover.

    Parameters
    ----------
    earlier : Path
        Its folder.
    part : Path
        The folder that is being written: dataset and lineage are there.
    said : dict
        The account of this run.
    records : sequence of Record
        The history.

    Returns
    -------
    since : Since or None
        ``None`` where there is none, or none that can be compared with.
    findings : list of Finding
    """
    if not is_handover(earlier):
        return None, []
    try:
        sides = [handed_in(earlier), Handed(part, said)]
        check_as_written(sides[0])
        tables = [read_alone(dataset_of(one, sides[1 - at])) for at, one in enumerate(sides)]
        found = compare(tables, _key(sides, tables))
        by_source = _by_source(earlier, part, found)
    except (PlaitError, OSError, ValueError, KeyError) as error:
        remedy = f"plait compare {quote(str(earlier))} HANDOVER, once this one exists"
        message = f"cannot compare with the last run: {error}"
        return None, [Finding("not-compared", "warning", 1, message, remedy, str(earlier))]
    when = day_and_time(when_made(earlier, records))
    return Since(when, found, between(sides[0].said, said), by_source), list(_of_the_key(found))


def _key(sides: Sequence[Handed | str], tables: Sequence[Table]) -> KeySpec | None:
    """The key that is known; without one none is sought among very many rows."""
    known = known_key(sides, tables)
    return () if known is None and tables[1].rows > _MOST_SEARCHED else known


def _of_the_key(found: Compared) -> Iterator[Finding]:
    """What a plan should say of its key, so that the next run need not guess."""
    for one in found.findings:
        if one.code in ("compared-as-wholes", "key-inferred"):
            columns = ", ".join(f'"{after}"' for _, after in found.key)
            remedy = f"under [handover]: key = [{columns or 'COLUMN, …'}]"
            yield replace(one, severity="note", remedy=remedy)


def _by_source(earlier: Path, part: Path, found: Compared) -> tuple[BySource, ...]:
    """From which sources the rows are that came, went or changed."""
    changed = np.zeros(len(found.pairing.new), bool)
    for one in found.columns:
        changed[one.rows] = True
    counts = {
        "rows_new": _counts(part, found.pairing.added),
        "rows_gone": _counts(earlier, found.pairing.gone),
        "rows_changed": _counts(part, found.pairing.new[changed]),
    }
    names = dict.fromkeys(name for one in counts.values() for name in one)
    every = [
        BySource(name, **{what: one.get(name, 0) for what, one in counts.items()}) for name in names
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
    names = [one["name"] for one in stated["sources"]]
    return {name: count for name, count in zip(names, counts, strict=True) if count}
