"""Findings: what a person should know about the data, and how several become one."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.base.wording import Setting, Text, Wording, wording

SEVERITIES = ("note", "warning", "error")
MOST_EXAMPLES = 5
RESULT = "the result"  # as the source of a finding that is about no source

_LONGEST = 200
_SUMMARY_TEMPLATES = {
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
    "sample-only": "only the first rows of {n} sources were read; all figures are for these rows",
    "series-outside": "{n} extracts have rows with dates of another period",
    "series-size": "{n} extracts have many more or fewer rows than those around them",
    "title-lines": "{n} files have lines above the header, skipped",
    "total-row": "{n} sources end with a row that looks like a total",
    "type-differs": "{n} columns have different types in different sources",
    "unreadable": "{n} files cannot be read",
}


@dataclass(frozen=True)
class SourceRow:
    """A row of a source, as who opens the source sees it.

    Parameters
    ----------
    row : int
        Counted from 1, the header not counted.
    key : str
        ``id=4711`` where a table has a primary key: ``row`` is only the place in what was read.
    line : int, optional
        Of a text file, or the row of a sheet, where the row begins.
    unit : str
        What ``line`` counts: ``line`` or ``sheet row``.

    Examples
    --------
    >>> str(SourceRow("may", 3)), str(SourceRow("may", 3, line=1204, unit="line"))
    ('may row 3', 'may line 1,204')
    >>> str(SourceRow("orders", 3, key="id=9"))
    'orders id=9'
    """

    source: str
    row: int
    key: str = ""
    line: int | None = None
    unit: str = "row"

    def __str__(self) -> str:
        return f"{self.source} {self.within}"

    @property
    def number(self) -> int:
        """The line, or the row where there are no lines."""
        return self.row if self.line is None else self.line

    @property
    def within(self) -> str:
        """Where the row is within its source: ``line 1,204``, ``id=9``."""
        return self.key or f"{self.unit} {self.number:,}"


@dataclass(frozen=True)
class FindingExample:
    """One instance of a finding: what is there, and where."""

    text: str
    places: tuple[SourceRow, ...] = ()


@dataclass(frozen=True)
class Location:
    """What a finding is about: a source or table, a column of it, or both.

    Examples
    --------
    >>> str(Location("may", "kg")), str(Location(column="kg")), bool(Location())
    ('may, column kg', 'column kg', False)
    """

    source: str = ""
    column: str = ""

    def __bool__(self) -> bool:
        return bool(self.source or self.column)

    def __str__(self) -> str:
        column = f"column {self.column}" if self.column else ""
        return ", ".join(filter(None, (self.source, column)))


@dataclass(frozen=True)
class Finding:
    """Something the analyst must know.

    Parameters
    ----------
    code : str
        Its kind, in lower case with hyphens; ``--fail-on`` takes it.
    severity : str
        ``note``, ``warning`` or ``error``.
    count : int
        How many rows, keys or columns it is about; the message says which.
    message : str
        What is the case, in one sentence.
    remedy : text
        What to do about it.
    examples : tuple of FindingExample
        Up to five.
    terms : tuple of str
        The texts that the message names, such as markers: whoever brings several findings
        together takes them from here, and not from the message.
    """

    code: str
    severity: str
    count: int
    message: str
    remedy: Text = ""
    where: Location = Location()
    examples: tuple[FindingExample, ...] = ()
    terms: tuple[str, ...] = ()


def pluralize(count: int, word: str) -> str:
    """A number and its noun: ``1 key``, ``1,200 keys``.

    >>> pluralize(1, "row"), pluralize(1200, "row")
    ('1 row', '1,200 rows')
    """
    return f"{count:,} {agreeing(count, word, f'{word}s')}"


def agreeing(count: int, one: str, several: str) -> str:
    """The word that agrees with a number: ``is`` with 1, ``are`` with any other.

    >>> agreeing(1, "is", "are"), agreeing(0, "is", "are")
    ('is', 'are')
    """
    return one if count == 1 else several


def of_markers(
    name: str, markers: Sequence[str], count: int, where: Location, remedy: Text = ""
) -> Finding:
    """That cells of a column hold words such as ``n/a``, which count as missing.

    >>> of_markers("kg", ["n/a", "-"], 1, Location("may", "kg")).message
    '1 cell of kg read as missing: n/a, -'
    """
    text = f"{pluralize(count, 'cell')} of {name} read as missing: {', '.join(markers)}"
    return Finding("marker-found", "note", count, text, remedy, where, terms=tuple(markers))


def by_severity(findings: Iterable[Finding]) -> list[Finding]:
    """Order findings by severity, then by count, keeping ties as they came.

    >>> low, high = Finding("a", "note", 9, ""), Finding("b", "error", 1, "")
    >>> [finding.code for finding in by_severity([low, high])]
    ['b', 'a']
    """
    return sorted(findings, key=lambda f: (-SEVERITIES.index(f.severity), -f.count))


def merge_same_findings(findings: Iterable[Finding]) -> list[Finding]:
    """Findings that say the same of several sources as one, with the sources as examples.

    >>> places = Location("x.csv"), Location("y.csv")
    >>> same = [Finding("a", "note", 1, "read so", where=place) for place in places]
    >>> one, = merge_same_findings(same)
    >>> one.count, one.message, [example.text for example in one.examples]
    (2, 'read so, in 2 sources', ['x.csv', 'y.csv'])
    """
    alike: dict[tuple[str, str, str, Text], list[Finding]] = {}
    for finding in findings:
        alike.setdefault(
            (finding.code, finding.severity, finding.message, finding.remedy), []
        ).append(finding)
    return [_merge_group(v) if len(v) > 1 else v[0] for v in alike.values()]


def _merge_group(findings: list[Finding]) -> Finding:
    first = findings[0]
    places = [
        FindingExample(
            f"{finding.where}: {finding.examples[0].text}"
            if finding.examples
            else str(finding.where)
        )
        for finding in findings[:MOST_EXAMPLES]
    ]
    return replace(
        first,
        count=sum(f.count for f in findings),
        message=f"{first.message}, in {pluralize(len(findings), 'source')}",
        where=Location(),
        examples=tuple(places),
    )


CODES = (
    "cardinality", "cell-error", "cell-of-several", "cell-unfit", "cells-changed", "cells-filled",
    "cells-merged", "cells-replaced", "cells-trimmed", "column-equal", "column-lacking",
    "column-misplaced", "column-order", "columns-gone", "columns-left-out", "columns-new",
    "columns-renamed", "columns-swapped", "compared-as-wholes", "dialect-found",
    "evidence-follows", "fetched-in-part",
    "footer-lines", "form-borrowed", "form-open", "forms-mixed", "formula-cells",
    "formula-uncalculated", "gone-with-result", "group-values-missing", "group-without-value",
    "header-differs", "header-empty", "header-padded", "header-repeated", "header-rows",
    "header-variant", "headings-not-compared", "history-unwritten", "key-conflict", "key-elsewhere",
    "key-inferred", "key-kind", "key-missing", "key-not-unique", "key-repeat", "key-respelt",
    "key-trap", "key-unmatched", "left-behind", "list-cut", "marker-found", "marker-kept",
    "marker-missing", "matched-by-evidence", "mixed-cells", "name-trap", "nearest-tie",
    "nearly-typed", "no-odds", "no-rows",
    "not-compared", "not-read", "not-used", "notice-unsent", "pairs-unused", "parts-few",
    "parts-many", "row-ragged", "row-repeat", "rows-added", "rows-gone", "rows-new", "rows-shifted",
    "sample-only", "series-gap", "series-outside", "series-repeat", "series-size",
    "settle-conflict", "sheet-hidden", "source-conflict", "title-lines", "total-row",
    "type-changed", "type-differs", "types-differ", "unreadable", "written-otherwise",
    "zeros-shown",
)  # fmt: skip


def check_finding_codes(codes: Iterable[str]) -> tuple[str, ...]:
    """Codes and severities, once each is known to be one.

    Raises
    ------
    UsageError
        Offers the nearest: a code that is none would never stand.
    """
    codes = tuple(codes)
    for code in codes:
        if code not in CODES and code not in SEVERITIES:
            raise UsageError(
                f"unknown finding {code!r}",
                remedy=suggest_name(code, (*CODES, *SEVERITIES))
                or f"one of {', '.join(SEVERITIES)}",
            )
    return codes


def matching_findings(findings: Iterable[Finding], codes: Iterable[str]) -> list[Finding]:
    """The findings whose code or severity is one of ``codes``; a severity takes in the worse ones.

    >>> [f.code for f in matching_findings([Finding("a", "error", 1, "")], ["warning"])]
    ['a']
    """
    names = set(codes)
    least = min((SEVERITIES.index(code) for code in names if code in SEVERITIES), default=99)
    return [
        finding
        for finding in findings
        if finding.code in names or SEVERITIES.index(finding.severity) >= least
    ]


def summarize_findings(findings: Iterable[Finding]) -> list[Finding]:
    """The findings, worst first, those of one code and severity as one.

    Returns
    -------
    list of Finding
        One that stands for several has each of them as an example, up to five, and the
        remedies of all where they are one line of options.

    Examples
    --------
    >>> of = [Finding("marker-found", "note", 5, f"5 cells of {name} count as missing: NA",
    ...               where=Location(file, name), terms=("NA",))
    ...       for file, name in [("may", "kg"), ("june", "kg"), ("june", "frames")]]
    >>> one, = summarize_findings(of)
    >>> one.message, one.count
    ('NA counts as missing in 3 columns of 2 sources: 15 cells', 15)
    """
    alike: dict[tuple[str, str], list[Finding]] = {}
    for finding in findings:
        alike.setdefault((finding.code, finding.severity), []).append(finding)
    return by_severity(
        made
        for several in alike.values()
        for made in (_summarize_group(several) if _may(several) else several)
    )


def _may(findings: Sequence[Finding]) -> bool:
    return len(findings) > 1 and findings[0].code in _SUMMARY_TEMPLATES


def _summarize_group(findings: Sequence[Finding]) -> list[Finding]:
    first = findings[0]
    count = sum(finding.count for finding in findings)
    places = list(dict.fromkeys(f.where.source or str(f.where) for f in findings))
    message = _SUMMARY_TEMPLATES[first.code].format(n=f"{len(findings):,}", **_markers(findings))
    if first.code.startswith("marker"):
        message += f" of {len(places):,} sources" if len(places) > 1 else f" of {places[0]}"
        message += f": {count:,} cells"
    if first.code == "unreadable":
        message += f": {', '.join(places[:MOST_EXAMPLES])}" + (
            " …" if len(places) > MOST_EXAMPLES else ""
        )
    examples = tuple(map(_short, by_severity(findings)[:MOST_EXAMPLES]))
    made = replace(
        first,
        count=count,
        message=message,
        remedy=_remedy(findings),
        where=Location(),
        examples=examples,
    )
    return [made]


def _markers(findings: Sequence[Finding]) -> dict[str, str]:
    """The markers that the messages name."""
    named = dict.fromkeys(term for finding in findings for term in finding.terms)
    return {"m": ", ".join(named), "counts": agreeing(len(named), "counts", "count")}


def _short(finding: Finding) -> FindingExample:
    """What one of them says, in a line."""
    where = "" if finding.message.startswith(finding.where.source) else f"{finding.where}: "
    return FindingExample(
        f"{where}{finding.message}", finding.examples[0].places if finding.examples else ()
    )


def _remedy(findings: Sequence[Finding]) -> Text:
    """One remedy for all: that of each if it is the same, a way that all have, or all settings."""
    each = list(dict.fromkeys(finding.remedy for finding in findings if finding.remedy))
    if len(each) < 2:
        return each[0] if each else ""
    ways = [_ways(remedy) for remedy in each]
    common = [way for way in ways[0] if all(way in others for others in ways[1:])]
    if common:
        return wording(common[0])
    texts = {_text_before_settings(remedy) for remedy in each}
    short = sum(len(str(remedy)) for remedy in each) < _LONGEST
    if short and len(texts) == 1 and None not in texts:
        settings = [s for e in each if isinstance(e, Wording) for s in e.settings]
        return wording(texts.pop() or "", *settings)
    return wording("for the first: ", by_severity(findings)[0].remedy)


def _ways(remedy: Text) -> list[Setting]:
    """The settings of which a remedy says that each alone will do."""
    if not isinstance(remedy, Wording) or remedy.parts[1::2] != (" or ",) * (
        len(remedy.parts) // 2
    ):
        return []
    return [part for part in remedy.parts if isinstance(part, Setting)]


def _text_before_settings(remedy: Text) -> str | None:
    """The text of a remedy that ends in settings and has no others; else None."""
    if not isinstance(remedy, Wording):
        return None
    texts = [part for part in remedy.parts if not isinstance(part, Setting)]
    if not texts:
        return ""
    alone = len(texts) == 1 and remedy.parts[0] == texts[0]
    return texts[0] if alone and isinstance(texts[0], str) else None
