"""Rows whose cells stand one column too far to the right, or to the left.

A comma too many in one line, and a cell too few at its end, leave the number of cells as it
should be. Only the values tell: several do not fit their columns, and do fit those beside them.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
import numpy.typing as npt

from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.base.wording import Setting, wording
from plait.core.profiling.profile import ColumnProfile, ValueCounts
from plait.core.table.table import Table
from plait.core.types.near_types import PLAIN, fits_format
from plait.core.types.value_formats import FORMS, ValueFormat

Flags = npt.NDArray[np.bool_]

_LEAST_UNFIT = 2
_MOST_SHARE = 0.1
_SIDES = {1: "right", -1: "left"}


def shifted_rows(
    tables: Sequence[Table],
    profiles: Mapping[str, ColumnProfile],
    tallies: Mapping[str, ValueCounts],
) -> Iterator[Finding]:
    """Rows of which two cells or more do not fit their columns, and fit those beside them.

    Parameters
    ----------
    tables : sequence of Table
        Of one shape.
    tallies : mapping of str to ValueCounts
        Of their columns, over these tables.

    Yields
    ------
    Finding
        ``rows-shifted``, one for each table and side.
    """
    forms = {name: form for name, profile in profiles.items() if (form := _form(profile))}
    nearly = [name for name, profile in profiles.items() if profile.nearly]
    unfit = {name: ~fits_format(forms[name], tallies[name].texts) for name in nearly}
    for number, table in enumerate(tables):
        odd = {
            name: _on_rows(tallies[name], number, unfit[name])
            for name in nearly
            if tallies[name].codes[number] is not None
        }
        rows = np.flatnonzero(sum(odd.values(), np.zeros(table.rows, int)) >= _LEAST_UNFIT)
        if 0 < len(rows) <= _MOST_SHARE * table.rows:
            few = {name: flags[rows] for name, flags in odd.items()}
            for step in _SIDES:
                yield from _report_shifted_rows(table, rows, few, forms, step)


def _form(profile: ColumnProfile) -> ValueFormat | None:
    type_ = profile.nearly.form if profile.nearly else profile.kind
    return PLAIN.get(type_) or FORMS.get(type_)


def _on_rows(tally: ValueCounts, number: int, of_texts: Flags) -> Flags:
    """What holds of some texts, for each row of a table; of a missing cell nothing does."""
    codes = tally.codes[number]
    assert codes is not None
    return np.append(of_texts, False)[codes]


def _report_shifted_rows(
    table: Table,
    rows: npt.NDArray[np.int64],
    odd: Mapping[str, Flags],
    forms: Mapping[str, ValueFormat],
    step: int,
) -> Iterator[Finding]:
    """The rows whose odd cells all fit the columns that are ``step`` before their own."""
    names = table.column_names
    result = table.take(rows)
    proved, refuted = np.zeros(len(rows), int), np.zeros(len(rows), bool)
    for place, name in enumerate(names):
        beside = names[place - step] if 0 <= place - step < len(names) else ""
        if name not in odd or beside not in forms:
            continue
        at_home = np.zeros(len(rows), bool)
        at_home[odd[name]] = fits_format(forms[beside], result.chunks(name).combine_chunks())[
            odd[name]
        ]
        proved += at_home
        refuted |= odd[name] & ~at_home
    found = rows[(proved > 0) & ~refuted]
    if not len(found):
        return
    first = next(name for name in names if name in odd and odd[name].any())
    form = forms[first]
    yield Finding(
        "rows-shifted",
        "warning",
        len(found),
        f"{pluralize(len(found), 'row')} of {table.name}: the cells are one column to the "
        f"{_SIDES[step]} of their own",
        wording(
            "put the delimiters right in the source, or set the rows aside: ",
            Setting("type", str(form.type), first),
            Setting("unfit", "set-aside"),
        ),
        Location(table.name),
        tuple(
            FindingExample(_cells(table, int(row), odd), table.source_rows(int(row))[:1])
            for row in found[:MOST_EXAMPLES]
        ),
    )


def _cells(table: Table, row: int, odd: Mapping[str, Flags]) -> str:
    """The cells of a row that are looked at: ``Day: '12.5', kg: 'calm'``."""
    cells = table.take(np.array([row])).to_dict()
    return ", ".join(f"{name}: {cells[name][0]!r}" for name in table.column_names if name in odd)
