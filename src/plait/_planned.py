"""The functions of ``import plait`` for whole jobs: draft, check, run and trace."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from plait.core.errors import ExpectationError
from plait.core.finding import counted
from plait.formats.checksum import sums_of
from plait.plan import intake
from plait.plan.draft import draft as draft_plan
from plait.plan.expect import expectations
from plait.plan.foresee import Foreseen, foresee
from plait.plan.handover import check_handover, hand_over
from plait.plan.load import load_plan
from plait.plan.trace import MOST_ROWS, Traced
from plait.plan.trace import trace as trace_rows
from plait.plan.work import work
from plait.plan.written import plan_text
from plait.report.story import Story


class _Quiet:
    """Shows nothing of how far the work is."""

    @contextmanager
    def phase(self, name: str, total: float | None = None) -> Iterator[Callable[[int], None]]:
        """One part of the work."""
        yield lambda _: None


def draft(sources: Sequence[str] | str, folder: str | Path = ".") -> str:
    """The text of a plan to begin with, from what sources show.

    Parameters
    ----------
    sources : sequence of str
        Paths, globs and folders.
    folder : str or Path
        Where the plan will stand: its paths start there.

    Returns
    -------
    str

    Raises
    ------
    SourceError
        When a source cannot be read.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> size = (folder / "hives.csv").write_text("hive,breed\\n007,Buckfast\\n")
    >>> '[source.hives]\\npath = "hives.csv"' in draft([str(folder / "hives.csv")], folder)
    True
    """
    words = [sources] if isinstance(sources, str) else list(sources)
    return plan_text(draft_plan(words, Path(folder)))


def check(plan: str | Path, settings: Mapping[str, str] | Iterable[str] = ()) -> Foreseen:
    """What a plan would do; nothing is written.

    Parameters
    ----------
    plan : str or Path
    settings : mapping of str to str
        Values for parameters that the plan declares.

    Returns
    -------
    Foreseen
        With ``steps``, ``ledger``, ``findings``, ``seconds`` and ``memory``.

    Raises
    ------
    PlaitError
        With everything that is wrong with the plan.
    """
    return foresee(work(load_plan(plan, settings), _Quiet()))


def run(
    plan: str | Path,
    settings: Mapping[str, str] | Iterable[str] = (),
    *,
    replace: bool = False,
) -> Story:
    """Carry out a plan and hand over its result.

    Parameters
    ----------
    plan : str or Path
    settings : mapping of str to str
        Values for parameters that the plan declares.
    replace : bool
        Put the new handover in the place of an earlier one.

    Returns
    -------
    Story
        With ``account`` (ledger, findings, files), ``sources``, ``contents`` and
        ``expected``.

    Raises
    ------
    ExpectationError
        When something that the plan expects does not hold; nothing is handed over.
    PlaitError
        With everything that is wrong with the plan, a source or the folder.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> size = (folder / "hives.csv").write_text("hive,breed\\n007,Buckfast\\n")
    >>> size = (folder / "plan.toml").write_text(
    ...     "[source.hives]\\npath = 'hives.csv'\\n[handover]\\nresult = 'hives'"
    ... )
    >>> run(folder / "plan.toml").rows
    1
    >>> (folder / "handover" / "hives.csv").read_text()
    'hive,breed\\n007,Buckfast\\n'
    """
    loaded = load_plan(plan, settings)
    paths = [one.source.path for one in intake.find(loaded)]
    check_handover(loaded, replace, paths)
    sums = sums_of(paths)
    worked = work(loaded, _Quiet())
    expected = expectations(worked)
    failing = [one for one in expected if not one.holds]
    if failing:
        raise ExpectationError(
            f"{counted(len(failing), 'expectation')} not met: {failing[0].what}; "
            f"{failing[0].found}",
            f"{loaded.path} line {failing[0].line}",
            "nothing was handed over",
        )
    known = {path: one.result() for path, one in sums.items()}
    return hand_over(worked, expected, known, _Quiet())


def trace(
    handover: str | Path,
    rows: Sequence[int] = (),
    where: str | None = None,
    columns: Sequence[str] = (),
    most: int = MOST_ROWS,
) -> Traced:
    """Where rows of a handover, and each of their cells, came from.

    Parameters
    ----------
    handover : str or Path
        The folder.
    rows : sequence of int
        Of the dataset, from 1; or else
    where : str
        an SQL condition over its columns.
    columns : sequence of str
        The columns to trace. Without it all.
    most : int
        Of the rows on which the condition holds, so many at most.

    Returns
    -------
    Traced
        With ``rows``, and ``changed``: the sources that are not as they were.

    Raises
    ------
    SourceError
        When this is no handover.
    UsageError
        For a row or column that is not there.
    """
    return trace_rows(handover, rows, where, columns, most)
