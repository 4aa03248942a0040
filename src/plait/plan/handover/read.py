"""A handover read back, and trusted only as far as its checksums."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from plait.core.base.errors import SourceError, UsageError
from plait.core.base.limits import Limits
from plait.core.table.key_spec import KeySpec
from plait.core.table.table import Table
from plait.io.delivery.seal import is_ours
from plait.io.lineage_file import KEYS, read_lineage
from plait.io.places.address import Address, is_address
from plait.io.places.partial_files import sha256_of_files
from plait.io.places.safe_files import read_plain
from plait.io.places.source import Dialect, FetchSubset, ReadOptions, Source
from plait.io.read import read_single_source
from plait.io.sources import find_one_source
from plait.plan.file.load import LoadedPlan
from plait.plan.file.name_checks import name_own_handover

MARKS = ("datapackage.json", "ledger.json", "lineage.parquet")
HANDOVER = "handover"  # what its seal is of
_SOURCE = {
    "name": str,
    "path": str,
    "sha256": str,
    "start": int,
    "read": {"path": str, "member": str, "part": str, "given": dict},
}
_CELLS = {"way": str, "columns": {str: [str]}, "absent": [str], "which": [list]}
_LINEAGE_METADATA = {
    "result": str,
    "up": str,
    "rows": [str],
    "sources": [_SOURCE],
    "columns": {str: {"cells": [_CELLS], "steps": [{"step": str, "changed": bool}]}},
}

# Typed and whole ones first: they are read quickest.
_FORMATS = ("parquet", "arrow", "csv", "tsv", "jsonl", "json", "sqlite", "xlsx")
_LEDGER_MODEL = {
    "plan": {"result": str},
    "outputs": [{"path": str, "rows": int, "columns": int}],
    "sources": [{"name": str, "path": str, "rows": int, "sha256": str}],
    "findings": [{"code": str, "where": str, "count": int, "message": str}],
    "figures": {str: int},
}


def matches_json_shape(value: Any, shape: Any) -> bool:
    """Whether a value of JSON has a shape: its types, the fields of objects, the items of lists.

    >>> [matches_json_shape(value, {"a": [int]}) for value in ({"a": [1], "more": 2}, {"a": ["x"]})]
    [True, False]
    """
    if isinstance(shape, list):
        return isinstance(value, list) and all(matches_json_shape(one, shape[0]) for one in value)
    if not isinstance(shape, dict):
        return isinstance(value, shape) and (shape is bool or not isinstance(value, bool))
    if not isinstance(value, dict):
        return False
    if list(shape) == [str]:
        return all(matches_json_shape(v, shape[str]) for v in value.values())
    return all(
        name in value and matches_json_shape(value[name], one) for name, one in shape.items()
    )


def handover_changed_error(folder: Path, how: str) -> SourceError:
    """That somebody has changed a handover since."""
    return SourceError(
        f"the handover has been changed since it was written: {how}",
        str(folder),
        "trace an unchanged copy, or run the plan again",
    )


@dataclass(frozen=True, eq=False)
class StoredHandover:
    """What a handover keeps: its dataset, and what is stated beside the lineage.

    ``ours`` is whether this user made it.
    """

    folder: Path
    dataset: Table
    stated: Mapping[str, Any]
    ours: bool
    lineage: Path

    def source(self, number: int, base: Path | None = None) -> Source:
        """A source, as it was read; its path starts where the plan stands, or at a base."""
        said = self.stated["sources"][number]["read"]
        given = said["given"]
        dialect = Dialect(**given["dialect"])
        name, path = self.stated["sources"][number]["name"], said["path"]
        taking = FetchSubset(tuple(said["taking"])) if said.get("taking") else None
        how = ReadOptions(
            dialect,
            given["ragged"],
            given["footer"],
            Limits(**given.get("limits", {})),
            given.get("query", ""),
            given.get("timeout"),
            str(given.get("merged", "keep")),
            bool(given.get("as_shown", False)),
        )
        if is_address(path):
            address = Address(path)
            return Source(
                name, path, said["member"], said["part"], how, address=address, subset=taking
            )
        if base is not None:
            where = str(base / (Path(path).name if Path(path).is_absolute() else path))
        elif Path(path).is_absolute():
            where = path
        else:
            where = str(self.folder / self.stated["up"] / path)
        return Source(name, where, said["member"], said["part"], how)


def lineage_name(result: str | None = None) -> str:
    """The file with the lineage of the main result, or of one beside it."""
    return f"lineage-{result}.parquet" if result else MARKS[2]


def digests_name(result: str | None = None) -> str:
    """The file with the digests of the main result, or of one beside it."""
    return f"digests-{result}.parquet" if result else "digests.parquet"


def open_handover(folder: Path, result: str | None = None) -> StoredHandover:
    """What a handover keeps.

    Parameters
    ----------
    result : str, optional
        One of several results. Without it the main one.

    Raises
    ------
    SourceError
        When this is none, or not as it was written.
    """
    if not (folder / MARKS[2]).is_file():
        raise SourceError(
            "not a handover folder: lineage.parquet is missing",
            str(folder),
            "create a handover: plait run PLAN",
        )
    lineage = folder / MARKS[2]
    if result is not None and read_lineage(lineage, [])[0].get("result") != result:
        lineage = folder / lineage_name(result)
        if not lineage.is_file() or lineage.parent != folder:
            raise SourceError(f"the handover has no result {result}", str(folder))
    try:
        stated, _ = read_lineage(lineage, [])
        if not matches_json_shape(stated, _LINEAGE_METADATA):
            raise ValueError("its metadata is not what a run writes")
        package = json.loads(read_plain(folder / "datapackage.json"))
    except (OSError, ValueError, KeyError, RecursionError) as error:
        raise SourceError(f"cannot read the handover: {error}", str(folder)) from None
    name = stated["result"]
    sums = {p["path"]: p["hash"] for p in package["resources"]}
    files = [path for path in sums if Path(path).stem == name and Path(path).name == path]
    if not files and result is not None:  # it has a sheet in the workbook of the main one
        files = [path for path in sums if path.endswith(".xlsx") and Path(path).name == path]
    if not files:
        raise SourceError(f"the dataset {name} does not exist", str(folder))
    # Text has the cells as they stand; of other formats any will do.
    files.sort(key=lambda file: not file.endswith((".csv", ".tsv")))
    whole = [files[0], lineage.name, *([KEYS] if KEYS in sums else [])]
    for path in whole:
        if not (folder / path).is_file():
            raise handover_changed_error(folder, f"{path} does not exist or is not a file")
    for path, sum_ in sha256_of_files(str(folder / w) for w in whole).items():
        if sums[Path(path).name] != f"sha256:{sum_.result()}":
            raise handover_changed_error(folder, f"{Path(path).name} is another file")
    sheet = f"#{name}" if files[0].endswith(".xlsx") else ""
    dataset = read_single_source(find_one_source(f"{name}={folder / files[0]}{sheet}"))
    # Each lineage has a seal of its own: it says which files are opened.
    seal = package.get("seal") if lineage.name == MARKS[2] else None
    seals = package.get("seals")
    if isinstance(seals, dict):
        seal = seals.get(lineage.name, seal)
    ours = is_ours(HANDOVER, sums[lineage.name].removeprefix("sha256:"), seal)
    return StoredHandover(folder, dataset.with_name(name), stated, ours, lineage)


@dataclass(frozen=True)
class EarlierHandover:
    """A handover that stands.

    Parameters
    ----------
    said : mapping
        Its account, as in ``ledger.json``.
    """

    folder: Path
    said: Mapping[str, Any]
    further: str = ""

    @property
    def result(self) -> str:
        """What the dataset is called; that of a further result where one is looked at."""
        return self.further or str(self.said["plan"]["result"])

    @property
    def key(self) -> tuple[str, ...]:
        """The key of the dataset, as far as the plan knew one."""
        if self.further:
            every = {one["result"]: one["key"] for one in self.said.get("further", ())}
            return tuple(every.get(self.further, ()))
        return tuple(self.said.get("key", ()))

    @property
    def rows(self) -> int:
        """How many rows the dataset has, by the account."""
        path = next(iter(self.files.values())).name
        return int(next(s["rows"] for s in self.said["outputs"] if s["path"] == path))

    @property
    def files(self) -> dict[str, Path]:
        """The dataset's files by their formats, those that are read quickest first."""
        names = [s["path"] for s in self.said["outputs"] if not is_address(s["path"])]
        by_format = {
            name.rpartition(".")[2]: self.folder / name
            for name in names
            if name.rpartition(".")[0] == self.result
        }
        workbook = f"{self.said['plan']['result']}.xlsx"
        if self.further and not by_format and workbook in names:
            by_format["xlsx"] = self.folder / workbook
        return {f: by_format[f] for f in _FORMATS if f in by_format}

    def source(self, format_: str, read_options: ReadOptions | None = None) -> Source:
        """The dataset in a format, to be read."""
        path = str(self.files[format_])
        word = f"{path}#{self.result}" if format_ in ("xlsx", "sqlite") else path
        source = find_one_source(word, read_options)
        return replace(source, name=self.result)


