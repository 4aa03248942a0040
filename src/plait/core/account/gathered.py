"""Findings of many columns and files that say the same, brought into one."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, agreeing, worst_first

_LONGEST = 200
_SAID = {
    "column-lacking": "{n} columns are missing from some sources",
    "column-misplaced": "{n} columns look like a differently named column of the other sources",
    "columns-swapped": "{n} sources have two headings that look swapped",
    "dialect-found": "{n} files have an encoding or delimiter other than UTF-8 and comma",
    "footer-lines": "{n} files have notes below the table, set aside",
    "form-open": "{n} columns have an ambiguous format; kept as text",
    "forms-mixed": "{n} columns have dates in several formats; kept as text",
    "header-empty": "{n} sources have columns without a heading",
    "header-rows": "{n} tables have a header of two rows, read as one",
    "header-variant": "{n} headings look like others spelt differently",
    "marker-kept": '{m}, kept as text, may mean "missing" in {n} columns',
    "marker-found": "{m} {counts} as missing in {n} columns",
    "mixed-cells": "{n} columns have cells of several types",
    "name-trap": "{n} pairs of sources share a heading that is the wrong key for a join",
    "nearly-typed": "{n} columns fit a type except for a few cells; kept as text",
    "not-read": "{n} folders have files that were not read",
    "title-lines": "{n} files have lines above the header, skipped",
    "total-row": "{n} sources end with a row that looks like a total",
    "type-differs": "{n} columns have different types in different sources",
    "unreadable": "{n} files cannot be read",
}


def gathered(findings: Iterable[Finding]) -> list[Finding]:
    """The findings, worst first, those of one code and severity as one.

    Returns
    -------
    list of Finding
        One that stands for several has each of them as an example, up to five, and the
        remedies of all where they are one line of options.

    Examples
    --------
    >>> of = [Finding("marker-found", "note", 5, f"5 cells of {name} count as missing: NA",
    ...               where=f"{file}, column {name}", terms=("NA",))
    ...       for file, name in [("may", "kg"), ("june", "kg"), ("june", "frames")]]
    >>> one, = gathered(of)
    >>> one.message, one.count
    ('NA counts as missing in 3 columns of 2 sources: 15 cells', 15)
    """
    alike: dict[tuple[str, str], list[Finding]] = {}
    for one in findings:
        alike.setdefault((one.code, one.severity), []).append(one)
    return worst_first(
        made
        for several in alike.values()
        for made in (_as_one(several) if _may(several) else several)
    )


def _may(several: Sequence[Finding]) -> bool:
    return len(several) > 1 and several[0].code in _SAID


def _as_one(several: Sequence[Finding]) -> list[Finding]:
    first = several[0]
    count = sum(one.count for one in several)
    places = list(dict.fromkeys(one.where.partition(",")[0] for one in several))
    message = _SAID[first.code].format(n=f"{len(several):,}", **_markers(several))
    if first.code.startswith("marker"):
        message += f" of {len(places):,} sources" if len(places) > 1 else f" of {places[0]}"
        message += f": {count:,} cells"
    if first.code == "unreadable":
        message += f": {', '.join(places[:MOST_EXAMPLES])}" + (
            " …" if len(places) > MOST_EXAMPLES else ""
        )
    examples = tuple(map(_short, worst_first(several)[:MOST_EXAMPLES]))
    made = replace(
        first, count=count, message=message, remedy=_remedy(several), where="", examples=examples
    )
    return [made]


def _markers(several: Sequence[Finding]) -> dict[str, str]:
    """The markers that the messages name."""
    named = dict.fromkeys(term for one in several for term in one.terms)
    return {"m": ", ".join(named), "counts": agreeing(len(named), "counts", "count")}


def _short(one: Finding) -> Example:
    """What one of them says, in a line."""
    where = "" if one.message.startswith(one.where.partition(",")[0]) else f"{one.where}: "
    return Example(f"{where}{one.message}", one.examples[0].places if one.examples else ())


def _remedy(several: Sequence[Finding]) -> str:
    """One remedy for all: that of each if it is the same, all if they are options, or the first."""
    each = list(dict.fromkeys(one.remedy for one in several if one.remedy))
    if len(each) < 2:
        return each[0] if each else ""
    before = {one.partition("--")[0] for one in each}
    options = [one.partition("--")[2] for one in each]
    plain = all(one and not set(";:") & set(one) and " or " not in one for one in options)
    if len(before) == 1 and plain and sum(map(len, options)) < _LONGEST:
        return before.pop() + " ".join(f"--{one}" for one in options)
    return f"for the first: {worst_first(several)[0].remedy}"
