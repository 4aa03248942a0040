"""What is new in a run: its dataset and its account against those of the last good run."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any

from plait.core.account.finding import counted
from plait.core.verbs.compare import Compared
from plait.report.between import Between
from plait.report.compared import changes_dict

_TOLD = ("unmatched", "conflicts", "set_aside")


@dataclass(frozen=True)
class BySource:
    """How many rows of a source came, went and changed."""

    name: str
    rows_new: int
    rows_gone: int
    rows_changed: int

    @property
    def rows(self) -> int:
        """All of them."""
        return self.rows_new + self.rows_gone + self.rows_changed


@dataclass(frozen=True, eq=False)
class Since:
    """What changed since the last run that handed over.

    Parameters
    ----------
    when : str
        When that was: ``2031-05-03 06:00``.
    compared : Compared
        Its dataset and this one.
    accounts : Between
        Its account and this one.
    by_source : tuple of BySource
        Those with any change, most first.
    """

    when: str
    compared: Compared
    accounts: Between
    by_source: tuple[BySource, ...]

    def answer(self) -> Iterator[str]:
        """What is new, in up to three lines."""
        changes = self.compared.changes
        if changes.none:
            yield f"since {self.when}: the same {counted(changes.new_rows, 'row')}"
        else:
            yield (
                f"since {self.when}: {counted(changes.rows_new, 'row')} new, "
                f"{changes.rows_gone:,} gone, {changes.rows_changed:,} changed{self._columns()}"
            )
        figures = [
            f"{name.replace('_', ' ')} {then:,} → {now:,}"
            for name in _TOLD
            if name in self.accounts.figures
            for then, now in [self.accounts.figures[name]]
            if then != now
        ]
        if figures:
            yield f"figures:     {', '.join(figures)}"
        states = ("new", "gone", "changed")
        counts = {state: len(self.accounts.sources_that_are(state)) for state in states}
        files = [f"{counted(count, 'file')} {state}" for state, count in counts.items() if count]
        if files:
            yield f"sources:     {', '.join(files)}"

    def _columns(self) -> str:
        changes = self.compared.changes
        told = (
            (len(changes.columns_new), "new"),
            (len(changes.columns_gone), "gone"),
            (len(changes.columns_renamed), "renamed"),
            (len(changes.types), "of another type"),
        )
        said = [f"{counted(number, 'column')} {word}" for number, word in told if number]
        return f"; {', '.join(said)}" if said else ""


def since_dict(since: Since) -> dict[str, Any]:
    """What is new as plain dictionaries and lists."""
    return {
        "since": since.when,
        **changes_dict(since.compared.changes, since.compared.columns, since.accounts),
        "by_source": [asdict(one) for one in since.by_source],
    }
