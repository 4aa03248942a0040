"""What a column looks like to a person: one that identifies, or one that measures."""

from __future__ import annotations

from collections.abc import Mapping

from plait.core.look.profile import Profile
from plait.core.types.forms import base

LONGEST_CELL = 40
_FEW = 60
_FULL = 0.98


def measures(column: Profile) -> bool:
    """Whether a column holds measures or remarks: decimals, whole numbers below 0, long texts."""
    kind = base(column.kind)
    if kind == "integer":
        return column.smallest.startswith("-")
    return kind in ("decimal", "boolean", "empty") or column.longest > LONGEST_CELL


def weight(column: Profile, place: float) -> float:
    """How little a column looks like a part of a key: 0 to 4.

    Parameters
    ----------
    column : Profile
    place : float
        Where it stands among the columns, 0 for the first and 1 for the last.
    """
    present = max(column.rows - column.missing, 1)
    if measures(column):
        return 3 + place
    wide = base(column.kind) == "integer" and _FEW < column.distinct < _FULL * present
    return 1 + wide + place / 2


def weights_of(profiles: Mapping[str, Profile]) -> dict[str, float]:
    """The weight of each column of a table."""
    last = max(len(profiles) - 1, 1)
    return {
        name: weight(column, place / last) for place, (name, column) in enumerate(profiles.items())
    }
