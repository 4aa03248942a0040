"""The report as Markdown, to be read as it stands or pasted into a message."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from plait.core.account.finding import worst_first
from plait.report.figures import percent
from plait.report.story import Story

_SIGNS = re.compile(r"([\\`*_{}\[\]<>#|~])")


def report_markdown(story: Story) -> str:
    """The answer, the ledger, the findings, the expectations, the columns and the sources."""
    return "\n".join(_lines(story)) + "\n"


def _lines(story: Story) -> Iterator[str]:
    yield f"# {_plain(story.title or story.result)}"
    yield ""
    for line in story.answer():
        yield f"- {_plain(' '.join(line.split()))}"
    for entry in story.account.ledger:
        yield from _section(f"Ledger: {entry.operation}")
        yield from _grid(
            ("what happened", "rows"),
            [(line.reason, f"{line.rows:,}") for line in entry.lines]
            + [("**rows out**", f"**{entry.rows_out:,}**")],
        )
    yield from _section("Findings")
    for one in worst_first(story.account.findings):
        yield f"- **{one.severity}** {_plain(one.message)} (`{one.code}`)"
        if one.remedy:
            yield f"  - what to do: {_plain(one.remedy)}"
    if story.expected:
        yield from _section("What was expected")
        for two in story.expected:
            word = "holds" if two.holds else "**fails**"
            yield f"- {word}: {_plain(two.what)}; {_plain(two.found)}"
    yield from _section("Columns")
    yield from _grid(
        ("column", "type", "missing", "distinct", "description"),
        [
            (
                one.name,
                one.profile.kind,
                percent(one.profile.missing, one.profile.rows),
                f"{one.profile.distinct:,}",
                story.description(one.name),
            )
            for one in story.contents
        ],
    )
    yield from _section("Sources")
    yield from _grid(
        ("source", "file", "rows", "bytes", "sha256"),
        [(s.name, s.path, f"{s.rows:,}", f"{s.bytes:,}", s.sha256[:16]) for s in story.sources],
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
    return _SIGNS.sub(r"\\\1", " ".join(text.split()))
