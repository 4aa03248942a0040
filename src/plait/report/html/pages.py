"""The pages of single commands."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from plait._version import __version__
from plait.core.base.findings import Finding, by_severity, summarize_findings
from plait.core.operations.compare import Comparison
from plait.core.operations.keys import KeyAudit
from plait.core.operations.survey import Survey
from plait.core.table.key_spec import format_key_option
from plait.core.table.table import Table
from plait.report.account import Account
from plait.report.as_json import linkage_dict, suggestion_dicts
from plait.report.changes import AccountDiff, changed_columns, comparison_document
from plait.report.document import Document
from plait.report.html.key_pairs import NextCommands, pack_unmatched_keys
from plait.report.html.render import pack_script_data, render_template
from plait.report.html.survey_data import pack_survey_rows
from plait.report.keys_document import keys_document
from plait.report.survey_document import survey_summary


def page(account: Account) -> str:
    """The account of a result as one HTML page; every value from data is escaped."""
    return render_template(
        "page.html.jinja",
        ("common", "tables"),
        account=account,
        version=__version__,
        findings=by_severity(account.findings),
        match=account.matches[-1] if account.matches else None,
    )


def keys_page(
    key_audit: KeyAudit,
    findings: Sequence[Finding],
    again: NextCommands | None = None,
    pairs: Table | None = None,
) -> str:
    """The audit as one HTML page that needs nothing from outside.

    Parameters
    ----------
    again : NextCommands, optional
        What is to be run with the pairs that are settled on the page.
    pairs : Table, optional
        A crosswalk that was used.
    """
    commands = again or NextCommands()
    working = (
        pack_unmatched_keys(key_audit, key_audit.why, commands, pairs) if key_audit.why else None
    )
    return render_template(
        "keys.html.jinja",
        ("common", "tables", "csv", "pairs", "keys") if working else ("common", "tables"),
        found=key_audit,
        said=keys_document(key_audit, findings),
        suggestions=suggestion_dicts(key_audit, key_audit.why) if key_audit.why else [],
        partners=linkage_dict(key_audit, key_audit.linkage) if key_audit.linkage else None,
        most=max((holding.keys for holding in key_audit.holdings), default=1) or 1,
        version=__version__,
        told=by_severity(findings),
        packed=pack_script_data(working) if working else "",
    )


def survey_page(survey: Survey, sizes: Mapping[str, int]) -> str:
    """The survey as one HTML page that needs nothing from outside.

    Parameters
    ----------
    sizes : mapping of str to int
        Bytes of each source.
    """
    data = pack_survey_rows(survey)
    return render_template(
        "survey.html.jinja",
        ("common", "tables", "choices", "fields", "survey"),
        survey=survey,
        answer=survey_summary(survey),
        sizes=sizes,
        version=__version__,
        told=summarize_findings(survey.findings),
        every=by_severity(survey.findings),
        joins=[(relation, format_key_option(relation.key)) for relation in survey.relations],
        sources=sum(len(family.tables) for family in survey.families),
        rows=sum(f.rows for f in survey.families),
        kept=data.rows,
        packed=data.packed,
    )


def compared_page(
    comparison: Comparison, accounts: AccountDiff | None, findings: Sequence[Finding]
) -> str:
    """A comparison as one HTML page that needs nothing from outside."""
    return render_template(
        "compared.html.jinja",
        ("common", "tables"),
        found=comparison,
        said=comparison_document(comparison, accounts, findings),
        changes=comparison.changes,
        columns=changed_columns(comparison.columns),
        by_source=(),
        accounts=accounts,
        findings=by_severity(findings),
        version=__version__,
    )


def explained_page(document: Document) -> str:
    """A plan in sentences as one HTML page."""
    return render_template("explained.html.jinja", ("common",), said=document, version=__version__)
