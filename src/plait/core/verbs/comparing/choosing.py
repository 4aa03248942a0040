"""The key by which two tables are compared, where nobody says which."""

from __future__ import annotations

from collections.abc import Sequence

from plait.core.codes.coding import code_keys
from plait.core.look.candidates import candidate_keys
from plait.core.look.profile import profile, tallied
from plait.core.table.table import Table


def best_key(old: Table, new: Table, shared: Sequence[str]) -> tuple[str, ...]:
    """The likeliest key of the new table that is unique in the old one too; none if none is.

    >>> from plait.core.table.table import from_columns
    >>> hives = [str(n) for n in range(40)]
    >>> old = from_columns("old", {"hive": hives, "kg": ["7"] * 40})
    >>> best_key(old, old, ["hive", "kg"])
    ('hive',)
    """
    if not shared:
        return ()
    tallies = {name: tallied([new.whole(name)], new.column(name).kind) for name in shared}
    profiles = {name: profile(tally) for name, tally in tallies.items()}
    found = candidate_keys(tallies, profiles, new.rows)
    for one in found.keys:
        if not one.by_chance and not one.in_the_way and _is_key(old, one.columns):
            return one.columns
    return ()


def _is_key(table: Table, columns: Sequence[str]) -> bool:
    """Whether no part of the key is missing, and no key on two rows."""
    coding = code_keys([table], [columns])
    return int(coding.counts(0).max(initial=0)) <= 1 and bool((coding.codes[0] >= 0).all())
