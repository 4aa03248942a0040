"""Of a table's columns those that matter, and the others by what they are called."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

_NUMBERED = re.compile(r"^(.*?)([0-9]+)([^0-9]*)$", re.DOTALL)


def notable(names: Sequence[str], first: Iterable[str], most: int) -> list[str]:
    """So many columns, in their order: those that are named first, then the first ones.

    >>> notable(["a", "b", "c", "d"], ["d"], 2)
    ['a', 'd']
    """
    if len(names) <= most:
        return list(names)
    chosen = [name for name in dict.fromkeys(first) if name in names][:most]
    chosen += [name for name in names if name not in chosen][: most - len(chosen)]
    return [name for name in names if name in set(chosen)]


def runs(names: Sequence[str]) -> list[str]:
    """Names that differ only in a number as one: ``q1 … q500``.

    >>> runs(["q1", "q2", "q3", "note", "Q1 2030", "Q2 2030"])
    ['q1 … q3', 'note', 'Q1 2030', 'Q2 2030']
    """
    made: list[str] = []
    run: list[str] = []
    for name in names:
        if run and not _follows(run[-1], name):
            made += _named(run)
            run = []
        run.append(name)
    return made + _named(run)


def _follows(before: str, name: str) -> bool:
    one, other = _NUMBERED.match(before), _NUMBERED.match(name)
    if one is None or other is None or (one[1], one[3]) != (other[1], other[3]):
        return False
    return int(other[2]) > int(one[2])


def _named(run: Sequence[str]) -> list[str]:
    return [f"{run[0]} … {run[-1]}"] if len(run) > 2 else list(run)
