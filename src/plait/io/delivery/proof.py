"""What was delivered together with a result: so that the next one does not stand beside old proof.

Beside a result that has set-aside files or a page, a small hidden file names them, with
their sizes and times: ``.season.csv.plait``. When the result is replaced, those of them
that are still as they were delivered go or are replaced too. Anything else is left alone.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from pathlib import Path, PurePosixPath

from plait.io.places.safe_files import read_plain

_ENDINGS = (".csv", ".html", ".htm")


def proof_path(lead: Path) -> Path:
    """The file that names what goes with a result.

    >>> proof_path(Path("out/season.csv"))
    PosixPath('out/.season.csv.plait')
    """
    return lead.with_name(f".{lead.name}.plait")


def format_proof(lead: Path, files: Mapping[Path, Path]) -> str:
    """What names the files that go with a result.

    Parameters
    ----------
    lead : Path
        The result.
    files : mapping of Path to Path
        Each file, and where it stands while it is written.
    """
    texts = [
        {"path": inside, "bytes": stat.st_size, "modified": stat.st_mtime_ns}
        for inside, stat in ((_inside(lead, path), part.stat()) for path, part in files.items())
        if inside
    ]
    return json.dumps({"result": lead.name, "with": texts}, indent=1) + "\n"


def _inside(lead: Path, path: Path) -> str:
    """The way from the result's folder down to a file; nothing where it is elsewhere."""
    above, whole = lead.parent.absolute(), path.absolute()
    return whole.relative_to(above).as_posix() if whole.is_relative_to(above) else ""


def read_proof(lead: Path) -> list[Path]:
    """The files that were delivered with a result, and are as they were then."""
    try:
        said = json.loads(read_plain(proof_path(lead)))["with"]
        found = [lead.parent / s["path"] for s in said if _is_unchanged(lead, s)]
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return []
    return list(dict.fromkeys(found))


def _is_unchanged(lead: Path, said: Mapping[str, object]) -> bool:
    way = PurePosixPath(str(said["path"]))
    if way.is_absolute() or ".." in way.parts or way.suffix.lower() not in _ENDINGS:
        return False
    path = lead.parent / way
    if path.is_symlink() or not path.is_file():
        return False
    if not path.resolve().is_relative_to(lead.parent.resolve()):
        return False  # a link among the folders leads out
    stat = path.stat()
    return stat.st_size == said["bytes"] and stat.st_mtime_ns == said["modified"]


def find_unrelated_files(folder: Path, lead: Path, ours: Iterable[Path]) -> list[str]:
    """The names in a folder of set-aside files that are of no delivery that is known.

    Other results may have theirs in the same folder. Where the result itself stands, all
    sorts of files do, and none is named.
    """
    if folder.resolve() == lead.parent.resolve():
        return []
    known = {path.name for path in ours if path.parent == folder}
    try:
        for other in lead.parent.glob(".*.plait"):
            of_it = read_proof(lead.with_name(other.name[1:].removesuffix(".plait")))
            known |= {path.name for path in of_it if path.parent == folder}
        return sorted(i.name for i in folder.iterdir() if i.name not in known)
    except OSError:
        return []
