"""What a plan expects of the changes since the last good run."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from fractions import Fraction

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import AMOUNT
from plait.plan.runs.clock import day_and_time
from plait.plan.runs.record import Record
from plait.report.since import Since
from plait.report.story import Expected

_ROWS = {"new": "rows_new", "gone": "rows_gone", "changed": "rows_changed"}
_CODES = {"new": "rows-new", "gone": "rows-gone", "changed": "cells-changed"}
_OF_COLUMNS = ("columns-new", "columns-gone", "columns-renamed", "type-changed")


def change_expectations(
    loaded: LoadedPlan,
    since: Since | None,
    findings: Iterable[Finding],
    last: Record | None = None,
    accepted: bool = False,
) -> Iterator[Expected]:
    """Each thing expected of the change, and whether it holds.

    Parameters
    ----------
    loaded : LoadedPlan
    since : Since or None
        What changed; ``None`` where that could not be told.
    findings : iterable of Finding
        Of the run.
    last : Record or None
        The last run that handed over, by the history. Where there is one, and what changed
        since cannot be told, nothing that is expected of it holds: only a first run has
        nothing to compare with.
    accepted : bool
        Whether a person accepts whatever changed, this once.
    """
    asked = loaded.plan.expect.change
    if asked is None:
        return
    every = {name: value for name, value in asked.model_dump().items() if value is not None}
    for name, value in every.items():
        line = loaded.line("expect", "change", name)
        what = f"change of {name}: {_in_words(value)}"
        if accepted:
            yield Expected(what, True, "accepted for this run: --accept-change", line)
        elif since is None and last is not None:
            when = day_and_time(last.started)
            said = f"cannot be checked: the result of {when} has changed since it was written; "
            yield Expected(what, False, said + "to go on all the same: --accept-change", line)
        elif since is None:
            yield Expected(what, True, "no earlier run to compare with", line)
        else:
            known = (*since.compared.findings, *findings)
            yield _judged(since, known, name, value, what, line)


def _in_words(value: int | str) -> str:
    return "none" if value in (0, "0", "none") else f"at most {value}"


def _judged(
    since: Since,
    findings: Iterable[Finding],
    name: str,
    value: int | str,
    what: str,
    line: int,
) -> Expected:
    changes = since.compared.changes
    if name == "columns":
        number = len(changes.columns_new) + len(changes.columns_gone)
        number += len(changes.columns_renamed) + len(changes.types)
        holds = number <= _allowed(value, changes.new_rows)[1]
        found = counted(number, "column") + " new, gone, renamed or of another type"
        return Expected(
            what, holds, found, line, () if holds else _examples(findings, *_OF_COLUMNS)
        )
    if name in _ROWS:
        rows = getattr(changes, _ROWS[name])
        holds = rows <= _allowed(value, changes.old_rows)[1]
        found = f"{counted(rows, 'row')} {name}"
        return Expected(
            what, holds, found, line, () if holds else _examples(findings, _CODES[name])
        )
    if name not in since.accounts.figures:
        return Expected(what, True, "the earlier run did not count them", line)
    then, now = since.accounts.figures[name]
    least, most = _allowed(value, then)
    holds = least <= now - then <= most
    codes = {"unmatched": ("key-unmatched",), "rows": ("rows-gone", "rows-new")}.get(name, ())
    found = f"{then:,} → {now:,}"
    return Expected(what, holds, found, line, () if holds else _examples(findings, *codes))


def _allowed(value: int | str, of: int) -> tuple[Fraction, Fraction]:
    """The least and the greatest change that is allowed.

    >>> [str(one) for one in _allowed("10 %", 200)], [str(one) for one in _allowed(3, 200)]
    (['-20', '20'], ['-3', '3'])
    """
    found = re.fullmatch(AMOUNT, str(value))
    if found is None or found["none"]:
        return Fraction(0), Fraction(0)
    size = Fraction(found["number"]) * (Fraction(of, 100) if found["percent"] else 1)
    everything = Fraction(10**18)
    least = -everything if found["sign"] == "+" else -size
    return least, everything if found["sign"] == "-" else size


def _examples(findings: Iterable[Finding], *codes: str) -> tuple[Example, ...]:
    every = [one for one in findings if one.code in codes]
    return tuple(example for one in every for example in one.examples)[:MOST_EXAMPLES]
