"""Earlier handovers, kept beside the one that took their place."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import datetime
from pathlib import Path

from plait.core.base.errors import OutputError
from plait.io.places.partial_files import (
    PART,
    create_partial_folder,
    new_delivery_token,
    partial_name,
    release,
    remove_path,
)
from plait.plan.handover.read import added_files, is_handover

_WHEN = "%Y-%m-%d-%H%M%S"


def retained_name(target: Path, when: str) -> Path:
    """What a handover of that time is called when it is kept.

    >>> retained_name(Path("jobs/handover"), "2031-05-03T06:00:00+02:00")
    PosixPath('jobs/handover-2031-05-03-060000')
    """
    return target.with_name(f"{target.name}-{datetime.fromisoformat(when).strftime(_WHEN)}")


def retained_folders(target: Path) -> list[Path]:
    """The handovers that are kept beside one, the oldest first.

    By when their account was written: a name has the local time, which goes back in autumn.
    """
    name = re.compile(re.escape(target.name) + r"-\d{4}-\d\d-\d\d-\d{6}(-\d+)?")
    with suppress(OSError):
        paths = [i for i in target.parent.iterdir() if name.fullmatch(i.name)]
        return sorted(filter(is_handover, paths), key=_when_written)
    return []


def _when_written(folder: Path) -> tuple[int, str]:
    return (folder / "ledger.json").stat().st_mtime_ns, folder.name


def retain_handover(target: Path, when: str) -> Path:
    """Keep a handover under the name of its time too, before another takes its place.

    Its files have two names then and no second copy, where the system can do that. The
    folder is there whole or not at all; one of that name that holds the same stays.

    Raises
    ------
    OutputError
    """
    kept = retained_name(target, when)
    number = 2
    while kept.exists():
        if _is_same(kept, target):
            return kept
        kept = retained_name(target, when).with_name(f"{retained_name(target, when).name}-{number}")
        number += 1
    part = partial_name(target, new_delivery_token(), 0, PART)
    try:
        held = create_partial_folder(part)
        try:
            _link_all(target, part)
            part.rename(kept)
        finally:
            release(held)
            remove_path(part)
    except OSError as error:
        raise OutputError(
            f"cannot keep the earlier handover: {error.strerror}",
            str(kept),
            "free some space, or set keep = 0 under [handover]; nothing was handed over",
        ) from None
    return kept


@contextmanager
def kept_only_if_replaced(target: Path) -> Iterator[None]:
    """Take away again what is kept within of a handover that then is not replaced."""
    before = retained_folders(target)
    try:
        yield
    except BaseException:
        for folder in retained_folders(target):
            if folder not in before and _is_same(folder, target):
                with suppress(OSError):
                    remove_path(folder)
        raise


def _is_same(path: Path, other: Path) -> bool:
    """Whether two handovers have the same account."""
    try:
        return (path / "ledger.json").read_bytes() == (other / "ledger.json").read_bytes()
    except OSError:
        return False


def _link_all(folder: Path, into: Path) -> None:
    for above, folders, files in os.walk(folder):
        there = into / Path(above).relative_to(folder)
        for name in folders:
            (there / name).mkdir()
        for name in files:
            _link(Path(above) / name, there / name)
    shutil.copystat(folder, into)


def _link(file: Path, name: Path) -> None:
    try:
        os.link(file, name, follow_symlinks=False)
    except OSError:
        shutil.copy2(file, name, follow_symlinks=False)


def delete_oldest_retained(target: Path, most: int) -> None:
    """Remove those that are more than so many, the oldest first.

    One into which somebody put a file stays.
    """
    paths = retained_folders(target)
    for folder in paths[: max(0, len(paths) - most)]:
        if added_files(folder):
            continue
        part = partial_name(target, new_delivery_token(), 0, PART)
        with suppress(OSError):  # what cannot be removed now goes the next time
            folder.rename(part)  # what is half removed has no name that means a handover
            remove_path(part)
