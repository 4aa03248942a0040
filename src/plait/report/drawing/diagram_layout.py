"""The layers of a diagram, and its parts drawn."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations, pairwise

_SWEEPS = 4

# All lengths are in pixels of the page.
_COLUMN, _SOURCES, _BAR, _MARGIN = 158.0, 190.0, 14.0, 8.0
_LINE, _LETTER, _GAP, _THICKEST, _THINNEST = 16.0, 7.2, 20.0, 84.0, 2.0
_DROP, _THINNEST_DROP, _WIDEST_DROP = 16.0, 8.0, 60.0


def order_layers(
    layers: Sequence[Sequence[str]], lines: Iterable[tuple[str, str]]
) -> list[list[str]]:
    """Put the nodes of each layer in an order in which few lines cross.

    Parameters
    ----------
    layers : sequence of sequence of str
        The nodes of each layer, as they are first put.
    lines : iterable of (str, str)
        From a node to one of the layer after it.

    Notes
    -----
    Each layer is put in the order of the means of its neighbours' places, there and back
    several times, and the best is kept: K. Sugiyama, S. Tagawa, M. Toda, "Methods for Visual
    Understanding of Hierarchical System Structures", IEEE Transactions on Systems, Man, and
    Cybernetics 11 (1981).

    Examples
    --------
    >>> order_layers([["a", "b"], ["c", "d"]], [("a", "d"), ("b", "c")])
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
            best = min(best, now, key=lambda b: _crossings(b, lines))
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
            near = [place[n] for n in neighbours[node]]
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


@dataclass(frozen=True)
class DiagramNode:
    """What is drawn as a bar: a source, a step, or the dataset.

    Parameters
    ----------
    name : str
        Unlike the others.
    title, also : str
        What is written beside it; the title is in bold.
    takes : tuple of str
        The parts whose rows it takes.
    link : str
        Where more is said of it.
    aside : int
        Rows that it sets aside.
    aside_link : str
        Where those are.
    opens : bool
        Whether it stands for several sources.
    """

    name: str
    kind: str
    title: str
    also: str
    rows: int
    takes: tuple[str, ...] = ()
    link: str = ""
    aside: int = 0
    aside_link: str = ""
    opens: bool = False


@dataclass(frozen=True)
class PlacedNode:
    """A part in its place: corner and size of its bar, and the lines written beside it.

    ``drop`` is how wide what it sets aside is drawn; ``under`` where the words below it begin.
    """

    part: DiagramNode
    x: float
    y: float
    width: float
    height: float
    text_x: float
    lines: tuple[tuple[float, str, bool], ...]
    drop: float
    under: tuple[tuple[float, str], ...]


@dataclass(frozen=True)
class FlowBand:
    """Rows on their way from a part to another: a line as thick as they are many.

    ``points`` are the places that it passes, ``path`` the same as SVG draws it.
    """

    start: DiagramNode
    end: DiagramNode
    points: tuple[tuple[float, float], ...]
    thick: float

    @property
    def path(self) -> str:
        """Cubic curves that begin and end level."""
        (x, y), *_ = self.points
        texts = [f"M{x:.1f} {y:.1f}"]
        for (x0, y0), (x1, y1) in pairwise(self.points):
            middle = (x0 + x1) / 2
            texts.append(f"C{middle:.1f} {y0:.1f} {middle:.1f} {y1:.1f} {x1:.1f} {y1:.1f}")
        return "".join(texts)


@dataclass(frozen=True)
class Diagram:
    """Everything in its place."""

    width: float
    height: float
    bars: tuple[PlacedNode, ...]
    bands: tuple[FlowBand, ...]


