"""What changed between two tables, in numbers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Changes:
    """What changed, in numbers.

    Parameters
    ----------
    key : tuple of str
        The new table's columns by which rows are known; none where they are compared as wholes.
    old_rows, new_rows : int
    rows_new, rows_gone, rows_equal, rows_changed : int
    columns : mapping of str to int
        Cells changed, of each column in which any did.
    columns_new, columns_gone : tuple of str
    columns_renamed : mapping of str to str
        New name to old name.
    types : mapping of str to (str, str)
        What the cells of a column were and are, where that is not the same.
    keys_repeated : int
        Keys on several rows of either table: their rows are compared as wholes.
    """

    key: tuple[str, ...]
    old_rows: int
    new_rows: int
    rows_new: int
    rows_gone: int
    rows_equal: int
    rows_changed: int
    columns: Mapping[str, int]
    columns_new: tuple[str, ...]
    columns_gone: tuple[str, ...]
    columns_renamed: Mapping[str, str]
    types: Mapping[str, tuple[str, str]]
    keys_repeated: int

    @property
    def none(self) -> bool:
        """Whether the two say the same."""
        rows = self.rows_new or self.rows_gone or self.rows_changed
        columns = self.columns_new or self.columns_gone or self.columns_renamed
        return not (rows or columns or self.types)
