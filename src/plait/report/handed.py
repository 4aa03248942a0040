"""The report of a handover: one page that needs nothing from outside."""

from __future__ import annotations

from collections.abc import Sequence

from plait._version import __version__
from plait.core.account.finding import worst_first
from plait.report.compared import changed_columns
from plait.report.figures import bytes_shown, percent, step_shown
from plait.report.page import environment
from plait.report.story import Story

_FEW = 3


def report_page(story: Story, folder: str, figure: str) -> str:
    """The page as text; every value from data is escaped.

    Parameters
    ----------
    story : Story
    folder : str
        What the handover is called.
    figure : str
        The ledger drawn: see ``flow_svg``; nothing where there is none.
    """
    from markupsafe import Markup

    account = story.account
    filters = {"bytes": bytes_shown, "came_from": came_from, "step": step_shown}
    template = environment(filters).get_template("handover.html.jinja")
    page: str = template.render(
        story=story,
        aside=story.left_out,
        folder=folder,
        version=__version__,
        percent=percent,
        figure=Markup(figure),
        findings=worst_first(account.findings),
        columns=changed_columns(story.since.compared.columns) if story.since else [],
        held=sum(one.holds for one in story.expected),
    )
    return page


def came_from(came: Sequence[tuple[str, str]]) -> str:
    """The sources and columns that a column was made from, in few words.

    >>> came_from([("may", "kg"), ("june", "kg"), ("hives", "weight")])
    'kg in may, june; weight in hives'
    """
    by_column: dict[str, list[str]] = {}
    for source, column in came:
        by_column.setdefault(column, []).append(source)
    said = []
    for column, sources in by_column.items():
        shown = ", ".join(sources[:_FEW])
        more = f" and {len(sources) - _FEW} more" if len(sources) > _FEW else ""
        said.append(f"{column} in {shown}{more}")
    return "; ".join(said[:_FEW]) + (" …" if len(said) > _FEW else "")
