"""Work grows with columns and sources and no faster; no line runs once for each row."""

from __future__ import annotations

import sys
import threading
from collections import Counter
from functools import partial
from pathlib import Path

import pytest

from plait.core.operations.beside import beside
from plait.core.operations.compare import compare
from plait.core.operations.group import group
from plait.core.operations.join import join
from plait.core.operations.keys import audit_keys
from plait.core.operations.mend import mend
from plait.core.operations.reshape import lengthen, widen
from plait.core.operations.settle import settle
from plait.core.operations.stack import stack
from plait.core.operations.survey import survey
from plait.core.table import table as table_module
from plait.core.table.table import table_from_columns

SOURCE = str(Path(table_module.__file__).parents[2])


def times_of_lines(call) -> Counter:
    """How often each line of Plait is run by a call, in all threads."""
    times: Counter = Counter()

    def of_line(frame, event, _):
        if event == "line":
            times[frame.f_code.co_filename[len(SOURCE) :], frame.f_lineno] += 1
        return of_line

    def of_call(frame, *_):
        return of_line if frame.f_code.co_filename.startswith(SOURCE) else None

    before = sys.gettrace()
    threading.settrace(of_call)
    sys.settrace(of_call)
    try:
        call()
    finally:
        sys.settrace(before)
        threading.settrace(None)
    return times


def read(result) -> None:
    """Read the rows of a result as they are written, a few at a time."""
    table = getattr(result, "table", None)
    if table is not None:
        for start in range(0, table.rows, 40):
            table.batch(start, min(start + 40, table.rows))


def grown(job, few: int, many: int, most: float) -> list[str]:
    """The lines that run more than ``most`` times as often for ``many`` as for ``few``."""
    job(few)()  # what is loaded or kept the first time does not count
    before, after = (times_of_lines(job(size)) for size in (few, many))
    return [
        f"{file}:{line} {before[file, line]} -> {times}"
        for (file, line), times in after.items()
        if times > most * max(before[file, line], few)
    ]


FORMS = ("1{row}{other}", "{row}.{short}", "2031-04-{day:02}", "yard {row}")


def wide(columns: int, name: str = "hives", other: int = 0, rows: int = 12):
    """Numbers, decimals, dates and texts, in so many columns beside a key."""
    cells = {
        f"c{column}": [
            FORMS[column % 4].format(row=row, other=other, short=column % 90, day=row % 28 + 1)
            for row in range(rows)
        ]
        for column in range(columns)
    }
    return table_from_columns(name, {"id": [str(row) for row in range(rows)], **cells})


def long(heads: int, rows: int = 12):
    """A number for each of some rows and heads."""
    columns = {
        "id": [str(row) for row in range(rows) for _ in range(heads)],
        "what": [f"c{head}" for _ in range(rows) for head in range(heads)],
        "cell": [f"{row * head}" for row in range(rows) for head in range(heads)],
    }
    return table_from_columns("long", columns)


def extracts(tables: int):
    return [wide(4, f"extract-{number}", number % 3) for number in range(tables)]


def jobs(columns: int, rows: int = 12):
    """Each verb, as a call."""
    one, later = wide(columns, rows=rows), wide(columns, "later", 1, rows)
    cells = long(columns, rows)
    return {
        "survey": lambda: survey([one]),
        "keys": lambda: audit_keys([one, later], ["id"]),
        "compare": lambda: compare([one, later], ["id"]),
        "stack": lambda: stack([one, later]),
        "join": lambda: join(one, later, ["id"]),
        "mend": lambda: mend(one, where="id > 2", sort="c0"),
        "settle": lambda: settle(one, "id", otherwise="last"),
        "group": lambda: group(one, "c0", ["n=count"], onto_rows=True),
        "lengthen": lambda: lengthen(one, "what", "cell", key="id"),
        "widen": lambda: widen(cells, "what", "cell", "id"),
        "beside": lambda: beside([one, later]),
    }


OF_SOURCES = {
    "survey": survey,
    "stack": partial(stack, distinct=True),
    "settle": lambda tables: settle(stack(tables).table, "id", otherwise="last"),
    "beside": beside,
}


VERBS = jobs(1)


@pytest.mark.parametrize("verb", VERBS)
def test_work_grows_with_the_columns_and_no_faster(verb):
    few = 16 if verb in ("survey", "stack") else 30  # a line is looked at each time it is run
    assert grown(lambda columns: lambda: read(jobs(columns)[verb]()), few, 3 * few, 3.6) == []


@pytest.mark.parametrize("verb", OF_SOURCES)
def test_work_grows_with_the_sources_and_no_faster(verb):
    assert (
        grown(lambda sources: lambda: read(OF_SOURCES[verb](extracts(sources))), 6, 18, 3.6) == []
    )


@pytest.mark.parametrize("verb", VERBS)
def test_no_line_is_run_for_each_row(verb):
    assert grown(lambda rows: jobs(3, rows)[verb], 300, 1200, 1.5) == []
