"""Leaves: the stored cells that the cells of a column were made of, row for row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

Came = tuple[tuple[str, str], ...]

WHICH = " which "  # begins the names of stored columns of numbers, which no heading does


@dataclass(frozen=True)
class Leaf:
    """Cells of a strand that went into the cells of a column, on the same rows.

    Parameters
    ----------
    strand : int
        The number of the strand, in the column's table.
    came : tuple of (str, str)
        The sources of the strand, and the column that it is in each.
    absent : tuple of int
        Strands: the leaf counts only on rows that these show nothing on.
    which : tuple of (int, str, int)
        Strands, stored columns and numbers: it counts only where the number stands.
    """

    strand: int
    came: Came
    absent: tuple[int, ...] = ()
    which: tuple[tuple[int, str, int], ...] = ()

    def shifted(self, strands: int) -> Leaf:
        """The leaf in a table that has so many strands before those of this one."""
        return self.renumbered({number: number + strands for number in self.strands})

    @property
    def strands(self) -> tuple[int, ...]:
        """All the strands that it speaks of."""
        return (self.strand, *self.absent, *(number for number, _, _ in self.which))

    def renumbered(self, to: Mapping[int, int]) -> Leaf:
        """The leaf in a table that has the same strands under other numbers."""
        return replace(
            self,
            strand=to[self.strand],
            absent=tuple(to[number] for number in self.absent),
            which=tuple((to[number], name, value) for number, name, value in self.which),
        )

    def only_where(self, strand: int, name: str, value: int) -> Leaf:
        """The leaf, where a number is in a stored column."""
        return replace(self, which=(*self.which, (strand, name, value)))

    def only_without(self, strands: Iterable[int]) -> Leaf:
        """The leaf, on rows that some strands show nothing on."""
        return replace(self, absent=tuple(dict.fromkeys((*self.absent, *strands))))


Leaves = tuple[Leaf, ...]


def first_of(leaves: Leaves, others: Leaves) -> Leaves:
    """Those of a column, and where it shows nothing those of another.

    >>> first_of((Leaf(0, (("a", "k"),)),), (Leaf(1, (("b", "k"),)),))[1].absent
    (0,)
    """
    strands = [leaf.strand for leaf in leaves]
    return (*leaves, *(leaf.only_without(strands) for leaf in others))


def together(columns: Iterable[Leaves]) -> Leaves:
    """The leaves of several columns, each once."""
    return tuple(dict.fromkeys(leaf for leaves in columns for leaf in leaves))


def came_of(leaves: Leaves) -> Came:
    """The sources and their columns that leaves lead to.

    >>> came_of((Leaf(0, (("may", "kg"), ("june", "kg"))),))
    (('may', 'kg'), ('june', 'kg'))
    """
    return tuple(dict.fromkeys(pair for leaf in leaves for pair in leaf.came))
