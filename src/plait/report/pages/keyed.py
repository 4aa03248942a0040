"""An audit of keys as one page, on which keys without a match are settled by hand."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from plait._version import __version__
from plait.core.account.finding import Finding, worst_first
from plait.core.table.table import Table
from plait.core.verbs.keys import Audited
from plait.report.keyed import suggestions
from plait.report.pages.pairing import pairing
from plait.report.pages.render import packed, render


def write_keys_page(
    found: Audited,
    findings: Sequence[Finding],
    target: Path,
    again: str = "",
    pairs: Table | None = None,
) -> None:
    """Write the audit as one HTML page that needs nothing from outside.

    Parameters
    ----------
    found : Audited
    findings : sequence of Finding
    target : Path
    again : str
        The command that joins the two tables with the pairs that are settled on the page.
    pairs : Table, optional
        A crosswalk that was used.
    """
    working = pairing(found, found.why, again, pairs) if found.why else None
    text = render(
        "keys.html.jinja",
        ("common", "tables", "csv", "pairs", "keys") if working else ("common", "tables"),
        found=found,
        suggestions=suggestions(found, found.why) if found.why else [],
        most=max((one.keys for one in found.holdings), default=1) or 1,
        version=__version__,
        told=worst_first(findings),
        packed=packed(working) if working else "",
    )
    target.write_text(text, encoding="utf-8")
