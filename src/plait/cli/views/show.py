"""What a person sees: the answer, then the account, then the findings, worst first."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from textwrap import wrap
from typing import TYPE_CHECKING, Any

from rich.console import Console, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.process import NobodyReadsError
from plait.core.account.errors import PlaitError
from plait.core.account.finding import Example, Finding, Place, counted, worst_first
from plait.core.account.ledger import Entry, shortened
from plait.formats.places.address import masked

if TYPE_CHECKING:
    from plait.core.figures.rules import Decision
    from plait.report.story import Expected

# Told apart by people of every colour sight; each is also said in a word.
_STYLES = {"error": "bold magenta", "warning": "yellow", "note": "blue"}
_WIDEST = 120
_LABEL = re.compile(r"[a-z]+( [a-z]+)*:?\s{2,}")
# A path stays in one piece, to be copied; signs that are aligned stay where they are.
_WHOLE_WORDS: dict[str, Any] = {
    "break_long_words": False,
    "break_on_hyphens": False,
    "replace_whitespace": False,
    "drop_whitespace": True,
}
_BAR = 16
_LONGEST = 600


_FOR_READING: ContextVar[bool] = ContextVar("for_reading", default=False)


@contextmanager
def for_reading(aside: bool = False) -> Iterator[None]:
    """Have what is shown within go to standard output, unless that is taken for something else."""
    token = _FOR_READING.set(not aside)
    try:
        yield
    finally:
        _FOR_READING.reset(token)


class _Console(Console):
    """Where nobody reads any more, the program ends as every other does."""

    def on_broken_pipe(self) -> None:
        """Leave it to the program."""
        raise NobodyReadsError


def console() -> Console:
    """Standard error, or output for reading; at most 120 columns wide, 80 away from a terminal."""
    file = sys.stdout if _FOR_READING.get() else None
    plain = _Console(file=file, stderr=True, highlight=False, emoji=False, markup=False)
    plain.width = min(plain.width, _WIDEST) if plain.is_terminal else 80
    return plain


def printable(text: str) -> str:
    """Text with all that is not seen spelt out: no cell steers the terminal, or hides a sign.

    >>> printable("a" + chr(27) + "[2J")
    'a\\\\x1b[2J'
    """
    plain = text.replace("\n", "⏎")
    return plain if plain.isprintable() else "".join(map(_spelt, plain))


def _spelt(sign: str) -> str:
    return sign if sign.isprintable() else sign.encode("unicode_escape").decode()


def _cut(text: str) -> str:
    """So much of what is said as a person reads: it may hold a cell, or a whole expression."""
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]} … ({len(text):,} characters)"


def show_error(error: PlaitError) -> None:
    """What is wrong, where, and what to do; of several errors, of each."""
    for one in getattr(error, "errors", (error,)):
        _show_one(one)


def _show_one(error: PlaitError) -> None:
    out = console()
    line = Text("plait: ", style=_STYLES["error"])
    # Words of the line may be in it.
    where, what = masked(error.where or ""), masked(error.what)
    line.append(f"{printable(where)}: " if where else "", style="bold")
    line.append(printable(_cut(what)), style="default not bold")
    out.print(line, soft_wrap=True)
    if error.remedy:
        out.print(Text(f"       {printable(_cut(masked(error.remedy)))}"), soft_wrap=True)


def show_command(command: str, meaning: str, sign: str = "$") -> None:
    """A command of an example, and what it is for."""
    out = console()
    out.print()
    out.rule(style="blue")
    out.print(Text(printable(meaning)))
    out.print(Text(f"{sign} {printable(command)}", style="bold blue"), soft_wrap=True)
    out.print()


def show_answer(lines: Iterable[str], heading: str = "") -> None:
    """The answer in a few lines, the first in bold."""
    out = console()
    if heading:
        out.print()
        out.rule(style="blue")
        lines = (heading, *lines)
    for number, line in enumerate(lines):
        label = _LABEL.match(line)  # what follows a label stays in its column
        indent = " " * (label.end() if label else 0)
        said = wrap(printable(line), out.width, subsequent_indent=indent, **_WHOLE_WORDS)
        out.print(Text("\n".join(said), style="bold" if not number else ""), soft_wrap=True)


def show_ledger(entries: Sequence[Entry]) -> None:
    """Each operation's account: rows in, added and left out, rows out."""
    out = console()
    for entry in entries:
        out.print()
        out.print(Text(printable(entry.operation)))
        out.print(_grid(entry, bars=_draws(out)))


def _draws(out: Console) -> bool:
    return (out.encoding or "").lower().startswith("utf")


def _grid(entry: Entry, bars: bool) -> Padding:
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(ratio=1, overflow="fold")
    grid.add_column(justify="right", no_wrap=True)
    grid.add_column(width=_BAR, no_wrap=True)
    most = max([entry.rows_out, *(abs(line.rows) for line in entry.lines)], default=0)
    entry = shortened(entry)
    for number, line in enumerate(entry.lines):
        reason, rows = line.reason, line.rows
        style = "blue" if rows > 0 else "yellow"
        sign = "+" if rows > 0 and number >= len(entry.rows_in) else ""
        count = f"{sign}{rows:,}".replace("-", "−")
        grid.add_row(Text(printable(reason)), count, bar_of(abs(rows), most, style) if bars else "")
    total = Text(f"{entry.rows_out:,}", style="bold")
    bar = bar_of(entry.rows_out, most, "bold") if bars else ""
    grid.add_row(Text("rows out", style="bold"), total, bar)
    return Padding(grid, (0, 0, 0, 2))


