"""What a command says, once: a terminal and Markdown show the same document, each in its way."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TypeAlias

from plait.core.base.findings import Finding, FindingExample, pluralize
from plait.core.base.ledger import LedgerEntry

MOST_FINDINGS = 5  # in what is shown briefly of a run
LABEL_WIDTH = 13


@dataclass(frozen=True)
class Fact:
    """A line below the answer; one without a label goes on with the last.

    >>> str(Fact("key", "yard,hive"))
    'key:         yard,hive'
    """

    label: str
    text: str

    def __str__(self) -> str:
        return f"{self.label + ': ' if self.label else '':<{LABEL_WIDTH}}{self.text}"


@dataclass(frozen=True)
class Bar:
    """A number as a bar, drawn against the greatest of its column.

    Parameters
    ----------
    tone : str
        ``usual``, ``odd`` for what a person should look at, ``total`` or ``faint``.
    """

    value: float
    most: float
    tone: str = "usual"
    width: int = 16


@dataclass(frozen=True)
class Mark:
    """Words that stand out: ``faint``, ``odd``, ``usual``, ``total`` or ``wrong``.

    Parameters
    ----------
    new_line : bool
        Whether it begins one, among other marks.
    """

    text: str
    tone: str = "plain"
    new_line: bool = False

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True)
class Change:
    """By how much a number changed; None where it did not."""

    by: Decimal | None


Value: TypeAlias = str | int | Bar | Change | Mark | tuple[Mark, ...]


@dataclass(frozen=True)
class GridColumn:
    """A column of a grid.

    Parameters
    ----------
    side : str
        ``left``, ``right`` or ``center``.
    share : int
        Its share of the room that is left; 0 where it takes what its cells take.
    wraps : bool
        Whether its cells may go on in the next line.
    widest : int, optional
        The most signs that it takes.
    """

    head: str = ""
    side: str = "left"
    share: int = 0
    wraps: bool = True
    widest: int | None = None


@dataclass(frozen=True)
class Grid:
    """Rows of values below a title.

    Parameters
    ----------
    rows : sequence of sequence of Value
        A whole number of 0 is shown as a dot.
    brief : int, optional
        How many rows are shown where not all are asked for.
    strong : frozenset of int
        The rows that stand out.
    gap, indent : int
        Signs between two columns, and before the first.
    close : bool
        Whether it follows without an empty line.
    """

    columns: tuple[GridColumn, ...]
    rows: Sequence[Sequence[Value]]
    title: str | tuple[Mark, ...] = ""
    brief: int | None = None
    has_heads: bool = True
    strong: frozenset[int] = frozenset()
    gap: int = 2
    indent: int = 2
    close: bool = False


@dataclass(frozen=True)
class Note:
    """A line by itself, below what stands before it."""

    text: str
    tone: str = "faint"
    indent: int = 2


@dataclass(frozen=True)
class Blank:
    """An empty line, between what does not belong together."""


@dataclass(frozen=True)
class Ledger:
    """The accounts of operations: each line, or where ``flow`` is set a line an operation."""

    entries: tuple[LedgerEntry, ...]
    flow: bool = False


@dataclass(frozen=True)
class ExpectationResult:
    """Something that was expected, and what was found.

    Parameters
    ----------
    what : str
        The expectation, as a person would say it.
    found : str
        What is the case.
    line : int
        Where the plan says it.
    examples : tuple of FindingExample
        Where it does not hold.
    """

    what: str
    holds: bool
    found: str
    line: int
    examples: tuple[FindingExample, ...] = ()


def holding(expected: Sequence[ExpectationResult]) -> str:
    """How many expectations are met.

    >>> holding([ExpectationResult("rows >= 1", True, "7 rows", 3)])
    '1 of 1 expectation met'
    """
    held = sum(e.holds for e in expected)
    return f"{held} of {pluralize(len(expected), 'expectation')} met"


@dataclass(frozen=True)
class Expectations:
    """What was expected, and whether it holds."""

    results: tuple[ExpectationResult, ...]


@dataclass(frozen=True)
class ColumnForecast:
    """A column, its type, and whether the step is the first to have it."""

    name: str
    kind: str
    new: bool


@dataclass(frozen=True)
class StepForecast:
    """A step, and the table it would give."""

    title: str
    line: int
    rows: int
    columns: tuple[ColumnForecast, ...]
    findings: int
    seconds: float


@dataclass(frozen=True)
class Steps:
    """Each step with the rows it gives, and its columns with their types."""

    steps: tuple[StepForecast, ...]


@dataclass(frozen=True)
class Sentences:
    """A part of a plan in words: what it does, what came of it, what is expected of it."""

    heading: str
    sentences: tuple[str, ...]
    gives: str = ""
    expected: tuple[ExpectationResult, ...] = ()

    def lines(self) -> Iterator[str]:
        """Each sentence, what came of it, and each expectation with whether it holds."""
        yield from self.sentences
        if self.gives:
            yield f"Now: {self.gives}"
        for one in self.expected:
            yield f"Expected: {one.what}{'' if one.holds else f'; it is not so: {one.found}'}"


@dataclass(frozen=True)
class Findings:
    """What was found; worst first, and briefly so many."""

    findings: tuple[Finding, ...]
    brief: int | None = None


Block: TypeAlias = Grid | Note | Blank | Ledger | Expectations | Steps | Findings | Sentences


@dataclass(frozen=True)
class Document:
    """The answer, in one line or a few, facts below it, and what there is to say in order."""

    answer: tuple[str, ...]
    facts: tuple[Fact, ...]
    blocks: tuple[Block, ...]
