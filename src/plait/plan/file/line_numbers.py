"""The lines of a plan, and mistakes with theirs."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from plait.core.base.errors import PlaitError

Path = tuple[str | int, ...]

_PART = r"""[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*'"""
_NAME = re.compile(rf"\s*(?:{_PART})(?:\s*\.\s*(?:{_PART}))*\s*")


def key_line_numbers(text: str) -> dict[Path, int]:
    """The line of each table and key, from 1.

    Parameters
    ----------
    text : str
        Valid TOML.

    Returns
    -------
    dict
        The path of a key, with numbers for the members of an array of tables, to
        the line on which it begins. Keys within an inline table have none.

    Examples
    --------
    >>> key_line_numbers("a = 1\\n[[step]]\\njoin = [\\n]\\n[[step]]\\n")
    {('a',): 1, ('step', 0): 2, ('step', 0, 'join'): 3, ('step', 1): 5}
    """
    found: dict[Path, int] = {}
    members: dict[Path, int] = {}
    table: Path = ()
    for number, line in _statements(text):
        if line.startswith("[["):
            name = _resolved(_names(line[2:]), members, last=False)
            members[name] = members.get(name, -1) + 1
            table = (*name, members[name])
            found.setdefault(table, number)
        elif line.startswith("["):
            table = _resolved(_names(line[1:]), members, last=True)
            found.setdefault(table, number)
        else:
            found.setdefault((*table, *_names(line)), number)
    return found


def line_of_path(found: Mapping[Path, int], path: Sequence[str | int]) -> int:
    """The line of a path, or of the nearest part around it that has one.

    >>> line_of_path({("step", 0): 2}, ("step", 0, "key", 1))
    2
    """
    for end in range(len(path), 0, -1):
        if tuple(path[:end]) in found:
            return found[tuple(path[:end])]
    return 1


def _statements(text: str) -> Iterator[tuple[int, str]]:
    """Line number and text of each heading and each key, the lines of long values left out."""
    lines = text.split("\n")
    number = 0
    while number < len(lines):
        line = lines[number].strip()
        number += 1
        if not line or line.startswith("#"):
            continue
        yield number, line
        if not line.startswith("["):
            number = _end_of_value(lines, number - 1)


def _end_of_value(lines: Sequence[str], begin: int) -> int:
    """The number of the line behind a value: the first at which it is whole."""
    for end in range(begin + 1, len(lines) + 1):
        try:
            tomllib.loads("\n".join(lines[begin:end]))
        except tomllib.TOMLDecodeError:
            continue
        return end
    return begin + 1


def _names(line: str) -> Path:
    """The parts of a dotted key at the start of a text."""
    match = _NAME.match(line)
    parts = re.findall(_PART, match[0]) if match else []
    return tuple(_plain(part) for part in parts)


def _plain(part: str) -> str:
    if part[0] in "\"'":
        return str(tomllib.loads(f"x = {part}")["x"])
    return part


def _resolved(name: Path, members: Mapping[Path, int], last: bool) -> Path:
    """The path with the number of the current member behind each array of tables."""
    path: Path = ()
    for place, part in enumerate(name, 1):
        path = (*path, part)
        if path in members and (last or place < len(name)):
            path = (*path, members[path])
    return path


@dataclass(frozen=True)
class PlanDiagnostic:
    """One mistake: the line it is on, what is wrong, and what to do."""

    line: int
    what: str
    remedy: str = ""


class PlanError(PlaitError):
    """A plan that cannot be carried out, with everything that is wrong with it.

    Parameters
    ----------
    path : str
        The plan file.

    Examples
    --------
    >>> mistake = PlanDiagnostic(7, "unknown key 'kye'", "did you mean key?")
    >>> error = PlanError("season.toml", [mistake])
    >>> print(error)
    season.toml line 7: unknown key 'kye' (did you mean key?)
    """

    status = 2

    def __init__(self, path: str, faults: Iterable[PlanDiagnostic], status: int = 2) -> None:
        self.faults = tuple(sorted(dict.fromkeys(faults), key=lambda fromkey: fromkey.line))
        first = self.faults[0]
        super().__init__(first.what, f"{path} line {first.line}", first.remedy or None)
        self.status = status
        self.errors = tuple(
            PlaitError(fault.what, f"{path} line {fault.line}", fault.remedy or None)
            for fault in self.faults
        )
