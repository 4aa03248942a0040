"""The paths of a drafted source: written so that next month's file is read too."""

from __future__ import annotations

import glob
import os
from collections.abc import Sequence
from itertools import takewhile
from pathlib import Path

from plait.formats.places.address import for_a_plan, is_address
from plait.formats.places.source import Source
from plait.formats.sources import find_sources, name_and_path

_LEAST_COMMON = 1


def paths_of(
    members: Sequence[Source], said: Sequence[str], every: Sequence[str], folder: Path
) -> tuple[str, ...]:
    """The word that means just these sources, a glob or a sheet pattern, or else each path.

    Parameters
    ----------
    members : sequence of Source
        Those of one shape.
    said : sequence of str
        The words that they were named by.
    every : sequence of str
        The words of all sources.
    folder : Path
        Where the plan will stand.
    """
    words = list(dict.fromkeys(said))
    if len(words) == 1 and every.count(words[0]) == len(members):
        found = [name_and_path(words[0])[1]]
    else:
        pattern = _pattern(members) if len(members) > 1 else ""
        found = [pattern] if pattern else list(dict.fromkeys(one.where for one in members))
    return tuple(from_folder(folder, path) for path in found)


def _pattern(members: Sequence[Source]) -> str:
    """A folder, or a glob, that means just these files; nothing where there is none."""
    if any(one.member or (one.part and not _is_alone(one)) for one in members):
        return ""
    paths = [Path(one.path) for one in members]
    above = {path.parent for path in paths}
    if len(above) > 1:
        return ""
    (parent,) = above
    names = [path.name for path in paths]
    first = _common_start(names)
    last = _common_start([name[len(first) :][::-1] for name in names])[::-1]
    for pattern in (f"{first.rstrip('0123456789')}*{last}", f"{first}*{last}"):
        if len(pattern) > _LEAST_COMMON and _means(parent / pattern, set(paths)):
            return str(parent / pattern)
    return ""


def _is_alone(source: Source) -> bool:
    """Whether a sheet or table is the only one of its file, which means it then."""
    return len(find_sources([source.path])) == 1


def _common_start(names: Sequence[str]) -> str:
    """The signs that all the names begin with.

    >>> _common_start(["may 1.csv", "may 2.csv"])
    'may '
    """
    same = (
        signs[0]
        for signs in takewhile(lambda signs: len(set(signs)) == 1, zip(*names, strict=False))
    )
    return "".join(same)


def _means(pattern: Path, paths: set[Path]) -> bool:
    """Whether a glob means just some files."""
    found = glob.glob(str(pattern))  # noqa: PTH207
    return {Path(one) for one in found} == paths and len(find_sources([str(pattern)])) == len(paths)


def from_folder(folder: Path, path: str) -> str:
    """A path as it is written in a plan that stands in a folder; of an address, without secrets."""
    if is_address(path):
        return for_a_plan(path)
    if Path(path).is_absolute() and not Path(path).is_relative_to(folder.resolve()):
        return path
    return os.path.relpath(path, folder).replace(os.sep, "/")
