"""The account as one HTML page that needs nothing from outside."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from plait._version import __version__
from plait.core.account.finding import worst_first
from plait.report.account import Account
from plait.report.figure import flow_svg


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
    from markupsafe import Markup

    template = environment().get_template("page.html.jinja")
    made: str = template.render(
        account=account,
        version=__version__,
        figure=Markup(flow_svg(account.ledger)),
        findings=worst_first(account.findings),
        match=account.matches[-1] if account.matches else None,
    )
    return made


def environment(filters: Mapping[str, Any] | None = None) -> Any:
    """Where the templates of pages are; what they are given is escaped."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    made = Environment(
        loader=PackageLoader("plait.report", "."),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    made.filters["number"] = lambda count: f"{count:,}".replace("-", "−")
    made.filters.update(filters or {})
    return made
