"""What is printed: answers, ledgers, findings, flows; and the log of a run."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, redirect_stderr, redirect_stdout, suppress
from contextvars import ContextVar
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING, Any

from rich.console import Console, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.process import OutputClosedError
from plait.core.base.errors import OutputError, PlaitError
from plait.core.base.findings import (
    RESULT,
    Finding,
    FindingExample,
    SourceRow,
    by_severity,
    pluralize,
)
from plait.core.base.ledger import EFFECTS, LedgerEntry, abbreviate_inputs, rows_by_effect
from plait.io.places.address import mask_secrets
from plait.report.document import LABEL_WIDTH, Fact
from plait.report.flags import as_flags

if TYPE_CHECKING:
    from plait.report.document import ExpectationResult, StepForecast


# Told apart by people of every colour sight; each is also said in a word.
_STYLES = {"error": "bold magenta", "warning": "yellow", "note": "blue"}
_WIDTH = 100
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

_MOST = 30

MOST_BYTES = 1 << 20


@contextmanager
def print_to_stdout(aside: bool = False) -> Iterator[None]:
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
        raise OutputClosedError


def make_console() -> Console:
    """Standard error, or output for reading; as wide as the terminal, 100 where it is none."""
    file = sys.stdout if _FOR_READING.get() else None
    plain = _Console(file=file, stderr=True, highlight=False, emoji=False, markup=False)
    plain.width = plain.width if plain.is_terminal else _WIDTH
    return plain


def escape_unprintable(text: str) -> str:
    """Text with all that is not seen spelt out: no cell steers the terminal, or hides a sign.

    >>> escape_unprintable("a" + chr(27) + "[2J")
    'a\\\\x1b[2J'
    """
    plain = text.replace("\n", "⏎")
    return plain if plain.isprintable() else "".join(map(_spelt, plain))


def _spelt(sign: str) -> str:
    return sign if sign.isprintable() else sign.encode("unicode_escape").decode()


def _cut(text: str) -> str:
    """So much of what is said as a person reads: it may hold a cell, or a whole expression."""
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]} … ({len(text):,} characters)"


def print_error(error: PlaitError) -> None:
    """What is wrong, where, and what to do; of several errors, of each."""
    for one in getattr(error, "errors", (error,)):
        _show_one(one)


def _show_one(error: PlaitError) -> None:
    out = make_console()
    line = Text("plait: ", style=_STYLES["error"])
    # Words of the line may be in it.
    where, what = mask_secrets(error.where or ""), mask_secrets(as_flags(error.what))
    line.append(f"{escape_unprintable(where)}: " if where else "", style="bold")
    line.append(escape_unprintable(_cut(what)), style="default not bold")
    out.print(line, soft_wrap=True)
    if error.remedy:
        out.print(
            Text(f"       {escape_unprintable(_cut(mask_secrets(as_flags(error.remedy))))}"),
            soft_wrap=True,
        )


def print_example_command(command: str, meaning: str, sign: str = "$") -> None:
    """A command of an example, and what it is for."""
    out = make_console()
    out.print()
    out.rule(style="blue")
    out.print(Text(escape_unprintable(meaning)))
    out.print(Text(f"{sign} {escape_unprintable(command)}", style="bold blue"), soft_wrap=True)
    out.print()


def print_summary(lines: Iterable[str | Fact], heading: str = "") -> None:
    """The answer in a few lines, the first in bold; what follows a label stays in its column."""
    out = make_console()
    if heading:
        out.print()
        out.rule(style="blue")
        lines = (heading, *lines)
    for number, line in enumerate(lines):
        indent = " " * (LABEL_WIDTH if isinstance(line, Fact) else 0)
        text = escape_unprintable(str(line))
        texts = wrap(text, out.width, subsequent_indent=indent, **_WHOLE_WORDS)
        out.print(Text("\n".join(texts), style="bold" if not number else ""), soft_wrap=True)


def print_ledger(entries: Sequence[LedgerEntry]) -> None:
    """Each operation's account: rows in, added and left out, rows out."""
    out = make_console()
    for entry in entries:
        out.print()
        out.print(Text(escape_unprintable(entry.operation)))
        out.print(_grid(entry, bars=_draws(out)))


def _draws(out: Console) -> bool:
    return (out.encoding or "").lower().startswith("utf")


