"""A survey as one page, whose columns show what goes with what in the others."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from plait._version import __version__
from plait.core.account.finding import worst_first
from plait.core.account.gathered import gathered
from plait.core.table.keyspec import spelt
from plait.core.verbs.survey import Survey
from plait.report.pages.linked import linked
from plait.report.pages.render import render


def write_survey_page(found: Survey, sizes: Mapping[str, int], target: Path) -> None:
    """Write the survey as one HTML page that needs nothing from outside.

    Parameters
    ----------
    found : Survey
    sizes : mapping of str to int
        Bytes of each source.
    target : Path
    """
    data = linked(found)
    text = render(
        "survey.html.jinja",
        ("common", "tables", "choices", "fields", "survey"),
        survey=found,
        sizes=sizes,
        version=__version__,
        told=gathered(found.findings),
        every=worst_first(found.findings),
        joins=[(one, spelt(one.key)) for one in found.relations],
        sources=sum(len(one.tables) for one in found.families),
        rows=sum(one.rows for one in found.families),
        kept=data.rows,
        packed=data.packed,
    )
    target.write_text(text, encoding="utf-8")