def plan_of_handover(folder: Path) -> str:
    """The file name of the plan whose handover stands in a folder; nothing where none does."""
    try:
        said = json.loads(read_plain(folder / "ledger.json"))
        name = said["plan"]["file"]
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return ""
    return name if isinstance(name, str) and Path(name).name == name else ""


def handover_folder(loaded_plan: LoadedPlan) -> Path:
    """The folder that the plan hands over.

    A plan that names none has ``handover``, unless that holds the handover of another plan beside
    it: then it has a folder by its own name, and stays with it.

    Raises
    ------
    UsageError
        When it hands nothing over.
    """
    if loaded_plan.plan.handover is None:
        raise UsageError(
            "the plan has no [handover] section",
            str(loaded_plan.path),
            'add [handover] with result = "NAME"',
        )
    folder = loaded_plan.folder / loaded_plan.plan.handover.folder
    if "folder" in loaded_plan.plan.handover.model_fields_set:
        return folder
    own = loaded_plan.folder / name_own_handover(loaded_plan.path)
    is_own = plan_of_handover(own) == loaded_plan.path.name
    return own if is_own or other_plan(loaded_plan, folder) else folder


def other_plan(loaded_plan: LoadedPlan, folder: Path) -> str:
    """The plan beside this one whose handover stands in a folder; nothing where none does."""
    other = plan_of_handover(folder)
    in_use = other != loaded_plan.path.name and (loaded_plan.folder / other).is_file()
    return other if in_use else ""


