"""The picture of a whole job: sources on the left, steps in order, the dataset on the right."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from plait.report.drawn.layered import ordered

# All lengths are in pixels of the page.
_COLUMN, _SOURCES, _BAR, _MARGIN = 158.0, 190.0, 14.0, 8.0
_LINE, _LETTER, _GAP, _THICKEST, _THINNEST = 16.0, 7.2, 20.0, 84.0, 2.0
_DROP, _THINNEST_DROP, _WIDEST_DROP = 16.0, 8.0, 60.0


@dataclass(frozen=True)
class Part:
    """What is drawn as a bar: a source, a step, or the dataset.

    Parameters
    ----------
    name : str
        Unlike the others.
    kind : {"source", "step", "dataset"}
    title, also : str
        What is written beside it; the title is in bold.
    rows : int
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
class Bar:
    """A part in its place: corner and size of its bar, and the lines written beside it.

    ``drop`` is how wide what it sets aside is drawn; ``under`` where the words below it begin.
    """

    part: Part
    x: float
    y: float
    width: float
    height: float
    text_x: float
    lines: tuple[tuple[float, str, bool], ...]
    drop: float
    under: tuple[tuple[float, str], ...]


@dataclass(frozen=True)
class Band:
    """Rows on their way from a part to another: a line as thick as they are many.

    ``points`` are the places that it passes, ``path`` the same as SVG draws it.
    """

    start: Part
    end: Part
    points: tuple[tuple[float, float], ...]
    thick: float

    @property
    def path(self) -> str:
        """Cubic curves that begin and end level."""
        (x, y), *_ = self.points
        said = [f"M{x:.1f} {y:.1f}"]
        for (x0, y0), (x1, y1) in pairwise(self.points):
            middle = (x0 + x1) / 2
            said.append(f"C{middle:.1f} {y0:.1f} {middle:.1f} {y1:.1f} {x1:.1f} {y1:.1f}")
        return "".join(said)


@dataclass(frozen=True)
class Picture:
    """Everything in its place."""

    width: float
    height: float
    bars: tuple[Bar, ...]
    bands: tuple[Band, ...]


def picture(parts: Sequence[Part]) -> Picture:
    """Find a place for everything.

    Parameters
    ----------
    parts : sequence of Part
        Each after those whose rows it takes; at least one.

    Examples
    --------
    >>> visits = Part("visits", "source", "visits", "2 rows", 2)
    >>> drawn = picture([visits, Part("1", "step", "1 mend", "2 rows", 2, ("visits",))])
    >>> [(bar.part.name, bar.height) for bar in drawn.bars], len(drawn.bands)
    ([('visits', 84.0), ('1', 84.0)], 1)
    """
    by_name = {part.name: part for part in parts}
    level = _levels(parts)
    ways = [_way(one, part.name, level) for part in parts for one in part.takes]
    layers: list[list[str]] = [[] for _ in range(max(level.values()) + 1)]
    for part in parts:
        layers[level[part.name]].append(part.name)
    for way in ways:
        for offset, name in enumerate(way[1:-1], level[way[0]] + 1):
            layers[offset].append(name)
    lines = [pair for way in ways for pair in pairwise(way)]
    scale = _THICKEST / max([part.rows for part in parts] + [1])
    bars, passing = _placed(ordered(layers, lines), lines, by_name, ways, scale)
    bands = list(_bands(ways, by_name, bars, passing, scale))
    height = max(_bottom(bar) for bar in bars.values())
    height = max([height, *(y + _GAP for y in passing.values())])
    width = _x(len(layers) - 1) + _BAR + _COLUMN
    return Picture(width, height + _MARGIN, tuple(bars.values()), tuple(bands))


def _levels(parts: Sequence[Part]) -> dict[str, int]:
    """How many steps there are to each part at most; the dataset is behind all others."""
    level: dict[str, int] = {}
    for part in parts:
        level[part.name] = max((level[one] + 1 for one in part.takes), default=0)
    last = max(level.values())
    return {part.name: last if part.kind == "dataset" else level[part.name] for part in parts}


def _way(start: str, end: str, level: dict[str, int]) -> list[str]:
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
    by_name: dict[str, Part],
    ways: Sequence[Sequence[str]],
    scale: float,
) -> tuple[dict[str, Bar], dict[str, float]]:
    """The bars, and where bands pass a column: near to what comes before, as there is room."""
    bars: dict[str, Bar] = {}
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


def _incoming(by_name: dict[str, Part], name: str) -> int:
    return sum(by_name[one].rows for one in by_name[name].takes)


def _middle(name: str, bars: dict[str, Bar], passing: dict[str, float]) -> float:
    return passing[name] if name in passing else bars[name].y + bars[name].height / 2


def _bar(part: Part, incoming: int, column: int, scale: float) -> Bar:
    """A part as it would be at the top of its column."""
    height = _thick(max(part.rows, incoming), scale)
    x = _x(column)
    beside = part.kind == "source"
    room = (_SOURCES if beside else _COLUMN) - _BAR - 12
    texts = [(line, True) for line in wrapped(part.title, int(room / _LETTER))]
    texts += [(line, False) for line in wrapped(part.also, int(room / _LETTER))]
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
    said = wrapped(f"{part.aside:,} set aside", int(room / _LETTER)) if part.aside else ()
    below = tuple((under + (number + 0.8) * _LINE, text) for number, text in enumerate(said))
    return Bar(part, x, y, _BAR, height, text_x, lines, drop, below)


def _moved(bar: Bar, by: float) -> Bar:
    return replace(
        bar,
        y=bar.y + by,
        lines=tuple((y + by, text, bold) for y, text, bold in bar.lines),
        under=tuple((y + by, text) for y, text in bar.under),
    )


def _bottom(bar: Bar) -> float:
    ends = [bar.y + bar.height, *(y for y, *_ in bar.lines), *(y + 4 for y, _ in bar.under)]
    return max(ends)


def _bands(
    ways: Sequence[Sequence[str]],
    by_name: dict[str, Part],
    bars: dict[str, Bar],
    passing: dict[str, float],
    scale: float,
) -> Iterator[Band]:
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
        yield Band(start.part, end.part, (*points, (end.x, y)), thick)


def wrapped(text: str, signs: int) -> tuple[str, ...]:
    """Text in lines of so many signs at most; words break where they are longer.

    >>> wrapped("weighings of the season", 12)
    ('weighings of', 'the season')
    >>> wrapped("2031-03-north-yards", 8)
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
    return sum(2 if unicodedata.east_asian_width(sign) in "WF" else 1 for sign in text)


def _cut(word: str, signs: int) -> int:
    """How many signs of a word have room: at least one; up to a hyphen where it has one."""
    room = 1
    while room < len(word) and _wide(word[: room + 1]) <= signs:
        room += 1
    hyphen = max(word.rfind(sign, 0, room) for sign in "-_+./")
    return hyphen + 1 if hyphen > 0 else room
