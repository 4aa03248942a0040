"""What stands above what in a picture of layers, so that few lines cross."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from itertools import combinations

_SWEEPS = 4


def ordered(layers: Sequence[Sequence[str]], lines: Iterable[tuple[str, str]]) -> list[list[str]]:
    """Put the nodes of each layer in an order in which few lines cross.

    Parameters
    ----------
    layers : sequence of sequence of str
        The nodes of each layer, as they are first put.
    lines : iterable of (str, str)
        From a node to one of the layer after it.

    Returns
    -------
    list of list of str

    Notes
    -----
    Each layer is put in the order of the means of its neighbours' places, there and back
    several times, and the best is kept: K. Sugiyama, S. Tagawa, M. Toda, "Methods for Visual
    Understanding of Hierarchical System Structures", IEEE Transactions on Systems, Man, and
    Cybernetics 11 (1981).

    Examples
    --------
    >>> ordered([["a", "b"], ["c", "d"]], [("a", "d"), ("b", "c")])
    [['a', 'b'], ['d', 'c']]
    """
    lines = list(lines)
    best = now = [list(layer) for layer in layers]
    before = {node: [one for one, other in lines if other == node] for node in _all(layers)}
    after = {node: [other for one, other in lines if one == node] for node in _all(layers)}
    for _ in range(_SWEEPS):
        for neighbours, numbers in (
            (before, range(1, len(now))),
            (after, range(len(now) - 2, -1, -1)),
        ):
            now = _swept(now, neighbours, numbers)
            best = min(best, now, key=lambda one: _crossings(one, lines))
    return best


def _all(layers: Sequence[Sequence[str]]) -> list[str]:
    return [node for layer in layers for node in layer]


def _swept(
    layers: list[list[str]], neighbours: Mapping[str, Sequence[str]], numbers: Iterable[int]
) -> list[list[str]]:
    """Each of some layers by the mean place of its neighbours; without any, where it is."""
    made = [list(layer) for layer in layers]
    for number in numbers:
        place = {node: at for layer in made for at, node in enumerate(layer)}

        def mean(node: str, place: Mapping[str, int] = place) -> float:
            near = [place[other] for other in neighbours[node]]
            return sum(near) / len(near) if near else place[node]

        made[number].sort(key=mean)
    return made


def _crossings(layers: Sequence[Sequence[str]], lines: Sequence[tuple[str, str]]) -> int:
    place = {
        node: (number, at) for number, layer in enumerate(layers) for at, node in enumerate(layer)
    }
    by_layer: dict[int, list[tuple[int, int]]] = {}
    for one, other in lines:
        by_layer.setdefault(place[one][0], []).append((place[one][1], place[other][1]))
    return sum(
        (a - c) * (b - d) < 0
        for pairs in by_layer.values()
        for (a, b), (c, d) in combinations(pairs, 2)
    )