def added_files(folder: Path) -> list[str]:
    """The files in the folder of a handover that no run wrote, by its descriptor."""
    known = {"datapackage.json", *MARKS}
    try:
        said = json.loads(read_plain(folder / "datapackage.json"))
        known |= {str(s["path"]) for s in said["resources"]}
    except (OSError, ValueError, KeyError, TypeError):
        known |= {path.name for path in folder.glob("*.*")}  # what was written cannot be told
    texts = (path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file())
    return sorted(name for name in texts if name not in known)


def stored_checksums(folder: Path) -> dict[str, str] | None:
    """The checksum of each file of a handover, by its descriptor; ``None`` where that is none."""
    try:
        said = json.loads(read_plain(folder / "datapackage.json"))
        return {str(s["path"]): str(s["hash"]) for s in said["resources"]}
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return None


def check_as_written(handed: EarlierHandover) -> None:
    """Check that the files which a comparison reads are those that the run wrote.

    Raises
    ------
    SourceError
        When somebody has changed one since.
    """
    sums = stored_checksums(handed.folder)
    if sums is None:
        raise handover_changed_error(handed.folder, "datapackage.json is not what a run writes")
    names = [path.name for path in handed.files.values() if path.is_file()]
    every = sha256_of_files(str(handed.folder / name) for name in [*names[:1], "lineage.parquet"])
    for path, sum_ in every.items():
        name = Path(path).name
        if sums.get(name) != f"sha256:{sum_.result()}":
            raise handover_changed_error(handed.folder, f"{name} is another file")


def is_handover(folder: Path) -> bool:
    """Whether a folder has what every handover has."""
    return all((folder / mark).is_file() for mark in MARKS)


def open_handover_account(folder: Path) -> EarlierHandover:
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
    if not matches_json_shape(said, _LEDGER_MODEL):
        raise handover_changed_error(folder, "ledger.json is not what a run writes")
    handed = EarlierHandover(folder, said)
    if not any(path.is_file() for path in handed.files.values()):
        raise SourceError(f"the dataset {handed.result} does not exist", str(folder))
    return handed


def parse_comparison_sides(words: Sequence[str | Path]) -> list[EarlierHandover | str]:
    """What two words mean: handovers, or else sources."""
    return [
        open_handover_account(Path(word)) if is_handover(Path(word)) else str(word)
        for word in words
    ]


def comparison_source(
    side: EarlierHandover | str,
    earlier_handover: EarlierHandover | str,
    read_options: ReadOptions | None = None,
) -> Source:
    """The table of a side, of a handover in a format that the other has too."""
    if isinstance(side, str):
        return find_one_source(side, read_options)
    theirs = _formats(earlier_handover)
    there = [one for one, path in side.files.items() if path.is_file()]
    return side.source(next((t for t in there if t in theirs), there[0]), read_options)


def _formats(side: EarlierHandover | str) -> set[str]:
    if isinstance(side, EarlierHandover):
        return {one for one, path in side.files.items() if path.is_file()}
    return {side.partition("#")[0].rpartition(".")[2].lower()}


def choose_handover_key(
    sides: Sequence[EarlierHandover | str], tables: Sequence[Table]
) -> KeySpec | None:
    """The key that the newest handover among them knows, if both tables have its columns."""
    for side in reversed(sides):
        key = side.key if isinstance(side, EarlierHandover) else ()
        if key and all(table.has_column(name) for table in tables for name in key):
            return key
    return None
