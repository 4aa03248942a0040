"""What the cells of a column are: a family, and how its values are written.

``--type`` and plans name a type by its family, with an example or a pattern behind a colon
where its values are not written plainly: ``decimal``, ``decimal:1.234,5``, ``boolean:yes/no``,
``date:%d.%m.%Y``. Here alone is that text taken apart and put together.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal, cast

import pyarrow as pa

Family = Literal[
    "integer", "decimal", "boolean", "date", "datetime", "time", "text", "empty", "other"
]
DECLARABLE = ("integer", "decimal", "boolean", "date", "datetime", "time", "text")
_SIMPLEST: dict[str, pa.DataType] = {
    "integer": pa.int64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
    "time": pa.time64("us"),
}
_NATIVE: dict[Family, tuple[Callable[[pa.DataType], bool], ...]] = {
    "integer": (pa.types.is_integer,),
    "decimal": (pa.types.is_floating, pa.types.is_decimal),
    "boolean": (pa.types.is_boolean,),
    "date": (pa.types.is_date,),
    "datetime": (pa.types.is_timestamp,),
    "time": (pa.types.is_time,),
    "text": (pa.types.is_string, pa.types.is_large_string, pa.types.is_dictionary),
}


@dataclass(frozen=True)
class ColumnType:
    """The type of a column.

    Parameters
    ----------
    family : str
        ``empty`` where no cell is filled in; ``other`` for cells of a typed source that are of
        no family here.
    written : str
        How its values are written, where that is not the plain way.
    native : pyarrow.DataType, optional
        The type that the source has its cells in, where these are not text.

    Examples
    --------
    >>> form = ColumnType.parse("decimal:1.234,5")
    >>> form.family, form.written, form.is_number, str(form)
    ('decimal', '1.234,5', True, 'decimal:1.234,5')
    >>> str(ColumnType.of_arrow(pa.uint8())), ColumnType.of_arrow(pa.uint8()) == INTEGER
    ('integer', True)
    """

    family: Family
    written: str = ""
    native: pa.DataType | None = field(default=None, compare=False, repr=False)

    @classmethod
    def parse(cls, text: str) -> ColumnType:
        """The type of that name; whether there is such a way to write is not looked at."""
        family, _, written = text.partition(":")
        return cls(cast(Family, family), written)

    @classmethod
    def of_arrow(cls, native: pa.DataType) -> ColumnType:
        """The type of cells that a source has in a type of its own."""
        for family, tests in _NATIVE.items():
            if any(test(native) for test in tests):
                return cls(family, native=native)
        return cls("other", str(native), native)

    def __str__(self) -> str:
        """Its name, as ``--type`` takes it."""
        if self.family == "other":
            return "text"  # as which its cells are read, counted and written
        return f"{self.family}:{self.written}" if self.written else self.family

    @property
    def plain(self) -> ColumnType:
        """The family, whose values are written plainly."""
        return ColumnType(self.family)

    @property
    def of_texts(self) -> ColumnType:
        """The type of the same cells once they are written as texts."""
        return ColumnType(self.family, self.written)

    @property
    def is_plain(self) -> bool:
        """Whether its values are written plainly."""
        return not self.written or self.family == "other"

    @property
    def is_number(self) -> bool:
        """Whether its values are whole numbers or decimals."""
        return self.family in ("integer", "decimal")

    @property
    def is_plain_number(self) -> bool:
        """Whether its values are numbers that are written plainly."""
        return self.is_number and not self.written

    @property
    def has_day(self) -> bool:
        """Whether its values are dates, with or without a time."""
        return self.family in ("date", "datetime")

    @property
    def allows_missing_markers(self) -> bool:
        """Whether well-known markers, such as ``n/a``, count as missing among its texts."""
        return self.native is None and (self.is_number or self.has_day or self.family == "time")

    @property
    def simplest_arrow(self) -> pa.DataType | None:
        """The Arrow type that all its columns fit; ``None`` for decimals and text."""
        if self.written.endswith("%z"):
            return pa.timestamp("us", "UTC")
        return _SIMPLEST.get(self.family)


INTEGER = ColumnType("integer")
DECIMAL = ColumnType("decimal")
BOOLEAN = ColumnType("boolean")
DATE = ColumnType("date")
DATETIME = ColumnType("datetime")
TIME = ColumnType("time")
TEXT = ColumnType("text")
EMPTY = ColumnType("empty")
