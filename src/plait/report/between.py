"""The accounts of two runs against each other: their figures, findings and sources."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class FindingBetween:
    """A finding of either account, and how much it counted; 0 where it does not stand."""

    code: str
    where: str
    message: str
    old: int
    new: int


@dataclass(frozen=True)
class SourceBetween:
    """A source of either account.

    Parameters
    ----------
    path : str
    state : {"new", "gone", "changed", "same"}
    old_rows, new_rows : int or None
        ``None`` where it was not read.
    """

    path: str
    state: str
    old_rows: int | None
    new_rows: int | None


@dataclass(frozen=True)
class Between:
    """Two accounts against each other.

    Parameters
    ----------
    figures : mapping of str to (int, int)
        Then and now, of each figure that both have.
    findings : tuple of FindingBetween
        New ones first, then those that went, then those that stand.
    sources : tuple of SourceBetween
        New, gone, changed, and the same.
    """

    figures: Mapping[str, tuple[int, int]]
    findings: tuple[FindingBetween, ...]
    sources: tuple[SourceBetween, ...]

    def sources_that_are(self, state: str) -> list[SourceBetween]:
        """Those of a state."""
        return [one for one in self.sources if one.state == state]


def between(old: Mapping[str, Any], new: Mapping[str, Any]) -> Between:
    """Set the account of a run against that of a later one.

    Parameters
    ----------
    old, new : mapping
        As ``ledger.json`` has them.

    Examples
    --------
    >>> said = {"figures": {"rows": 7}, "findings": [], "sources": []}
    >>> between(said, said | {"figures": {"rows": 9}}).figures
    {'rows': (7, 9)}
    """
    then, now = old["figures"], new["figures"]
    figures = {name: (then[name], now[name]) for name in now if name in then}
    return Between(figures, tuple(_findings(old, new)), tuple(_sources(old, new)))


def _findings(old: Mapping[str, Any], new: Mapping[str, Any]) -> list[FindingBetween]:
    sides = [
        {(one["code"], one.get("where", "")): one for one in said["findings"]}
        for said in (old, new)
    ]
    every = dict.fromkeys([*sides[1], *sides[0]])
    found = [
        FindingBetween(
            *name,
            (sides[1].get(name) or sides[0][name])["message"],
            sides[0].get(name, {}).get("count", 0),
            sides[1].get(name, {}).get("count", 0),
        )
        for name in every
    ]
    return sorted(found, key=lambda one: 0 if not one.old else 1 if not one.new else 2)


_STATES = ("new", "gone", "changed", "same")


def _sources(old: Mapping[str, Any], new: Mapping[str, Any]) -> list[SourceBetween]:
    """Each source by its path; one without a checksum is the same when its rows are as many."""
    sides = [{one["path"]: one for one in said["sources"]} for said in (old, new)]
    found = []
    for path in dict.fromkeys([*sides[1], *sides[0]]):
        was, is_ = (side.get(path) for side in sides)
        if was is None or is_ is None:
            state = "new" if was is None else "gone"
        else:
            same = all(was.get(name) == is_.get(name) for name in ("sha256", "rows"))
            state = "same" if same else "changed"
        rows = [None if one is None else one["rows"] for one in (was, is_)]
        found.append(SourceBetween(path, state, *rows))
    return sorted(found, key=lambda one: _STATES.index(one.state))
