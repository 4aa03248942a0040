"""Headings as they are in a source, and names that columns can have."""

from __future__ import annotations

from collections.abc import Sequence

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.account.limits import LIMITS, LimitError
from plait.core.account.names import distinct_name


def usable_names(
    names: Sequence[str], where: str, following: int | None = None, most: int = LIMITS.columns
) -> tuple[list[str], list[Finding]]:
    """Names without padding, none empty and none twice, and findings about those changed.

    Parameters
    ----------
    names : sequence of str
    where : str
        The source, for errors and findings.
    following : int, optional
        The number of the line behind the header: where some names are empty, that may be
        the header after all.
    most : int
        How many columns a table may have.

    Raises
    ------
    LimitError

    Examples
    --------
    >>> usable_names(["hive", " kg", "", "kg"], "may.csv")[0]
    ['hive', 'kg', 'column 3', 'kg (2)']
    """
    if len(names) > most:
        raise LimitError("columns", f"there are {len(names):,} columns, over {most:,}", where)
    tried: dict[str, int] = {}
    usable: dict[str, None] = {}  # in order, and quick to look into
    changed: dict[str, list[Example]] = {"padded": [], "empty": [], "repeated": []}
    for number, name in enumerate(names, 1):
        wanted = name.strip() or f"column {number}"
        chosen = distinct_name(wanted, usable, tried)
        for kind, happened in (
            ("padded", bool(name.strip()) and name != name.strip()),
            ("empty", not name.strip()),
            ("repeated", chosen != wanted),
        ):
            if happened:
                changed[kind].append(Example(f"column {number}: {name!r} is read as {chosen!r}"))
        usable[chosen] = None
    findings = [
        Finding(
            f"header-{kind}",
            "note" if kind == "padded" else "warning",
            len(examples),
            f"{counted(len(examples), 'column heading')} {kind}",
            f"if the next line is the header: --header-line {following}"
            if kind == "empty" and following
            else "name the columns in the source",
            where,
            tuple(examples[:MOST_EXAMPLES]),
        )
        for kind, examples in changed.items()
        if examples
    ]
    return list(usable), findings