def layout_diagram(parts: Sequence[DiagramNode]) -> Diagram:
    """Find a place for everything.

    Parameters
    ----------
    parts : sequence of DiagramNode
        Each after those whose rows it takes; at least one.

    Examples
    --------
    >>> visits = DiagramNode("visits", "source", "visits", "2 rows", 2)
    >>> mend = DiagramNode("1", "step", "1 mend", "2 rows", 2, ("visits",))
    >>> drawn = layout_diagram([visits, mend])
    >>> [(bar.part.name, bar.height) for bar in drawn.bars], len(drawn.bands)
    ([('visits', 84.0), ('1', 84.0)], 1)
    """
    by_name = {part.name: part for part in parts}
    level = _levels(parts)
    ways = [_band_columns(take, part.name, level) for part in parts for take in part.takes]
    layers: list[list[str]] = [[] for _ in range(max(level.values()) + 1)]
    for part in parts:
        layers[level[part.name]].append(part.name)
    for way in ways:
        for offset, name in enumerate(way[1:-1], level[way[0]] + 1):
            layers[offset].append(name)
    lines = [pair for way in ways for pair in pairwise(way)]
    scale = _THICKEST / max([part.rows for part in parts] + [1])
    bars, passing = _placed(order_layers(layers, lines), lines, by_name, ways, scale)
    bands = list(_bands(ways, by_name, bars, passing, scale))
    height = max(_bottom(bar) for bar in bars.values())
    height = max([height, *(y + _GAP for y in passing.values())])
    width = _x(len(layers) - 1) + _BAR + _COLUMN
    return Diagram(width, height + _MARGIN, tuple(bars.values()), tuple(bands))


def _levels(parts: Sequence[DiagramNode]) -> dict[str, int]:
    """How many steps there are to each part at most; the dataset is behind all others."""
    level: dict[str, int] = {}
    for part in parts:
        level[part.name] = max((level[take] + 1 for take in part.takes), default=0)
    last = max(level.values())
    return {part.name: last if part.kind == "dataset" else level[part.name] for part in parts}


def _band_columns(start: str, end: str, level: dict[str, int]) -> list[str]:
    """The places of a band: its ends, and one in each column that it passes."""
    passed = [f"{start}\0{end}\0{number}" for number in range(level[start] + 1, level[end])]
    return [start, *passed, end]


def _x(column: int) -> float:
    """Where the bars of a column begin."""
    return _MARGIN + _SOURCES - _BAR + column * _COLUMN


def _thick(rows: int, scale: float) -> float:
    return max(rows * scale, _THINNEST) if rows else 1.0


def _placed(
    layers: Sequence[Sequence[str]],
    lines: Sequence[tuple[str, str]],
    by_name: dict[str, DiagramNode],
    ways: Sequence[Sequence[str]],
    scale: float,
) -> tuple[dict[str, PlacedNode], dict[str, float]]:
    """The bars, and where bands pass a column: near to what comes before, as there is room."""
    bars: dict[str, PlacedNode] = {}
    passing: dict[str, float] = {}
    rows = {name: by_name[way[0]].rows for way in ways for name in way[1:-1]}
    for column, layer in enumerate(layers):
        free = _MARGIN
        for name in layer:
            before = [_middle(one, bars, passing) for one, other in lines if other == name]
            wanted = sum(before) / len(before) if before else free
            if name in by_name:
                bar = _bar(by_name[name], _incoming(by_name, name), column, scale)
                y = max(free, wanted - bar.y - bar.height / 2) if before else free
                bars[name] = _moved(bar, y)
                free = _bottom(bars[name]) + _GAP
            else:
                thick = _thick(rows[name], scale)
                passing[name] = max(free + thick / 2, wanted)
                free = passing[name] + thick / 2 + _GAP
    return bars, passing


def _incoming(by_name: dict[str, DiagramNode], name: str) -> int:
    return sum(by_name[take].rows for take in by_name[name].takes)


def _middle(name: str, bars: dict[str, PlacedNode], passing: dict[str, float]) -> float:
    return passing[name] if name in passing else bars[name].y + bars[name].height / 2


