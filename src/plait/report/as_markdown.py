"""The report as Markdown, to be read as it stands or pasted into a message."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from plait.core.base.findings import by_severity
from plait.report.flags import as_flags
from plait.report.numbers import format_percent
from plait.report.run_report import RunReport

_MARKDOWN_SPECIALS = re.compile(r"([\\`*_{}\[\]<>#|~])")


def report_markdown(run_report: RunReport) -> str:
    """The answer, the ledger, the findings, the expectations, the columns and the sources."""
    return "\n".join(_lines(run_report)) + "\n"


def _lines(run_report: RunReport) -> Iterator[str]:
    yield f"# {_plain(run_report.title or run_report.result)}"
    yield ""
    for line in run_report.answer():
        yield f"- {_plain(' '.join(line.split()))}"
    for entry in run_report.account.ledger:
        yield from _section(f"Ledger: {entry.operation}")
        yield from _grid(
            ("what happened", "rows"),
            [(line.reason, f"{line.rows:,}") for line in entry.lines]
            + [("**rows out**", f"**{entry.rows_out:,}**")],
        )
    yield from _section("Findings")
    for one in by_severity(run_report.account.findings):
        yield f"- **{one.severity}** {_plain(one.message)} (`{one.code}`)"
        if one.remedy:
            yield f"  - what to do: {_plain(as_flags(one.remedy))}"
    if run_report.expected:
        yield from _section("What was expected")
        for two in run_report.expected:
            word = "holds" if two.holds else "**fails**"
            yield f"- {word}: {_plain(two.what)}; {_plain(two.found)}"
    yield from _section("Columns")
    yield from _grid(
        ("column", "type", "missing", "distinct", "description"),
        [
            (
                content.name,
                content.profile.kind,
                format_percent(content.profile.missing, content.profile.rows),
                f"{content.profile.distinct:,}",
                run_report.description(content.name),
            )
            for content in run_report.contents
        ],
    )
    yield from _section("Sources")
    yield from _grid(
        ("source", "file", "rows", "bytes", "sha256"),
        [
            (s.name, s.path, f"{s.rows:,}", f"{s.bytes:,}", s.sha256[:16])
            for s in run_report.sources
        ],
    )


def _section(title: str) -> Iterator[str]:
    yield ""
    yield f"## {_plain(title)}"
    yield ""


def _grid(heads: Sequence[str], rows: Iterable[Sequence[str]]) -> Iterator[str]:
    yield f"| {' | '.join(heads)} |"
    yield f"|{'|'.join('---' for _ in heads)}|"
    for row in rows:
        yield f"| {' | '.join(_cell(cell) for cell in row)} |"


def _cell(text: str) -> str:
    return text if text.startswith("**") else _plain(text)


def _plain(text: str) -> str:
    """Text from data, so that nothing in it is taken for markup.

    >>> _plain("a*b|c")
    'a\\\\*b\\\\|c'
    """
    return _MARKDOWN_SPECIALS.sub(r"\\\1", " ".join(text.split()))
