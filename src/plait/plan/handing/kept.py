"""A handover read back: its dataset, and what is stated beside the lineage."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from plait.core.account.errors import SourceError
from plait.core.account.limits import Limits
from plait.core.table.table import Table
from plait.formats.delivery.checksum import sums_of
from plait.formats.delivery.plain_files import read_plain
from plait.formats.delivery.seal import is_ours
from plait.formats.lineage_keys import KEYS
from plait.formats.lineage_out import read_lineage
from plait.formats.places.address import Address, is_address
from plait.formats.places.given import Dialect, Given
from plait.formats.places.source import Source, Taking
from plait.formats.reading import read_alone
from plait.formats.sources import one_source

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
_STATED = {
    "result": str,
    "up": str,
    "rows": [str],
    "sources": [_SOURCE],
    "columns": {str: {"cells": [_CELLS], "steps": [{"step": str, "changed": bool}]}},
}


def fits(value: Any, shape: Any) -> bool:
    """Whether a value of JSON has a shape: its types, the fields of objects, the items of lists.

    >>> fits({"a": [1], "more": 2}, {"a": [int]}), fits({"a": ["x"]}, {"a": [int]})
    (True, False)
    """
    if isinstance(shape, list):
        return isinstance(value, list) and all(fits(one, shape[0]) for one in value)
    if not isinstance(shape, dict):
        return isinstance(value, shape) and (shape is bool or not isinstance(value, bool))
    if not isinstance(value, dict):
        return False
    if list(shape) == [str]:
        return all(fits(one, shape[str]) for one in value.values())
    return all(name in value and fits(value[name], one) for name, one in shape.items())


def not_as_written(folder: Path, how: str) -> SourceError:
    """That somebody has changed a handover since."""
    return SourceError(
        f"the handover has been changed since it was written: {how}",
        str(folder),
        "trace an unchanged copy, or run the plan again",
    )


@dataclass(frozen=True, eq=False)
class Kept:
    """What a handover keeps: its dataset, and what is stated beside the lineage.

    ``ours`` is whether this user made it.
    """

    folder: Path
    dataset: Table
    stated: Mapping[str, Any]
    ours: bool

    def source(self, number: int, base: Path | None = None) -> Source:
        """A source, as it was read; its path starts where the plan stands, or at a base."""
        said = self.stated["sources"][number]["read"]
        given = said["given"]
        dialect = Dialect(**given["dialect"])
        name, path = self.stated["sources"][number]["name"], said["path"]
        taking = Taking(tuple(said["taking"])) if said.get("taking") else None
        how = Given(
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
                name, path, said["member"], said["part"], how, address=address, taking=taking
            )
        if base is not None:
            where = str(base / (Path(path).name if Path(path).is_absolute() else path))
        elif Path(path).is_absolute():
            where = path
        else:
            where = str(self.folder / self.stated["up"] / path)
        return Source(name, where, said["member"], said["part"], how)


def kept_of(folder: Path) -> Kept:
    """What a handover keeps.

    Raises
    ------
    SourceError
        When this is none, or not as it was written.
    """
    lineage = folder / "lineage.parquet"
    if not lineage.is_file():
        raise SourceError(
            "not a handover folder: lineage.parquet is missing",
            str(folder),
            "create a handover: plait run PLAN",
        )
    try:
        stated, _ = read_lineage(lineage, [])
        if not fits(stated, _STATED):
            raise ValueError("its metadata is not what a run writes")
        package = json.loads(read_plain(folder / "datapackage.json"))
    except (OSError, ValueError, KeyError, RecursionError) as error:
        raise SourceError(f"cannot read the handover: {error}", str(folder)) from None
    name = stated["result"]
    sums = {one["path"]: one["hash"] for one in package["resources"]}
    files = [path for path in sums if Path(path).stem == name and Path(path).name == path]
    if not files:
        raise SourceError(f"the dataset {name} does not exist", str(folder))
    # Text has the cells as they stand; of other formats any will do.
    files.sort(key=lambda file: not file.endswith((".csv", ".tsv")))
    whole = [files[0], lineage.name, *([KEYS] if KEYS in sums else [])]
    for path in whole:
        if not (folder / path).is_file():
            raise not_as_written(folder, f"{path} does not exist or is not a file")
    for path, sum_ in sums_of(str(folder / one) for one in whole).items():
        if sums[Path(path).name] != f"sha256:{sum_.result()}":
            raise not_as_written(folder, f"{Path(path).name} is another file")
    dataset = read_alone(one_source(f"{name}={folder / files[0]}"))
    ours = is_ours(HANDOVER, sums[lineage.name].removeprefix("sha256:"), package.get("seal"))
    return Kept(folder, dataset.named(name), stated, ours)
