"""The rows behind the numbers of a run."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from plait.core.keys.conflicts import Conflicts
from plait.core.table.table import SetAside
from plait.plan.work.work import Worked
from plait.report.behind import Behind, of_list, of_table

_MOST_TABLES = 60


def behind_of(worked: Worked, files: Mapping[int, str]) -> tuple[Behind, ...]:
    """The first rows of sources, steps and lists of rows set aside.

    Parameters
    ----------
    worked : Worked
    files : mapping of int to str
        The file of each list, by its identity.
    """
    return (*_lists(worked, files), *_tables(worked))


def every_list(worked: Worked) -> Iterator[tuple[int, SetAside | Conflicts]]:
    """Every list of rows set aside, with its step from 1; 0 for those of reading."""
    yield from ((0, one) for table in worked.tables for one in table.aside)
    yield from ((step.number + 1, one) for step in worked.steps for one in step.result.aside)


def _lists(worked: Worked, files: Mapping[int, str]) -> Iterator[Behind]:
    for step, one in every_list(worked):
        yield from of_list(one, files.get(id(one), ""), step)


def _tables(worked: Worked) -> Iterator[Behind]:
    """Of very many sources the first only."""
    for table in worked.tables[:_MOST_TABLES]:
        yield of_table(f"source-{table.name}", f"rows of {table.name}", table)
    for step in worked.steps:
        number, made = step.number + 1, step.result.table
        if step.name:
            yield of_table(f"step-{number}", f"rows of {step.name}", made, number)
