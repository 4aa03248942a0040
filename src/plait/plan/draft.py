"""Draft: a plan to begin with, from what the sources show."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from plait.core.account.errors import SourceError
from plait.core.table.table import Table
from plait.core.verbs.survey import survey
from plait.formats.reading import read_or_fault, read_together
from plait.formats.sources import find_sources, uniquely_named
from plait.plan.drafting.joins import DraftedJoin, base_of, joins_of
from plait.plan.drafting.places import from_folder, paths_of
from plait.plan.drafting.sources import DraftedSource, drafted, plainly_named

LABEL = "extract"


@dataclass(frozen=True)
class Unread:
    """A source that cannot be read: where it is from the plan's folder, and why."""

    path: str
    reason: str


@dataclass(frozen=True, eq=False)
class Draft:
    """What a draft says.

    Parameters
    ----------
    base : DraftedSource
        The source that the others are joined to.
    others : tuple of DraftedSource
        Those that are joined.
    joins : tuple of DraftedJoin
    splits : mapping of str to tuple of str
        For each source the columns that are split, as ``mend`` takes them.
    unsure : tuple of str
        Joins that were not made, and why.
    unused : tuple of DraftedSource
    reasons : mapping of str to str
        Why each of these is not used.
    unread : tuple of Unread
    """

    base: DraftedSource
    others: tuple[DraftedSource, ...]
    joins: tuple[DraftedJoin, ...]
    splits: Mapping[str, tuple[str, ...]]
    unsure: tuple[str, ...]
    unused: tuple[DraftedSource, ...] = field(default=())
    reasons: Mapping[str, str] = field(default_factory=dict)
    unread: tuple[Unread, ...] = field(default=())

    @property
    def result(self) -> str:
        """What is handed over."""
        return "combined" if self.joins else self.base.name


def draft(words: Sequence[str], folder: Path) -> Draft:
    """Find out what a plan for some sources would do.

    Parameters
    ----------
    words : sequence of str
        Sources, as on the command line.
    folder : Path
        Where the plan will stand: paths start there.

    Raises
    ------
    SourceError
        When none of the sources can be read.

    Notes
    -----
    Sources of one shape are stacked. The largest that joins others is the base;
    what could be joined to it, or to what was joined, is tried as the plan would
    do it, and taken when it adds no row.
    """
    asked = [(word, source) for word in words for source in find_sources([word], faulty=True)]
    sources = plainly_named(uniquely_named([source for _, source in asked]))
    read = read_together(sources, read_or_fault)
    faults = [one for one in read if isinstance(one, SourceError)]
    there = [number for number, one in enumerate(read) if isinstance(one, Table)]
    if faults and not there:
        raise faults[0]
    found = survey([one for one in read if isinstance(one, Table)])
    by_word = [word for word, _ in asked]
    made: dict[str, DraftedSource] = {}
    for one in found.families:
        numbers = [there[number] for number in one.family.members]
        members = [sources[number] for number in numbers]
        paths = paths_of(members, [by_word[number] for number in numbers], by_word, folder)
        made[one.family.name] = drafted(one, paths, members, found.findings)
    base = base_of(found, made)
    joined = joins_of(found, made, base)
    names = (base, *(one.right for one in joined.joins))
    return Draft(
        made[base],
        tuple(made[name] for name in names[1:]),
        joined.joins,
        joined.splits,
        joined.unsure,
        tuple(one for name, one in made.items() if name not in names),
        joined.reasons,
        tuple(Unread(from_folder(folder, one.where or ""), one.what) for one in faults),
    )
