"""Columns on which two tables could be joined, and what such a join would match."""

from __future__ import annotations

import shlex
from dataclasses import dataclass

from plait.core.look.relating.evidence import alike
from plait.core.table.keyspec import Key


@dataclass(frozen=True)
class Relation:
    """Columns on which two tables could be joined.

    Parameters
    ----------
    left, right : str
        The tables; the right one has fewer rows.
    key : tuple of (str, str)
        Left and right columns.
    left_rows, right_rows : int
    left_matched, right_matched : int
        Rows that would match.
    cardinality : str
        Left to right, judged on the keys that match.
    ignore : tuple of str
        What must not count when keys are compared, for so many to match.
    split, split_of, split_path : str
        What ``mend --split`` must be told first, of which table, and its file: one of them
        writes the key in one column and the other in two.
    unlikely : float
        The negative natural logarithm of how likely chance gives so much in common.
    """

    left: str
    right: str
    key: Key
    left_rows: int
    right_rows: int
    left_matched: int
    right_matched: int
    cardinality: str
    ignore: tuple[str, ...] = ()
    split: str = ""
    split_of: str = ""
    split_path: str = ""
    unlikely: float = 0.0

    @property
    def shares(self) -> tuple[float, float]:
        """Shares of the left and the right rows that would match."""
        return (
            self.left_matched / max(self.left_rows, 1),
            self.right_matched / max(self.right_rows, 1),
        )

    @property
    def prepare(self) -> str:
        """The command that splits the column; nothing where there is none to split."""
        if not self.split:
            return ""
        where = shlex.quote(self.split_path or self.split_of)
        return f"plait mend {where} --split {shlex.quote(self.split)} --out …"

    def columns_of(self, table: str) -> list[str]:
        """The key's columns in one of the tables; none where it is neither."""
        sides = (self.left, self.right)
        return [pair[side] for side in (0, 1) if sides[side] == table for pair in self.key]

    @property
    def named(self) -> bool:
        """Whether the columns are called alike on both sides."""
        return all(alike(*pair) for pair in self.key)

    @property
    def worth(self) -> float:
        """How much speaks for it: rows that match, names, one row a key, and no chance."""
        sure = min(self.unlikely / 20, 1.0)
        plain = 0.25 * (not self.ignore and not self.split)
        one = 0.15 * self.cardinality.count("one")
        return self.shares[0] + self.shares[1] / 2 + self.named / 2 + sure / 2 + plain + one


def without_parts(found: list[Relation]) -> list[Relation]:
    """Of relations whose columns are part of one another, the one that says most.

    More columns are better when they make the key unique on a side, else fewer.
    """
    return [
        one
        for one in found
        if not any(
            (set(one.key) < set(other.key) and _ones(other) > _ones(one))
            or (set(one.key) > set(other.key) and _ones(other) >= _ones(one))
            for other in found
        )
    ]


def _ones(one: Relation) -> int:
    return one.cardinality.count("one")
