"""The ledger: every operation accounts for every row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Literal, get_args

KEY_MISSING = "key is missing"  # the reason of such rows in a list


@dataclass(frozen=True)
class ListingKey:
    """Which list has some rows: of which table, what list, and for which of its reasons."""

    source: str
    kind: str
    reason: str = ""


Effect = Literal["added", "matched in", "brought together", "left out"]
EFFECTS: tuple[Effect, ...] = get_args(Effect)


@dataclass(frozen=True)
class LedgerLine:
    """Rows added (positive) or left out (negative), why, and which list has them.

    Fewer rows are not always rows that are gone: those of the right table that a join took in stand
    in the rows they match (``matched in``), those of a group in its row (``brought together``).

    >>> LedgerLine("rows without a match", -3).effect
    'left out'
    """

    reason: str
    rows: int
    listing: ListingKey | None = None
    stands_in: Literal["matched in", "brought together"] | None = None

    @property
    def effect(self) -> Effect:
        """What became of its rows."""
        return self.stands_in or ("added" if self.rows > 0 else "left out")


@dataclass(frozen=True)
class LedgerEntry:
    """The account of one operation. Its lines add up to ``rows_out``, or making it fails.

    Parameters
    ----------
    operation : str
        What was done, in a few words.
    rows_in : mapping of str to int
        Rows of each input, by its name.
    lines : tuple of LedgerLine
        Signed; the rows that come in are the first lines.
    rows_out : int
        Rows of the result.

    Raises
    ------
    ValueError
        When the lines do not add up. That is always a fault of the program.

    Examples
    --------
    >>> LedgerEntry("stack", {"a": 2}, (LedgerLine("rows of a", 2),), 3)
    Traceback (most recent call last):
    ...
    ValueError: the ledger of 'stack' does not add up: lines give 2, the result has 3 rows
    """

    operation: str
    rows_in: Mapping[str, int]
    lines: tuple[LedgerLine, ...]
    rows_out: int

    def __post_init__(self) -> None:
        total = sum(line.rows for line in self.lines)
        if total != self.rows_out:
            raise ValueError(
                f"the ledger of {self.operation!r} does not add up: "
                f"lines give {total:,}, the result has {self.rows_out:,} rows"
            )


def rows_by_effect(ledger_entry: LedgerEntry) -> dict[Effect, int]:
    """How many rows had each effect, apart from those that came in.

    >>> changes = [LedgerLine("rows merged", -2, stands_in="brought together")]
    >>> rows_by_effect(make_entry("group", [("a", 3)], changes, 1))
    {'added': 0, 'matched in': 0, 'brought together': 2, 'left out': 0}
    """
    changes = ledger_entry.lines[len(ledger_entry.rows_in) :]
    return {
        effect: sum(abs(line.rows) for line in changes if line.effect == effect)
        for effect in EFFECTS
    }


MANY = 12


def abbreviate_inputs(ledger_entry: LedgerEntry, most: int = MANY) -> LedgerEntry:
    """The entry with the last of very many inputs as one sum.

    >>> many = make_entry("stack", [(f"s{n}", 1) for n in range(20)], [], 20)
    >>> [line.reason for line in abbreviate_inputs(many, 3).lines]
    ['rows of s0', 'rows of s1', 'rows of 18 more sources']
    """
    coming = len(ledger_entry.rows_in)
    if coming <= most:
        return ledger_entry
    first, rest = ledger_entry.lines[: most - 1], ledger_entry.lines[most - 1 : coming]
    joint = LedgerLine(f"rows of {len(rest)} more sources", sum(line.rows for line in rest))
    names = [*list(ledger_entry.rows_in.items())[: most - 1], (joint.reason[8:], joint.rows)]
    return LedgerEntry(
        ledger_entry.operation,
        dict(names),
        (*first, joint, *ledger_entry.lines[coming:]),
        ledger_entry.rows_out,
    )


def make_entry(
    operation: str, inputs: Iterable[tuple[str, int]], changes: Iterable[LedgerLine], rows_out: int
) -> LedgerEntry:
    """Make an entry: the inputs' rows first, then the changes that are not nothing."""
    inputs = list(inputs)
    coming = tuple(LedgerLine(f"rows of {name}", rows) for name, rows in inputs)
    return LedgerEntry(
        operation, dict(inputs), coming + tuple(line for line in changes if line.rows), rows_out
    )
