"""The functions of ``import plait`` for whole jobs: draft, check and run."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from plait.plan.check import PlanForecast
from plait.plan.check import forecast_plan as check_plan
from plait.plan.drafting.as_toml import plan_text
from plait.plan.drafting.draft import draft_plan
from plait.plan.execution import resolve_sources
from plait.plan.execution.execute import execute_plan, open_plan_job
from plait.plan.file.load import load_plan
from plait.plan.run import RunResult, run_plan
from plait.report.run_report import RunReport


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


def check(plan: str | Path, settings: Mapping[str, str] | Iterable[str] = ()) -> PlanForecast:
    """What a plan would do; nothing is written.

    Parameters
    ----------
    plan : str or Path
    settings : mapping of str to str
        Values for parameters that the plan declares.

    Returns
    -------
    PlanForecast
        With ``steps``, ``ledger``, ``findings``, ``seconds`` and ``memory``.

    Raises
    ------
    PlaitError
        With everything that is wrong with the plan.
    """
    loaded = load_plan(plan, settings)
    with open_plan_job(loaded):
        return check_plan(execute_plan(loaded, resolve_sources.find_plan_sources(loaded), _Quiet()))


def run(
    plan: str | Path,
    settings: Mapping[str, str] | Iterable[str] = (),
    *,
    replace: bool = False,
    accept_change: bool = False,
    discard_added: bool = False,
) -> RunReport:
    """Carry out a plan and hand over its result, whether or not anything is new.

    Parameters
    ----------
    plan : str or Path
    settings : mapping of str to str
        Values for parameters that the plan declares.
    replace : bool
        Put the new handover in the place of an earlier one.
    accept_change : bool
        Hand over whatever changed since the last run, this once.
    discard_added : bool
        Delete files that somebody put into the earlier handover, with it.

    Returns
    -------
    RunReport
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
    ended = run_plan(
        plan,
        settings,
        _Quiet(),
        replace,
        accept_change=accept_change,
        discard_added=discard_added,
    )
    assert isinstance(ended, RunResult)  # nothing asks whether anything is new
    return ended.story
