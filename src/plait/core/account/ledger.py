"""The ledger: every operation accounts for every row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Line:
    """Rows added (positive) or left out (negative), and why."""

    reason: str
    rows: int


@dataclass(frozen=True)
class Entry:
    """The account of one operation. Its lines add up to ``rows_out``, or making it fails.

    Parameters
    ----------
    operation : str
        What was done, in a few words.
    rows_in : mapping of str to int
        Rows of each input, by its name.
    lines : tuple of Line
        Signed; the rows that come in are the first lines.
    rows_out : int
        Rows of the result.

    Raises
    ------
    ValueError
        When the lines do not add up. That is always a fault of the program.

    Examples
    --------
    >>> Entry("stack", {"a": 2}, (Line("rows of a", 2),), 3)
    Traceback (most recent call last):
    ...
    ValueError: the ledger of 'stack' does not add up: lines give 2, the result has 3 rows
    """

    operation: str
    rows_in: Mapping[str, int]
    lines: tuple[Line, ...]
    rows_out: int

    def __post_init__(self) -> None:
        total = sum(line.rows for line in self.lines)
        if total != self.rows_out:
            raise ValueError(
                f"the ledger of {self.operation!r} does not add up: "
                f"lines give {total:,}, the result has {self.rows_out:,} rows"
            )


MANY = 12


def shortened(one: Entry, most: int = MANY) -> Entry:
    """The entry with the last of very many inputs as one sum.

    >>> many = entry("stack", [(f"s{n}", 1) for n in range(20)], [], 20)
    >>> [line.reason for line in shortened(many, 3).lines]
    ['rows of s0', 'rows of s1', 'rows of 18 more sources']
    """
    coming = len(one.rows_in)
    if coming <= most:
        return one
    first, rest = one.lines[: most - 1], one.lines[most - 1 : coming]
    joint = Line(f"rows of {len(rest)} more sources", sum(line.rows for line in rest))
    names = [*list(one.rows_in.items())[: most - 1], (joint.reason[8:], joint.rows)]
    return Entry(one.operation, dict(names), (*first, joint, *one.lines[coming:]), one.rows_out)


def entry(
    operation: str, inputs: Iterable[tuple[str, int]], changes: Iterable[Line], rows_out: int
) -> Entry:
    """Make an entry: the inputs' rows first, then the changes that are not nothing."""
    inputs = list(inputs)
    coming = tuple(Line(f"rows of {name}", rows) for name, rows in inputs)
    return Entry(
        operation, dict(inputs), coming + tuple(line for line in changes if line.rows), rows_out
    )
