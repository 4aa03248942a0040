"""Bar charts of comparisons, audits of keys and surveys."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plait.core.base.errors import UsageError
from plait.core.types.column_type import TEXT
from plait.report.changes import changed_columns
from plait.report.numbers import format_percent

if TYPE_CHECKING:
    from plait.core.operations.compare import Comparison
    from plait.core.operations.keys import KeyAudit
    from plait.core.operations.survey import SchemaGroupSurvey, Survey
    from plait.core.profiling.profile import ColumnProfile

ENDINGS = (".png", ".svg", ".pdf")
# Told apart by people of every colour sight; what leaves is hatched as well.
INK, SOFT, PART, ROWS, LEAVING = "#1c2733", "#56616e", "#c3d5ee", "#2862ad", "#8f5400"
HATCH = "////"
_DOTS = 144  # an inch, in files of dots

Draw = Callable[[Any], None]

_MAX_COMPARED_BARS = 25

_MAX_KEY_BARS = 30

_ACROSS, _MAX_SURVEY_BARS = 4, 60
_HIGH, _HEAD = 1.35, 0.5  # inches


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


def frameless_axes(panel: Any) -> Any:
    """A panel without frame and ticks."""
    panel.tick_params(length=0)
    panel.set_xticks([])
    for side in panel.spines.values():
        side.set_visible(False)
    return panel


def truncate_text(text: str, most: int) -> str:
    """So much of a text as there is room for."""
    text = " ".join(text.split())
    return text if len(text) <= most else f"{text[: most - 1]}…"


def write_compared_figure(comparison: Comparison, target: Path, ending: str) -> None:
    """The rows then and now, and the cells changed in each column."""
    columns = changed_columns(comparison.columns)[:_MAX_COMPARED_BARS]
    size = 9.2, 1.7 + 0.3 * len(columns)
    write_figure(partial(_draw_comparison, comparison, size[1]), size, target, ending)


def _draw_comparison(comparison: Comparison, high: float, figure: Any) -> None:
    changes, at = comparison.changes, 0
    panel = frameless_axes(figure.add_axes((0.03, 1 - 1.1 / high, 0.94, 0.5 / high)))
    old, new = truncate_text(comparison.old.name, 40), truncate_text(comparison.new.name, 40)
    title = f"{old} before, {new} after"
    figure.text(0.03, 1 - 0.35 / high, title, fontsize=11, fontweight="bold")
    for word, rows, colour, edge, hatch in (
        ("gone", changes.rows_gone, "none", LEAVING, ".."),
        ("equal", changes.rows_equal, PART, PART, None),
        ("changed", changes.rows_changed, "none", LEAVING, HATCH),
        ("new", changes.rows_new, ROWS, ROWS, None),
    ):
        panel.barh(0, rows, left=at, height=0.8, color=colour, edgecolor=edge, hatch=hatch,
                   linewidth=1, label=f"{rows:,} {word}")  # fmt: skip
        at += rows
    panel.set_yticks([])
    panel.set_xlim(0, max(at, 1))
    panel.legend(loc="upper left", ncols=4, frameon=False, fontsize=9, bbox_to_anchor=(-0.01, 0))
    columns = changed_columns(comparison.columns)[:_MAX_COMPARED_BARS]
    if columns:
        _cells(frameless_axes(figure.add_axes((0.22, 0.03, 0.74, 1 - 1.6 / high))), columns)


def _cells(panel: Any, columns: Any) -> None:
    """A bar for each column in which cells changed."""
    most = columns[0].cells
    for place, column in enumerate(columns):
        panel.barh(place, column.cells, height=0.7, color="none", edgecolor=LEAVING, hatch=HATCH)
        panel.text(
            column.cells + most * 0.01, place, f"{column.cells:,} cells", fontsize=8, va="center"
        )
    panel.set_yticks(
        range(len(columns)), [truncate_text(c.name, 22) for c in columns], fontsize=8, color=INK
    )
    panel.set_xlim(0, most * 1.15)
    panel.set_ylim(len(columns) - 0.4, -0.6)


def write_keys_figure(key_audit: KeyAudit, target: Path, ending: str) -> None:
    """Which sources hold how many keys; of one source how often its keys stand."""
    size = 9.2, 0.9 + 0.42 * max(len(key_audit.holdings[:_MAX_KEY_BARS]), len(key_audit.tables))
    write_figure(partial(_draw_keys, key_audit), size, target, ending)


def _draw_keys(key_audit: KeyAudit, figure: Any) -> None:
    panel = frameless_axes(figure.add_axes((0.02, 0.04, 0.94, 0.72)))
    key = truncate_text(", ".join(key_audit.key[0]), 80)
    figure.text(0.02, 0.9, f"Keys against sources: {key}", fontsize=11, fontweight="bold")
    if len(key_audit.tables) > 1:
        _holdings(panel, key_audit)
    else:
        _repeats(panel, key_audit)
    panel.invert_yaxis()
    panel.set_yticks([])


def _holdings(panel: Any, key_audit: KeyAudit) -> None:
    """A line for each combination of sources: a dot a source, a bar of its keys."""
    most = max((h.keys for h in key_audit.holdings), default=1)
    for place, table in enumerate(key_audit.tables):
        x = -most * (0.16 * (len(key_audit.tables) - place))
        panel.text(x, -0.75, truncate_text(table.name, 18), fontsize=9, ha="center", color=SOFT)
        for row, one in enumerate(key_audit.holdings[:_MAX_KEY_BARS]):
            held = table.name in one.sources
            panel.plot(
                [x],
                [row],
                marker="o",
                markersize=8,
                color=INK,
                fillstyle="full" if held else "none",
            )
    for row, holding in enumerate(key_audit.holdings[:_MAX_KEY_BARS]):
        whole = len(holding.sources) == len(key_audit.tables)
        panel.barh(
            row, holding.keys, height=0.6, color=ROWS if whole else "none", linewidth=1.2,
            edgecolor=ROWS if whole else LEAVING, hatch=None if whole else HATCH,
        )  # fmt: skip
        panel.text(holding.keys + most * 0.01, row, f"{holding.keys:,}", fontsize=9, va="center")
    panel.set_xlim(-most * 0.16 * (len(key_audit.tables) + 0.8), most * 1.14)
    panel.set_ylim(-1.2, max(len(key_audit.holdings[:_MAX_KEY_BARS]), 1) - 0.4)


def _repeats(panel: Any, key_audit: KeyAudit) -> None:
    (one,) = key_audit.tables
    once = one.distinct_keys - one.duplicate_keys
    parts = [
        (f"{once:,} keys once", once, ROWS, None),
        (f"{one.repeat_keys:,} on equal rows", one.repeat_keys, PART, None),
        (f"{one.conflict_keys:,} on rows that differ", one.conflict_keys, "none", HATCH),
    ]
    at = 0
    for said, keys, colour, hatch in parts:
        panel.barh(0, keys, left=at, height=0.6, color=colour, edgecolor=LEAVING if hatch else INK,
                   hatch=hatch, linewidth=0.8, label=said)  # fmt: skip
        at += keys
    panel.legend(loc="lower left", ncols=3, frameon=False, fontsize=9, bbox_to_anchor=(0, -0.1))
    panel.set_ylim(-0.5, 1)


def write_survey_figure(survey: Survey, target: Path, ending: str) -> None:
    """A panel for each column, shape by shape; of very many columns the first."""
    heights = [_HEAD + _HIGH * _lines(family) for family in survey.families]
    size = 10.0, max(sum(heights), 1.0) + 0.2
    write_figure(partial(_draw_survey, survey, heights), size, target, ending)


def _lines(schema_group_survey: SchemaGroupSurvey) -> int:
    return -(-len(list(schema_group_survey.profiles)[:_MAX_SURVEY_BARS]) // _ACROSS)


def _draw_survey(survey: Survey, heights: list[float], figure: Any) -> None:
    figheight = figure.get_figheight()
    top = figheight - 0.1
    for family, height in zip(survey.families, heights, strict=True):
        more = f", the first {_MAX_SURVEY_BARS}" if len(family.profiles) > _MAX_SURVEY_BARS else ""
        name = truncate_text(family.family.name, 60)
        title = f"{name}: {family.rows:,} rows, {len(family.profiles)} columns{more}"
        figure.text(0.02, (top - 0.3) / figheight, title, fontsize=11, fontweight="bold")
        for place, (name, column) in enumerate(list(family.profiles.items())[:_MAX_SURVEY_BARS]):
            line, across = divmod(place, _ACROSS)
            bottom = top - _HEAD - _HIGH * (line + 1) + 0.35
            box = (0.02 + across * 0.245, bottom / figheight, 0.215, (_HIGH - 0.75) / figheight)
            _column(frameless_axes(figure.add_axes(box)), name, column)
        top -= height


def _column(panel: Any, name: str, column: ColumnProfile) -> None:
    missing = f", {format_percent(column.missing, column.rows)} missing" if column.missing else ""
    panel.set_title(truncate_text(name, 26), loc="left", fontsize=9, fontweight="bold", pad=10)
    kind = truncate_text(f"{column.kind}, {column.distinct:,} distinct{missing}", 44)
    panel.text(0, 1.02, kind, transform=panel.transAxes, fontsize=7, color=SOFT)
    panel.set_yticks([])
    if column.spread and column.kind != TEXT:
        panel.bar(range(len(column.spread.rows)), column.spread.rows, width=0.92, color=ROWS)
        ends = {"transform": panel.transAxes, "fontsize": 7, "va": "top", "color": SOFT}
        panel.text(0, -0.04, truncate_text(column.smallest, 18), **ends)
        panel.text(1, -0.04, truncate_text(column.largest, 18), ha="right", **ends)
        return
    most = max([rows for _, rows in column.commonest] + [1])
    for place, (text, rows) in enumerate(column.commonest):
        panel.barh(place, rows, height=0.8, color=PART)
        panel.text(most * 0.01, place, truncate_text(text, 20), fontsize=7, va="center")
        panel.text(most * 1.24, place, f"{rows:,}", fontsize=7, va="center", ha="right", color=SOFT)
    panel.set_xlim(0, most * 1.25)
    panel.set_ylim(4.6, -0.6)