def _grid(entry: LedgerEntry, bars: bool) -> Padding:
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(ratio=1, overflow="fold")
    grid.add_column(justify="right", no_wrap=True)
    grid.add_column(width=_BAR, no_wrap=True)
    most = max([entry.rows_out, *(abs(line.rows) for line in entry.lines)], default=0)
    entry = abbreviate_inputs(entry)
    for number, line in enumerate(entry.lines):
        reason, rows = line.reason, line.rows
        style = "yellow" if line.effect == "left out" else "blue"
        sign = "+" if rows > 0 and number >= len(entry.rows_in) else ""
        count = f"{sign}{rows:,}".replace("-", "−")
        grid.add_row(
            Text(escape_unprintable(reason)),
            count,
            render_bar(abs(rows), most, style) if bars else "",
        )
    total = Text(f"{entry.rows_out:,}", style="bold")
    bar = render_bar(entry.rows_out, most, "bold") if bars else ""
    grid.add_row(Text("rows out", style="bold"), total, bar)
    return Padding(grid, (0, 0, 0, 2))


def render_bar(rows: float, most: float, style: str, width: int = _BAR) -> Text:
    """A bar in eighths of a column; whatever is not nothing can be seen."""
    eighths = round(8 * width * rows / most) if most else 0
    eighths = max(eighths, 1 if rows else 0)
    part = " ▏▎▍▌▋▊▉"[eighths % 8].strip()
    return Text("█" * (eighths // 8) + part, style=style)


def print_expectations(expected: Sequence[ExpectationResult], verbose: bool = False) -> None:
    """What was expected and fails, with examples; what holds as a number, unless verbose."""
    if not expected:
        return
    from plait.report.document import holding

    out = make_console()
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 1, 0, 0))
    grid.add_column(width=7, no_wrap=True)
    grid.add_column(ratio=1, overflow="fold")
    for one in sorted(expected, key=lambda e: e.holds):
        if one.holds and not verbose:
            break
        text = Text("holds" if one.holds else "FAILS", style="" if one.holds else _STYLES["error"])
        grid.add_row(text, Text(escape_unprintable(f"{one.what}; {one.found}")))
        for example in one.examples if not one.holds else ():
            grid.add_row("", Text(_format_example(example), style="dim"))
    out.print()
    out.print(holding(expected))
    if grid.row_count:
        out.print(Padding(grid, (0, 0, 0, 2)))


def print_findings(
    findings: Sequence[Finding], verbose: bool = False, most: int | None = None
) -> None:
    """The findings, worst first, each with examples and its remedy; unless verbose, so many."""
    out = make_console()
    for part in render_findings(findings, verbose, most):
        out.print(part)


def render_findings(
    findings: Sequence[Finding], verbose: bool = False, most: int | None = None, examples: int = 2
) -> Iterator[RenderableType]:
    """The same, as parts to print; unless verbose with so many examples each."""
    if not findings:
        return
    yield Text(f"\n{_summary(findings)}")
    shown = by_severity(findings)[: None if verbose else most]
    for finding in shown:
        yield _finding(finding, None if verbose else examples)
    if len(shown) < len(findings):
        yield Text(f"  and {len(findings) - len(shown):,} more: --verbose")


def _summary(findings: Sequence[Finding]) -> str:
    counts = dict.fromkeys(_STYLES, 0)
    for finding in findings:
        counts[finding.severity] += 1
    return ", ".join(pluralize(number, word) for word, number in counts.items() if number)


def _finding(finding: Finding, most: int | None) -> Padding:
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 1, 0, 0))
    grid.add_column(width=7, no_wrap=True)
    grid.add_column(ratio=1, overflow="fold")
    body = Text(escape_unprintable(finding.message))
    body.append(f"  [{finding.code}]", style="dim")
    texts = (finding.message, *(example.text for example in finding.examples))
    places = any(example.places for example in finding.examples)
    source = _source(finding)
    named = re.compile(rf"(?<![\w/]){re.escape(source)}(?!\w)")  # ``a`` is not named by ``n/a``
    if source and not places and not any(map(named.search, texts)):
        body.append(f"  {escape_unprintable(str(finding.where))}", style="dim")
    grid.add_row(Text(finding.severity, style=_STYLES[finding.severity]), body)
    for example in finding.examples[:most]:
        grid.add_row("", Text(_format_example(example), style="dim"))
    if finding.remedy:
        grid.add_row("", Text(f"→ {escape_unprintable(as_flags(finding.remedy))}"))
    return Padding(grid, (0, 0, 0, 2))


def _source(finding: Finding) -> str:
    """The source or the file that a finding is about; none where it is about a result."""
    return "" if finding.where.source == RESULT else finding.where.source


