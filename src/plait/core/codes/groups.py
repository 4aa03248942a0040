"""The rows of each key beside one another."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from plait.core.codes.coding import Coding
from plait.core.codes.counting import count, rows_by_code

Rows = npt.NDArray[np.integer[Any]]
Flags = npt.NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class Groups:
    """Rows in groups of one key, the groups in the order in which their keys first stand.

    Parameters
    ----------
    rows : array of int
        Row numbers, those of a group one after another and in their order.
    group : array of int
        For each of them the number of its group.
    offsets : array of int
        Where each group begins in ``rows``, and the end.
    """

    rows: Rows
    group: Rows
    offsets: Rows

    @property
    def size(self) -> int:
        """How many groups there are."""
        return len(self.offsets) - 1

    @property
    def counts(self) -> Rows:
        """Rows of each group."""
        return np.diff(self.offsets)

    def first_of(self, chosen: Flags, rank: Rows | None = None) -> Rows:
        """For each group its row of the least rank among the chosen ones; -1 without any.

        Parameters
        ----------
        chosen : array of bool
            For each of ``rows``.
        rank : array of int, optional
            For each of ``rows``; not below 0. Of equal ranks the first row is taken.

        Examples
        --------
        >>> groups = grouped(np.array([0, 1, 0]), 2)
        >>> groups.first_of(np.array([True, True, True]), np.array([5, 3, 9])).tolist()
        [2, 1]
        """
        at = np.flatnonzero(chosen)
        if rank is not None and len(at):
            at = at[self._least(at, rank[at])]
        first = np.full(self.size, -1, np.int64)
        first[self.group[at[::-1]]] = self.rows[at[::-1]]
        return first

    def _least(self, at: Rows, rank: Rows) -> Flags:
        """Which of some rows, in their order, have the least rank of their group."""
        group = self.group[at]
        begin = np.flatnonzero(np.append(True, group[1:] != group[:-1]))
        times = np.diff(begin, append=len(at))
        least: Flags = rank == np.repeat(np.minimum.reduceat(rank, begin), times)
        return least


def grouped(codes: Rows, size: int) -> Groups:
    """Put the rows of each code beside one another; rows of code -1 are in no group.

    >>> groups = grouped(np.array([1, 0, -1, 1]), 2)
    >>> groups.rows.tolist(), groups.group.tolist(), groups.offsets.tolist()
    ([0, 3, 1], [0, 0, 1], [0, 2, 3])
    """
    first = np.full(size + 1, -1, np.int64)
    first[codes[::-1]] = np.arange(len(codes) - 1, -1, -1)
    standing = np.flatnonzero(first[:size] >= 0)
    inorder = standing[np.argsort(first[standing], kind="stable")]
    to = np.full(size + 1, -1, np.int32)
    to[inorder] = np.arange(len(inorder), dtype=np.int32)
    groups = to[codes]
    rows, offsets = rows_by_code(groups, count(groups, len(inorder)))
    return Groups(rows, groups[rows], offsets)


def key_groups(coding: Coding) -> Groups:
    """The groups of one table's keys."""
    return grouped(coding.codes[0], coding.size)
