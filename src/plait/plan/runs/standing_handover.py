"""A handover that stands as it is, since nothing has changed of what it was made from.

What is asked first costs next to nothing: sizes, and when files were changed last. Only files of
the same size that were changed since, or just before the run, have their checksums worked out.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import Any

from plait._version import __version__
from plait.core.base.errors import PlaitError
from plait.core.base.findings import Finding
from plait.core.types.periods import parse_series
from plait.io.places.partial_files import sha256
from plait.io.places.safe_files import read_plain
from plait.io.places.source import DATABASES, STANDARD_INPUT, Source
from plait.plan.file.load import LoadedPlan
from plait.plan.handover.make_report import path_from_plan
from plait.plan.handover.read import is_handover
from plait.plan.runs.history import RunRecord, last_successful_run, text_checksum

# A file that was changed so shortly before it was read may have been changed again within the same
# tick of the clock: its time proves nothing.
_JUST_BEFORE = 2_000_000_000  # nanoseconds


@dataclass(frozen=True)
class StandingHandover:
    """A handover of which nothing would be different if the plan was run again.

    Parameters
    ----------
    made : RunRecord
        The run that made it.
    sources : int
        How many sources were looked at.
    hashed : int
        Of how many of their files the checksum was worked out.
    """

    folder: Path
    made: RunRecord
    sources: int
    hashed: int

    @property
    def account(self) -> str:
        """What ``ledger.json`` says."""
        return read_plain(self.folder / "ledger.json").decode("utf-8").rstrip("\n")

    @property
    def dataset(self) -> str:
        """The first file of the result."""
        return str(json.loads(self.account)["outputs"][0]["path"])


def modification_times(sources: Iterable[Source], folder: Path, now: datetime) -> dict[str, int]:
    """When each source's file was changed last, in nanoseconds; 0 where that was just before.

    Parameters
    ----------
    folder : Path
        The plan's: from there paths are told.
    """
    latest = int(now.timestamp() * 1e9) - _JUST_BEFORE
    times = {}
    for source in sources:
        path = Path(source.path)
        if _is_plain_file(source) and path.is_file():
            modified = path.stat().st_mtime_ns
            times[path_from_plan(source.where, folder)] = modified if modified < latest else 0
    return times


def find_standing_handover(
    loaded_plan: LoadedPlan,
    folder: Path,
    sources: Sequence[Source],
    not_taken: Sequence[Finding],
    records: Sequence[RunRecord],
    today: date,
) -> StandingHandover | None:
    """The handover of the last run, where sources, plan, parameters and version are what they were.

    Parameters
    ----------
    folder : Path
        The plan's handover.
    sources : sequence of Source
        All tables that the plan reads.
    not_taken : sequence of Finding
        Of files beside them: one that came since may be meant to be read.
    records : sequence of RunRecord
        The history.

    Returns
    -------
    StandingHandover or None
        ``None`` also where it cannot be told, as of what stands in a database, or is fetched.
    """
    made = last_successful_run(records)
    if made is not None and made.same_as is not None:
        made = next((one for one in records if one.run == made.same_as), None)
    handover = loaded_plan.plan.handover
    if made is None or handover is None or handover.database is not None:
        return None
    try:
        if not (_is_same_work(loaded_plan, made, today) and _stands(folder, made, loaded_plan)):
            return None
        known = json.loads(read_plain(folder / "ledger.json"))["findings"]
        told = {finding["message"] for finding in known if finding["code"] == "not-read"}
        if told != {finding.message for finding in not_taken}:
            return None
        hashed = _hashed_sources(sources, loaded_plan.folder, made.sources)
    except (PlaitError, OSError, ValueError, KeyError, TypeError, RecursionError):
        return None
    return None if hashed is None else StandingHandover(folder, made, len(sources), hashed)


def _is_same_work(loaded_plan: LoadedPlan, made: RunRecord, today: date) -> bool:
    """Whether version, plan and parameters are what they were, and so is what the plan expects."""
    expected_then = date.fromisoformat(made.started[:10])
    return (
        made.version == __version__
        and made.plan_sha256 == text_checksum(loaded_plan.without_secrets(loaded_plan.text))
        and _as_json(made.parameters) == _as_json(loaded_plan.shown_parameters())
        and all(
            parse_series(asked, today) == parse_series(asked, expected_then)
            for asked in loaded_plan.plan.expect.series.values()
        )
    )


def _as_json(parameters: Mapping[str, Any]) -> str:
    """Parameters as a history keeps them."""
    return json.dumps(dict(parameters), sort_keys=True, ensure_ascii=False, default=str)


def _stands(folder: Path, made: RunRecord, loaded_plan: LoadedPlan) -> bool:
    """Whether the folder has every file of that run, as it was written."""
    if (loaded_plan.folder / made.handover).resolve() != folder.resolve():
        return False
    if not is_handover(folder) or sha256(folder / "ledger.json") != made.ledger:
        return False
    descriptor = folder / "datapackage.json"
    written = descriptor.stat().st_mtime_ns  # the last of all
    if written > (datetime.fromisoformat(made.ended).timestamp() + 1) * 1e9:
        return False
    for resource in json.loads(read_plain(descriptor))["resources"]:
        path = folder / str(resource["path"])
        if not path.is_file() or path.is_symlink() or path.stat().st_size != resource["bytes"]:
            return False
        later = path.stat().st_mtime_ns > written
        if later and f"sha256:{sha256(path)}" != resource["hash"]:
            return False
    return True


def _hashed_sources(
    sources: Sequence[Source], folder: Path, known: Sequence[Mapping[str, Any]]
) -> int | None:
    """Of how many files the checksum had to be worked out; ``None`` where one is not as it was."""
    sums: dict[str, str] = {}
    if len(sources) != len(known):
        return None
    for source, was in zip(sources, known, strict=True):
        path = Path(source.path)
        if path_from_plan(source.where, folder) != was["path"] or not _is_plain_file(source):
            return None
        if source.size != was["bytes"]:
            return None
        if path.stat().st_mtime_ns != was["modified"]:
            if source.path not in sums:
                sums[source.path] = sha256(path)
            if not was["sha256"] or sums[source.path] != was["sha256"]:
                return None
    return len(sums)


def _is_plain_file(source: Source) -> bool:
    """Whether all there is of a source is in one file of this machine."""
    if source.address is not None or source.path == STANDARD_INPUT or source.error:
        return False
    if source.passed_over:  # the account names files that are not read, and others may have come
        return False
    if source.ending in DATABASES:  # what was written last may be in its log, until that is merged
        log = Path(f"{source.path}-wal")
        return not (log.exists() and log.stat().st_size)
    return True
