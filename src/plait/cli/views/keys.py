"""What a person sees of an audit of keys."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.show import bar_of, console, printable, show_answer, show_findings
from plait.core.account.finding import Finding, agreeing, counted
from plait.core.table.keyspec import quoted
from plait.core.unmatched.failing import Failing
from plait.core.unmatched.gains import Gain
from plait.core.unmatched.whynot import WhyNot, key_texts
from plait.core.verbs.keys import Audited

_MOST_NEAR_SHOWN = 6
_MOST_COMBINATIONS = 12
_MOST_COLUMNS = 3


def show_keys(found: Audited, findings: Sequence[Finding], options: argparse.Namespace) -> None:
    """The answer, the counts, the key sets, why keys do not match, the findings."""
    out = console()
    show_answer(_answer(found, options))
    out.print()
    out.print(_tables(found))
    _show_conflict_columns(out, found)
    if found.pairs:
        _show_sets(out, found)
    if found.why is not None:
        _show_why(out, found, found.why, options.verbose)
    show_findings(findings, options.verbose)


def _answer(found: Audited, options: argparse.Namespace) -> Iterator[str]:
    if not found.pairs:
        yield from _answer_of_one(found)
    elif len(found.pairs) == 1:
        yield from _answer_of_two(found)
    else:
        everywhere = [one for one in found.holdings if len(one.sources) == len(found.sources)]
        total = sum(one.keys for one in found.holdings)
        held = everywhere[0].keys if everywhere else 0
        verb = agreeing(total, "is", "are")
        yield f"{held:,} of {counted(total, 'key')} {verb} in all {len(found.sources)} sources"
    if options.out:
        yield f"written to {options.out}"


def _answer_of_one(found: Audited) -> Iterator[str]:
    (table,), (key,) = found.tables, found.key
    name = ",".join(map(quoted, key))
    if table.is_unique and not table.missing_key_rows:
        yield (
            f"{name} is unique in {table.name}: {counted(table.rows, 'row')}, each with its own key"
        )
        return
    said = []
    if table.duplicate_keys:
        said.append(
            f"{counted(table.duplicate_keys, 'key')} on {counted(table.duplicate_rows, 'row')}"
        )
    if table.missing_key_rows:
        said.append(f"{counted(table.missing_key_rows, 'row')} with an incomplete key")
    yield f"{name} is not unique in {table.name}: {', '.join(said)}"
    if found.uniqueness is not None:
        for column, rows in found.uniqueness.with_column:
            left = f"unique except for {counted(rows, 'row')}" if rows else "unique"
            yield f"with {column}: {left}   --key {name},{quoted(column)}"
        yield f"rows that keep {name} from being unique: {found.uniqueness.in_the_way:,}"


def _answer_of_two(found: Audited) -> Iterator[str]:
    (pair,), why = found.pairs, found.why
    left_keys = pair.keys_in_both + pair.keys_only_left
    right_keys = pair.keys_in_both + pair.keys_only_right
    if not (pair.keys_only_left or pair.keys_only_right):
        yield f"all {counted(left_keys, 'key')} of {pair.left} and {pair.right} match"
        return
    yield (
        f"not matched: {pair.keys_only_left:,} of {counted(left_keys, 'key')} in "
        f"{pair.left} ({counted(pair.rows_only_left, 'row')}), "
        f"{pair.keys_only_right:,} of {right_keys:,} in {pair.right} ("
        f"{counted(pair.rows_only_right, 'row')})"
    )
    if why is not None and why.best is not None:
        gained = [
            f"{counted(keys, 'key')} of {name}"
            for keys, name in ((why.best.keys, pair.left), (why.best.right_keys, pair.right))
            if keys
        ]
        yield (
            f"{' and '.join(gained)} would match with --ignore {','.join(why.best.ways)}"
            f", {_colliding(why.best, pair.right)}"
        )
    elif why is not None:
        yield "no looser comparison (--ignore) would match any of them"
    if why is not None and why.tried:
        side = (pair.left, pair.right)[why.side]
        yield _near(why.near, why.tried, "other " if why.best else "", side)


def _near(near: int, tried: int, other: str, side: str) -> str:
    """How many of the keys tried have a near one.

    >>> _near(0, 4, "other ", "visits")
    'none of the other 4 keys of visits has a close match'
    >>> _near(1, 4, "", "visits")
    '1 of the 4 keys of visits without a match has a close match'
    """
    lost = "" if other else " without a match"
    if tried == 1:
        has = "has" if near else "has no"
        return f"the {other}key of {side}{lost} {has} {'a ' if near else ''}close match"
    every = f"the {other}{tried:,} keys of {side}{lost}"
    if not near:
        return f"none of {every} has a close match"
    return f"{near:,} of {every} {agreeing(near, 'has', 'have')} a close match"


def _colliding(gain: Gain, right: str) -> str:
    if not gain.collisions:
        return "with no key collisions"
    return f"but {counted(gain.collisions, 'key')} of {right} would become the same as another"


def _tables(found: Audited) -> Padding:
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("source")
    for head in ("rows", "keys", "no key", "repeated", "identical", "conflicting"):
        grid.add_column(head, justify="right")
    for one in found.tables:
        numbers = (
            one.rows,
            one.distinct_keys,
            one.missing_key_rows,
            one.duplicate_keys,
            one.repeat_keys,
            one.conflict_keys,
        )
        grid.add_row(Text(printable(one.name)), *(f"{n:,}" if n else "·" for n in numbers))
    return Padding(grid, (0, 0, 0, 2))


def _show_conflict_columns(out: Console, found: Audited) -> None:
    for one in found.tables:
        if one.conflict_columns:
            shown = list(one.conflict_columns.items())[:_MOST_COLUMNS]
            said = ", ".join(f"{name} in {counted(keys, 'key')}" for name, keys in shown)
            more = len(one.conflict_columns) - len(shown)
            said += f", and {counted(more, 'more column')}" if more else ""
            line = Text(printable(f"{one.name} differs: {said}"), style="dim")
            out.print(Padding(line, (0, 0, 0, 2)))


def _show_sets(out: Console, found: Audited) -> None:
    """The grid of keys against sources: which combination holds how many."""
    out.print()
    names = [table.name for table in found.tables]
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    wide = len(names) > 4
    for number, name in enumerate(names, 1):
        head = str(number) if wide else printable(name)
        grid.add_column(head, justify="center", max_width=16, overflow="ellipsis", no_wrap=True)
    grid.add_column("keys", justify="right")
    grid.add_column("rows", justify="right")
    grid.add_column("")
    most = max((one.keys for one in found.holdings), default=0)
    for one in found.holdings[:_MOST_COMBINATIONS]:
        signs = ("●" if name in one.sources else "○" for name in names)
        rows = " + ".join(f"{n:,}" for n in one.rows) if len(one.rows) < 4 else f"{sum(one.rows):,}"
        style = "blue" if len(one.sources) == len(names) else "yellow"
        grid.add_row(*signs, f"{one.keys:,}", rows, bar_of(one.keys, most, style))
    out.print(Padding(grid, (0, 0, 0, 2)))
    if wide:
        named = ", ".join(f"{n} {name}" for n, name in enumerate(names, 1))
        out.print(Padding(Text(printable(named), style="dim"), (0, 0, 0, 2)))
    for pair in found.pairs if len(found.pairs) == 1 and found.pairs[0].keys_in_both else ():
        out.print(Text(f"  {pair.cardinality}, judged by the matching keys", style="dim"))


def _show_why(out: Console, found: Audited, why: WhyNot, verbose: bool) -> None:
    left, right = (table.name for table in found.tables)
    if why.gains or why.best:
        out.print()
        out.print(Text("gains from a looser comparison", style="bold"))
        out.print(_gains(why, left, right))
    if any(why.failing):
        out.print()
        out.print(Text("which part of the key fails", style="bold"))
        out.print(_failing(why, (left, right)))
    for one in why.elsewhere:
        out.print(
            Text(
                printable(
                    f"  {one.better_share:.0%} of {one.table}'s {one.column} are in "
                    f"{one.other}'s {one.better}, {one.named_share:.0%} in {one.named}"
                ),
                style="yellow",
            )
        )
    if why.near:
        _show_near(out, found, why, verbose)


def _gains(why: WhyNot, left: str, right: str) -> Padding:
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("--ignore")
    for head in (f"{left}: rows", "keys", f"{right}: keys", "would collide"):
        grid.add_column(printable(head), justify="right")
    best = (why.best,) if why.best and len(why.best.ways) > 1 else ()
    for one in (*why.gains, *best):
        numbers = (one.rows, one.keys, one.right_keys, one.collisions)
        style = "bold" if one is why.best or (why.best and one.ways == why.best.ways) else ""
        cells = (f"{n:,}" if n else "·" for n in numbers)
        grid.add_row(Text(",".join(one.ways)), *cells, style=style)
    return Padding(grid, (0, 0, 0, 2))


def _failing(why: WhyNot, names: tuple[str, str]) -> Padding:
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(ratio=1, overflow="fold")
    grid.add_column(justify="right", no_wrap=True)
    grid.add_column(justify="right", no_wrap=True)
    for side, other in ((0, 1), (1, 0)):
        for one in why.failing[side]:
            said = f"{names[side]}: {_said(one, names[other])}"
            grid.add_row(Text(printable(said)), counted(one.keys, "key"), counted(one.rows, "row"))
    return Padding(grid, (0, 0, 0, 2))


def _said(one: Failing, other: str) -> str:
    known, unknown = " and ".join(one.known), " and ".join(one.unknown)
    if not unknown:
        return f"{known} are in {other}, but not together"
    if not known:
        return f"{other} has neither {' nor '.join(one.unknown)}"
    known += agreeing(len(one.known), " is", " are")
    return f"{known} in {other}, {unknown} {agreeing(len(one.unknown), 'is', 'are')} not"


def _show_near(out: Console, found: Audited, why: WhyNot, verbose: bool) -> None:
    near = why.suggestions.of_near()
    shown = near if verbose else near[:_MOST_NEAR_SHOWN]
    out.print()
    heading = "similar keys"
    if why.bounded:
        heading += ", not all candidates compared"
    out.print(Text(heading, style="bold"))
    left = key_texts(found.coding, why.suggestions.left[shown])
    right = key_texts(found.coding, why.suggestions.right[shown])
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for _ in range(4):
        grid.add_column(overflow="fold")
    before = ""
    rows = zip(left, right, shown.tolist(), strict=True)
    for one, other, row in rows:
        sure = "yes" if why.suggestions.sure[row] else ""
        score = f"{why.suggestions.score[row]:.2f}"
        same = one if why.side == 0 else other
        cells = ["" if same == before and why.side == 0 else one, f"→ {other}", score, sure]
        grid.add_row(*(Text(printable(cell)) for cell in cells))
        before = same
    out.print(Padding(grid, (0, 0, 0, 2)))
    if len(near) > len(shown):
        out.print(Text(f"  and {len(near) - len(shown):,} more: --verbose", style="dim"))
    out.print(Text("  to use them: --out pairs.csv, edit it, then --pairs pairs.csv"))