def _format_example(example: FindingExample) -> str:
    places = _joined(example.places)
    text = escape_unprintable(example.text)
    return f"{text}  ({places})" if places else text


def _joined(places: Sequence[SourceRow]) -> str:
    """Places with each source named once: ``hives lines 77, 78``; ``orders id=4, id=9``."""
    by_source: dict[tuple[str, str], list[str]] = {}
    for place in places:
        of_source = by_source.setdefault((place.source, "" if place.key else place.unit), [])
        of_source.append(escape_unprintable(place.key) or f"{place.number:,}")
    return "; ".join(
        " ".join([escape_unprintable(source), *_units(unit, len(numbers)), ", ".join(numbers)])
        for (source, unit), numbers in by_source.items()
    )


def _units(unit: str, number: int) -> list[str]:
    return [unit if number == 1 else f"{unit}s"] if unit else []


def print_line(text: str) -> None:
    """A plain line to the person."""
    print(escape_unprintable(mask_secrets(text)), file=sys.stderr)


def print_row_flow(entries: Sequence[LedgerEntry]) -> None:
    """The ledger, a line an operation: rows that came in, what became of them, rows out.

    What no operation did has no column.
    """
    if not entries:
        return
    out = make_console()
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("step", overflow="fold", ratio=1)
    by_entry = [rows_by_effect(entry) for entry in entries]
    effects = [effect for effect in EFFECTS if any(rows[effect] for rows in by_entry)]
    for head in ("rows in", *effects, "rows out"):
        grid.add_column(head.replace("brought ", "brought\n"), justify="right", no_wrap=True)
    for entry, rows in zip(entries, by_entry, strict=True):
        changes = (rows[effect] for effect in effects)
        numbers = (sum(entry.rows_in.values()), *changes, entry.rows_out)
        cells = [f"{number:,}" if number else "·" for number in numbers]
        grid.add_row(Text(escape_unprintable(entry.operation)), *cells)
    out.print()
    out.print(grid)


def print_steps(steps: Sequence[StepForecast]) -> None:
    """Each step with the rows it gives, and its columns with their types; new ones marked +."""
    out = make_console()
    for number, step in enumerate(steps, 1):
        out.print()
        line = Text(f"{number}. {escape_unprintable(step.title)}", style="bold")
        line.append(f"  line {step.line}", style="dim not bold")
        out.print(line)
        out.print(
            f"   {pluralize(step.rows, 'row')}, {pluralize(len(step.columns), 'column')}, "
            f"{pluralize(step.findings, 'finding')}"
        )
        grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
        for _ in range(2):
            grid.add_column(overflow="fold", ratio=3)
            grid.add_column(overflow="fold", ratio=2, style="dim")
        shown = [
            (("+ " if column.new else "  ") + escape_unprintable(column.name), column.kind)
            for column in step.columns[:_MOST]
        ]
        half = (len(shown) + 1) // 2
        for row in range(half):
            right = shown[row + half] if row + half < len(shown) else ("", "")
            grid.add_row(*shown[row], *right)
        out.print(Padding(grid, (0, 0, 0, 3)))
        if len(step.columns) > _MOST:
            out.print(f"     and {len(step.columns) - _MOST:,} more")


@contextmanager
def append_to_log(path: Path | None, what: str) -> Iterator[None]:
    """Have all that is said go to the end of a file.

    Parameters
    ----------
    path : Path or None
        Without one it goes where it always goes.
    what : str
        Which run it is, for the heading.

    Raises
    ------
    OutputError
        When the file cannot be written.
    """
    if path is None:
        yield
        return
    from plait.plan.runs.history import current_time  # only plans have logs

    try:
        truncate_log(path)
        file = path.open("a", encoding="utf-8", errors="surrogateescape")
    except OSError as error:
        raise OutputError(f"the log cannot be written: {error.strerror}", str(path)) from None
    with file:
        file.write(f"── {current_time().isoformat(timespec='seconds')}  {what}\n")
        file.flush()
        with redirect_stdout(file), redirect_stderr(file):
            try:
                yield
            except PlaitError as error:
                print_error(error)
                raise


def truncate_log(path: Path, most: int = MOST_BYTES) -> None:
    """Keep the later half of a file that has become too large, from the start of a line."""
    with suppress(FileNotFoundError):
        if path.stat().st_size <= most:
            return
        with path.open("rb") as file:
            file.seek(-(most // 2), os.SEEK_END)
            rest = file.read().partition(b"\n")[2]
        part = path.with_name(f".{path.name}.plait-new")
        part.write_bytes(rest)
        part.replace(path)
