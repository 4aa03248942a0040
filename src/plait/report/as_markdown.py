"""The report as Markdown, to be read as it stands or pasted into a message."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import assert_never

from plait.core.base.findings import Finding, by_severity, pluralize
from plait.core.base.ledger import LedgerEntry
from plait.core.profiling.contents import ColumnContents
from plait.report.document import (
    Bar,
    Blank,
    Block,
    Change,
    Document,
    ExpectationResult,
    Expectations,
    Findings,
    Grid,
    Ledger,
    Note,
    Sentences,
    StepForecast,
    Steps,
    Value,
)
from plait.report.flags import as_flags
from plait.report.numbers import format_change, format_percent
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
        yield from _ledger(entry)
    yield from _findings(run_report.account.findings, examples=False)
    yield from _expectations(run_report.expected)
    yield from _columns("Columns", run_report.contents, run_report)
    for one in run_report.further:
        yield from _columns(f"Columns of {one.name}", one.contents, run_report)
    yield from _section("Sources")
    yield from _grid(
        ("source", "file", "rows", "bytes", "sha256"),
        [
            (s.name, s.path, f"{s.rows:,}", f"{s.bytes:,}", s.sha256[:16])
            for s in run_report.sources
        ],
    )


def _columns(
    title: str, contents: Sequence[ColumnContents], run_report: RunReport
) -> Iterator[str]:
    yield from _section(title)
    yield from _grid(
        ("column", "type", "missing", "distinct", "description"),
        [
            (
                content.name,
                str(content.profile.kind),
                format_percent(content.profile.missing, content.profile.rows),
                f"{content.profile.distinct:,}",
                run_report.description(content.name),
            )
            for content in contents
        ],
    )


def document_markdown(title: str, document: Document) -> str:
    """A document as Markdown: the answer, its facts, and every block whole."""
    return "\n".join(_document_lines(title, document)) + "\n"


def _document_lines(title: str, document: Document) -> Iterator[str]:
    first, *more = document.answer
    yield f"# {_plain(title)}"
    yield ""
    yield f"**{_plain(first)}**"
    yield ""
    for line in more:
        yield f"- {_plain(line)}"
    for fact in document.facts:
        yield f"- {_plain(f'{fact.label}: {fact.text}' if fact.label else fact.text)}"
    for block in document.blocks:
        yield from _block_lines(block)


def _block_lines(block: Block) -> Iterator[str]:
    match block:
        case Grid():
            # A bar is for the eye: its number stands in another column.
            bars = {
                at for row in block.rows for at, value in enumerate(row) if isinstance(value, Bar)
            }
            some = [at for at in range(len(block.columns)) if at not in bars]
            if block.title:
                title = block.title
                yield from _section(title if isinstance(title, str) else "".join(map(str, title)))
            else:
                yield ""
            if block.rows:
                heads = [_plain(block.columns[at].head) or " " for at in some]
                yield from _grid(heads, [[_value(row[at]) for at in some] for row in block.rows])
        case Note():
            yield ""
            yield _plain(block.text)
        case Blank():
            yield ""
        case Sentences():
            yield from _section(block.heading)
            yield from (f"- {_plain(line)}" for line in block.lines())
        case Ledger():
            for entry in block.entries:
                yield from _ledger(entry)
        case Steps():
            yield from _steps(block.steps)
        case Findings():
            yield from _findings(block.findings)
        case Expectations():
            yield from _expectations(block.results)
        case _:
            assert_never(block)


def _value(value: Value) -> str:
    if isinstance(value, Change):
        return format_change(value.by)
    if isinstance(value, int):
        return f"{value:,}" if value else "·"
    if isinstance(value, tuple):
        return "".join(f"{' ' * mark.new_line}{mark.text}" for mark in value)
    return str(value)


def _ledger(entry: LedgerEntry) -> Iterator[str]:
    yield from _section(f"Ledger: {entry.operation}")
    rows = [(line.reason, f"{line.rows:,}") for line in entry.lines]
    yield from _grid(("what happened", "rows"), rows)
    yield f"| **rows out** | **{entry.rows_out:,}** |"


def _steps(steps: Sequence[StepForecast]) -> Iterator[str]:
    for number, step in enumerate(steps, 1):
        yield from _section(f"{number}. {step.title}: {pluralize(step.rows, 'row')}")
        yield from _grid(
            ("column", "type"), [(column.name, column.kind) for column in step.columns]
        )


def _findings(findings: Sequence[Finding], examples: bool = True) -> Iterator[str]:
    if findings:
        yield from _section("Findings")
    for finding in by_severity(findings):
        yield f"- **{finding.severity}** {_plain(finding.message)} (`{finding.code}`)"
        for example in finding.examples if examples else ():
            places = "; ".join(map(str, example.places))
            yield f"  - {_plain(f'{example.text} ({places})' if places else example.text)}"
        if finding.remedy:
            yield f"  - what to do: {_plain(as_flags(finding.remedy))}"


def _expectations(results: Sequence[ExpectationResult]) -> Iterator[str]:
    if results:
        yield from _section("What was expected")
    for result in results:
        word = "holds" if result.holds else "**fails**"
        yield f"- {word}: {_plain(result.what)}; {_plain(result.found)}"


def _section(title: str) -> Iterator[str]:
    yield ""
    yield f"## {_plain(title)}"
    yield ""


def _grid(heads: Sequence[str], rows: Iterable[Sequence[str]]) -> Iterator[str]:
    yield f"| {' | '.join(heads)} |"
    yield f"|{'|'.join('---' for _ in heads)}|"
    for row in rows:
        yield f"| {' | '.join(map(_plain, row))} |"


def _plain(text: str) -> str:
    """Text from data, so that nothing in it is taken for markup.

    >>> _plain("a*b|c")
    'a\\\\*b\\\\|c'
    """
    return _MARKDOWN_SPECIALS.sub(r"\\\1", " ".join(text.split()))
