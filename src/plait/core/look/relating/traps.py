"""Names that two tables share, and that a join must not be made on."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from plait.core.account.finding import Finding
from plait.core.look.relating.composites import match_on
from plait.core.look.relating.relation import Relation
from plait.core.look.relating.values import Values
from plait.core.table.keyspec import spelt

_FEWER = 0.5


def traps(
    left: Sequence[Values], right: Sequence[Values], best: Relation, size: int
) -> Iterator[Finding]:
    """Tell of a shared name that makes a join without a key match far less than the right key.

    Parameters
    ----------
    left, right : sequence of Values
        The columns of the two tables.
    best : Relation
        The join that one would make.
    size : int
        How many codes the dictionary has.
    """
    here: Mapping[str, Values] = {one.name: one for one in left}
    there: Mapping[str, Values] = {one.name: one for one in right}
    shared = [name for name in here if name in there]
    others = [name for name in shared if (name, name) not in best.key]
    if not others:
        return
    pairs = [(here[name], there[name]) for name in shared]
    found, _ = match_on(pairs, (best.left_rows, best.right_rows), size)
    if found.left_matched >= _FEWER * best.left_matched:
        return
    named = ", ".join(others)
    yield Finding(
        "name-trap",
        "warning",
        best.left_matched - found.left_matched,
        f"{best.left} and {best.right} also share {named}: a join without --key "
        f"would use it and match only {found.shares[0]:.0%} of the rows of "
        f"{best.left} instead of {best.shares[0]:.0%}",
        f"name the key: --key {spelt(best.key)}",
        f"{best.left}, column {others[0]}",
    )