def bar_of(rows: float, most: float, style: str, width: int = _BAR) -> Text:
    """A bar in eighths of a column; whatever is not nothing can be seen."""
    eighths = round(8 * width * rows / most) if most else 0
    eighths = max(eighths, 1 if rows else 0)
    part = " ▏▎▍▌▋▊▉"[eighths % 8].strip()
    return Text("█" * (eighths // 8) + part, style=style)


def show_expected(expected: Sequence[Expected], verbose: bool = False) -> None:
    """What was expected and fails, with examples; what holds as a number, unless verbose."""
    if not expected:
        return
    from plait.report.story import holding

    out = console()
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 1, 0, 0))
    grid.add_column(width=7, no_wrap=True)
    grid.add_column(ratio=1, overflow="fold")
    for one in sorted(expected, key=lambda one: one.holds):
        if one.holds and not verbose:
            break
        word = Text("holds" if one.holds else "FAILS", style="" if one.holds else _STYLES["error"])
        grid.add_row(word, Text(printable(f"{one.what}; {one.found}")))
        for example in one.examples if not one.holds else ():
            grid.add_row("", Text(_shown(example), style="dim"))
    out.print()
    out.print(holding(expected))
    if grid.row_count:
        out.print(Padding(grid, (0, 0, 0, 2)))


def show_decisions(decisions: Sequence[Decision]) -> None:
    """For each column whose cells differ what its rule decided, in keys."""
    some = [one for one in decisions if one.differing]
    if not some:
        return
    out = console()
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("column", overflow="fold")
    grid.add_column("rule", overflow="fold")
    for head in ("keys that differ", "decided", "in conflict"):
        grid.add_column(head, justify="right")
    for one in some:
        numbers = (one.differing, one.decided, one.differing - one.decided)
        cells = (f"{n:,}" if n else "·" for n in numbers)
        grid.add_row(Text(printable(one.column)), Text(one.rule), *cells)
    out.print()
    out.print(Padding(grid, (0, 0, 0, 2)))


def show_findings(
    findings: Sequence[Finding], verbose: bool = False, most: int | None = None
) -> None:
    """The findings, worst first, each with examples and its remedy; unless verbose, so many."""
    out = console()
    for part in findings_shown(findings, verbose, most):
        out.print(part)


def findings_shown(
    findings: Sequence[Finding], verbose: bool = False, most: int | None = None, examples: int = 2
) -> Iterator[RenderableType]:
    """The same, as parts to print; unless verbose with so many examples each."""
    if not findings:
        return
    yield Text(f"\n{_summary(findings)}")
    shown = worst_first(findings)[: None if verbose else most]
    for finding in shown:
        yield _finding(finding, None if verbose else examples)
    if len(shown) < len(findings):
        yield Text(f"  and {len(findings) - len(shown):,} more: --verbose shows all")


def _summary(findings: Sequence[Finding]) -> str:
    counts = dict.fromkeys(_STYLES, 0)
    for finding in findings:
        counts[finding.severity] += 1
    return ", ".join(counted(number, word) for word, number in counts.items() if number)


def _finding(finding: Finding, most: int | None) -> Padding:
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 1, 0, 0))
    grid.add_column(width=7, no_wrap=True)
    grid.add_column(ratio=1, overflow="fold")
    body = Text(printable(finding.message))
    body.append(f"  [{finding.code}]", style="dim")
    texts = (finding.message, *(example.text for example in finding.examples))
    places = any(example.places for example in finding.examples)
    source = _source(finding)
    named = re.compile(rf"(?<![\w/]){re.escape(source)}(?!\w)")  # ``a`` is not named by ``n/a``
    if source and not places and not any(map(named.search, texts)):
        body.append(f"  {printable(finding.where)}", style="dim")
    grid.add_row(Text(finding.severity, style=_STYLES[finding.severity]), body)
    for example in finding.examples[:most]:
        grid.add_row("", Text(_shown(example), style="dim"))
    if finding.remedy:
        grid.add_row("", Text(f"→ {printable(finding.remedy)}"))
    return Padding(grid, (0, 0, 0, 2))


def _source(finding: Finding) -> str:
    """The source or the file that a finding is about; none where it is about a result."""
    source = finding.source
    return "" if source == "the result" or source.startswith("column ") else source


def _shown(example: Example) -> str:
    places = _joined(example.places)
    text = printable(example.text)
    return f"{text}  ({places})" if places else text


def _joined(places: Sequence[Place]) -> str:
    """Places with each source named once: ``hives lines 77, 78``; ``orders id=4, id=9``."""
    by_source: dict[tuple[str, str], list[str]] = {}
    for place in places:
        of_source = by_source.setdefault((place.source, "" if place.key else place.unit), [])
        of_source.append(printable(place.key) or f"{place.number:,}")
    return "; ".join(
        " ".join([printable(source), *_units(unit, len(numbers)), ", ".join(numbers)])
        for (source, unit), numbers in by_source.items()
    )


def _units(unit: str, number: int) -> list[str]:
    return [unit if number == 1 else f"{unit}s"] if unit else []


def say(text: str) -> None:
    """A plain line to the person."""
    print(printable(masked(text)), file=sys.stderr)
