"""What changed between two tables, or two handovers, as one page."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from plait._version import __version__
from plait.core.account.finding import Finding, worst_first
from plait.core.verbs.compare import Compared
from plait.report.between import Between
from plait.report.compared import changed_columns
from plait.report.pages.render import render


def write_compared_page(
    found: Compared, accounts: Between | None, findings: Sequence[Finding], target: Path
) -> None:
    """Write it as one HTML page that needs nothing from outside."""
    text = render(
        "compared.html.jinja",
        ("common", "tables"),
        found=found,
        changes=found.changes,
        columns=changed_columns(found.columns),
        by_source=(),
        accounts=accounts,
        findings=worst_first(findings),
        version=__version__,
    )
    target.write_text(text, encoding="utf-8")
