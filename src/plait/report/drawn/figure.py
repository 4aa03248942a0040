"""Figures for documents: PNG, SVG or PDF files, drawn by the plotting library."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

from plait.core.account.errors import UsageError

ENDINGS = (".png", ".svg", ".pdf")
# Told apart by people of every colour sight; what leaves is hatched as well.
INK, SOFT, PART, ROWS, LEAVING = "#1c2733", "#56616e", "#c3d5ee", "#2862ad", "#8f5400"
HATCH = "////"
_DOTS = 144  # an inch, in files of dots

Draw = Callable[[Any], None]


def check_ending(target: Path) -> None:
    """See that a figure can be of that ending.

    Raises
    ------
    UsageError
    """
    if target.suffix.lower() not in ENDINGS:
        raise UsageError(
            f"a figure is {', '.join(ENDINGS[:-1])} or {ENDINGS[-1]}, {target} is none of these"
        )


def write_figure(draw: Draw, size: tuple[float, float], target: Path, ending: str) -> None:
    """Draw, and write the file.

    Parameters
    ----------
    draw : callable
        Given the library's figure, puts everything into it.
    size : pair of float
        Width and height in inches.
    target : Path
    ending : str
        One of ``ENDINGS``; the file may have another while it is written.
    """
    import matplotlib
    from matplotlib.figure import Figure

    settings: Any = {
        "svg.fonttype": "none",
        "svg.hashsalt": "plait",
        "pdf.fonttype": 42,
        "font.family": "sans-serif",
        "text.parse_math": False,  # a name may hold a $
        "text.color": INK,
    }
    with matplotlib.rc_context(settings), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # letters that the font does not have
        figure = Figure(figsize=size, facecolor="white")
        draw(figure)
        dates = {".svg": {"Date": None}, ".pdf": {"CreationDate": None}, ".png": {}}[ending]
        figure.savefig(target, format=ending[1:], dpi=_DOTS, metadata=dates)


def plain(panel: Any) -> Any:
    """A panel without frame and ticks."""
    panel.tick_params(length=0)
    panel.set_xticks([])
    for side in panel.spines.values():
        side.set_visible(False)
    return panel


def cut(text: str, most: int) -> str:
    """So much of a text as there is room for."""
    text = " ".join(text.split())
    return text if len(text) <= most else f"{text[: most - 1]}…"
