"""The account as one HTML page that needs nothing from outside."""

from __future__ import annotations

from pathlib import Path

from plait._version import __version__
from plait.core.account.finding import worst_first
from plait.report.account import Account
from plait.report.pages.render import render


def write_page(account: Account, target: Path) -> None:
    """Write the page.

    Parameters
    ----------
    account : Account
        With at least one ledger entry.
    target : Path
    """
    target.write_text(page(account), encoding="utf-8")


def page(account: Account) -> str:
    """The page as text; every value from data is escaped."""
    return render(
        "page.html.jinja",
        ("common", "tables"),
        account=account,
        version=__version__,
        findings=worst_first(account.findings),
        match=account.matches[-1] if account.matches else None,
    )
