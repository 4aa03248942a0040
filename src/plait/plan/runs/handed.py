"""A handover as a later run, or a person, compares with it: its dataset, its key, its account."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from plait.core.account.errors import SourceError
from plait.core.table.keyspec import KeySpec
from plait.core.table.table import Table
from plait.formats.delivery.checksum import sums_of
from plait.formats.delivery.plain_files import read_plain
from plait.formats.places.address import is_address
from plait.formats.places.given import Given
from plait.formats.places.source import Source
from plait.formats.sources import one_source
from plait.plan.handing.kept import MARKS, fits, not_as_written

# Typed and whole ones first: they are read quickest.
_FORMATS = ("parquet", "arrow", "csv", "tsv", "jsonl", "json", "sqlite", "xlsx")
_STATED = {
    "plan": {"result": str},
    "outputs": [{"path": str, "rows": int, "columns": int}],
    "sources": [{"name": str, "path": str, "rows": int, "sha256": str}],
    "findings": [{"code": str, "where": str, "count": int, "message": str}],
    "figures": {str: int},
}


@dataclass(frozen=True)
class Handed:
    """A handover that stands.

    Parameters
    ----------
    folder : Path
    said : mapping
        Its account, as in ``ledger.json``.
    """

    folder: Path
    said: Mapping[str, Any]

    @property
    def result(self) -> str:
        """What the dataset is called."""
        return str(self.said["plan"]["result"])

    @property
    def key(self) -> tuple[str, ...]:
        """The key of the dataset, as far as the plan knew one."""
        return tuple(self.said.get("key", ()))

    @property
    def files(self) -> dict[str, Path]:
        """The dataset's files by their formats, those that are read quickest first."""
        names = [one["path"] for one in self.said["outputs"] if not is_address(one["path"])]
        by_format = {
            name.rpartition(".")[2]: self.folder / name
            for name in names
            if name.rpartition(".")[0] == self.result
        }
        return {one: by_format[one] for one in _FORMATS if one in by_format}

    def source(self, format_: str, given: Given | None = None) -> Source:
        """The dataset in a format, to be read."""
        path = str(self.files[format_])
        word = f"{path}#{self.result}" if format_ in ("xlsx", "sqlite") else path
        source = one_source(word, given)
        return replace(source, name=self.result)


def added_files(folder: Path) -> list[str]:
    """The files in the folder of a handover that no run wrote, by its descriptor."""
    known = {"datapackage.json", *MARKS}
    try:
        said = json.loads(read_plain(folder / "datapackage.json"))
        known |= {str(one["path"]) for one in said["resources"]}
    except (OSError, ValueError, KeyError, TypeError):
        known |= {path.name for path in folder.glob("*.*")}  # what was written cannot be told
    found = (path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file())
    return sorted(name for name in found if name not in known)


def check_as_written(handed: Handed) -> None:
    """Check that the files which a comparison reads are those that the run wrote.

    Raises
    ------
    SourceError
        When somebody has changed one since.
    """
    try:
        said = json.loads(read_plain(handed.folder / "datapackage.json"))
        sums = {str(one["path"]): str(one["hash"]) for one in said["resources"]}
    except (OSError, ValueError, KeyError, TypeError):
        raise not_as_written(handed.folder, "datapackage.json is not what a run writes") from None
    names = [path.name for path in handed.files.values() if path.is_file()]
    every = sums_of(str(handed.folder / name) for name in [*names[:1], "lineage.parquet"])
    for path, sum_ in every.items():
        name = Path(path).name
        if sums.get(name) != f"sha256:{sum_.result()}":
            raise not_as_written(handed.folder, f"{name} is another file")


def is_handover(folder: Path) -> bool:
    """Whether a folder has what every handover has."""
    return all((folder / mark).is_file() for mark in MARKS)


def handed_in(folder: Path) -> Handed:
    """The handover in a folder.

    Raises
    ------
    SourceError
        When it is not as it was written.
    """
    try:
        said = json.loads(read_plain(folder / "ledger.json"))
    except (OSError, ValueError) as error:
        raise SourceError(f"cannot read the handover: {error}", str(folder)) from None
    if not fits(said, _STATED):
        raise not_as_written(folder, "ledger.json is not what a run writes")
    handed = Handed(folder, said)
    if not any(path.is_file() for path in handed.files.values()):
        raise SourceError(f"the dataset {handed.result} does not exist", str(folder))
    return handed


def sides(words: Sequence[str | Path]) -> list[Handed | str]:
    """What two words mean: handovers, or else sources."""
    return [handed_in(Path(word)) if is_handover(Path(word)) else str(word) for word in words]


def dataset_of(side: Handed | str, other: Handed | str, given: Given | None = None) -> Source:
    """The table of a side, of a handover in a format that the other has too."""
    if isinstance(side, str):
        return one_source(side, given)
    theirs = _formats(other)
    there = [one for one, path in side.files.items() if path.is_file()]
    return side.source(next((one for one in there if one in theirs), there[0]), given)


def _formats(side: Handed | str) -> set[str]:
    if isinstance(side, Handed):
        return {one for one, path in side.files.items() if path.is_file()}
    return {side.partition("#")[0].rpartition(".")[2].lower()}


def known_key(sides: Sequence[Handed | str], tables: Sequence[Table]) -> KeySpec | None:
    """The key that the newest handover among them knows, if both tables have its columns."""
    for side in reversed(sides):
        key = side.key if isinstance(side, Handed) else ()
        if key and all(table.has(name) for table in tables for name in key):
            return key
    return None