def _bar(part: DiagramNode, incoming: int, column: int, scale: float) -> PlacedNode:
    """A part as it would be at the top of its column."""
    height = _thick(max(part.rows, incoming), scale)
    x = _x(column)
    beside = part.kind == "source"
    room = (_SOURCES if beside else _COLUMN) - _BAR - 12
    texts = [(line, True) for line in wrap_text(part.title, int(room / _LETTER))]
    texts += [(line, False) for line in wrap_text(part.also, int(room / _LETTER))]
    if beside:  # to the left of the bar, both around the same middle
        tall = max(height, len(texts) * _LINE)
        top = (tall - len(texts) * _LINE) / 2
        y, text_x = (tall - height) / 2, _MARGIN
    else:
        top, y, text_x = 0.0, len(texts) * _LINE + 4, x
    lines = tuple(
        (top + (number + 0.8) * _LINE, text, bold) for number, (text, bold) in enumerate(texts)
    )
    drop = min(max(part.aside * scale, _THINNEST_DROP), _WIDEST_DROP) if part.aside else 0.0
    under = y + height + _DROP + 4
    said = wrap_text(f"{part.aside:,} set aside", int(room / _LETTER)) if part.aside else ()
    below = tuple((under + (number + 0.8) * _LINE, text) for number, text in enumerate(said))
    return PlacedNode(part, x, y, _BAR, height, text_x, lines, drop, below)


def _moved(bar: PlacedNode, by: float) -> PlacedNode:
    return replace(
        bar,
        y=bar.y + by,
        lines=tuple((y + by, text, bold) for y, text, bold in bar.lines),
        under=tuple((y + by, text) for y, text in bar.under),
    )


def _bottom(bar: PlacedNode) -> float:
    ends = [bar.y + bar.height, *(y for y, *_ in bar.lines), *(y + 4 for y, _ in bar.under)]
    return max(ends)


def _bands(
    ways: Sequence[Sequence[str]],
    by_name: dict[str, DiagramNode],
    bars: dict[str, PlacedNode],
    passing: dict[str, float],
    scale: float,
) -> Iterator[FlowBand]:
    """Each band; those that come into a bar lie under one another there."""
    filled = {name: bar.y for name, bar in bars.items()}
    ways = sorted(ways, key=lambda way: _middle(way[-2], bars, passing))
    for way in ways:
        start, end = bars[way[0]], bars[way[-1]]
        thick = _thick(start.part.rows, scale)
        y = filled[way[-1]] + thick / 2
        filled[way[-1]] += thick
        points = [(start.x + _BAR, start.y + _thick(start.part.rows, scale) / 2)]
        for number, name in enumerate(way[1:-1], 1):
            x = start.x + number * _COLUMN
            points += [(x, passing[name]), (x + _BAR, passing[name])]
        yield FlowBand(start.part, end.part, (*points, (end.x, y)), thick)


def wrap_text(text: str, signs: int) -> tuple[str, ...]:
    """Text in lines of so many signs at most; words break where they are longer.

    >>> wrap_text("weighings of the season", 12)
    ('weighings of', 'the season')
    >>> wrap_text("2031-03-north-yards", 8)
    ('2031-03-', 'north-', 'yards')
    """
    lines, now = [], ""
    for word in text.split():
        while word:
            free = signs - _wide(now) - (1 if now else 0)
            if _wide(word) <= free:
                now, word = f"{now} {word}" if now else word, ""
            elif now:
                lines.append(now)
                now = ""
            else:
                cut = _cut(word, signs)
                lines.append(word[:cut])
                word = word[cut:]
    return (*lines, now) if now else tuple(lines)


def _wide(text: str) -> int:
    """How wide text is, in signs of the Latin alphabet."""
    return sum(2 if unicodedata.east_asian_width(t) in "WF" else 1 for t in text)


def _cut(word: str, signs: int) -> int:
    """How many signs of a word have room: at least one; up to a hyphen where it has one."""
    room = 1
    while room < len(word) and _wide(word[: room + 1]) <= signs:
        room += 1
    hyphen = max(word.rfind(sign, 0, room) for sign in "-_+./")
    return hyphen + 1 if hyphen > 0 else room
