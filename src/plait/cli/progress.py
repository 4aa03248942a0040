"""Progress on standard error, on a terminal, once work has lasted a second."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console, RenderableType

_PATIENCE = 1.0


class Progress:
    """Shows the phases of a command one after another.

    Parameters
    ----------
    shown : bool
        Whether to show anything at all; never away from a terminal.
    """

    def __init__(self, shown: bool = True) -> None:
        self._shown = shown and sys.stderr.isatty()
        self._begin = time.monotonic()
        self._bars: Any = None
        self._above: list[RenderableType] = []
        self._lock = threading.Lock()

    @contextmanager
    def phase(self, name: str, total: float | None = None) -> Iterator[Callable[[int], None]]:
        """One phase; what it yields is told how much is done, each time.

        Parameters
        ----------
        name : str
            What is being done.
        total : float, optional
            How much there is to do; without it the bar only moves.
        """
        if not self._shown:
            yield lambda _: None
            return
        done = [0]
        task: list[Any] = []

        def show() -> None:
            with self._lock:
                self._start()
                task.append(self._bars.add_task(name, total=total, completed=done[0]))

        def on_progress(more: int) -> None:
            with self._lock:
                done[0] += more
            if task:
                self._bars.update(task[0], completed=done[0])

        timer = threading.Timer(max(0.0, self._begin + _PATIENCE - time.monotonic()), show)
        timer.daemon = True
        timer.start()
        try:
            yield on_progress
        finally:
            timer.cancel()
            with self._lock:
                if task:
                    self._bars.remove_task(task[0])

    @property
    def is_shown(self) -> bool:
        """Whether there is a terminal to show it on."""
        return self._shown

    def show_above(self, render: Callable[[Console], RenderableType]) -> None:
        """Show something above the bars until the end.

        Parameters
        ----------
        render : callable
            Makes it for the terminal that it is given.
        """
        if self._shown:
            with self._lock:
                self._start()
                self._above.append(render(self._bars.console))

    def _start(self) -> None:
        if self._bars is None:
            self._bars = _bars_below(self._above)
            self._bars.start()

    def __enter__(self) -> Progress:
        return self

    def __exit__(self, *_: object) -> None:
        with self._lock:
            self._shown = False
            if self._bars is not None:
                self._bars.stop()


def _bars_below(above: list[RenderableType]) -> Any:
    """Bars below whatever the list has when they are drawn; they are gone when the work is done."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeElapsedColumn

    class Bars(Progress):
        def get_renderables(self) -> Iterator[RenderableType]:
            yield from above
            yield from super().get_renderables()

    return Bars(
        TextColumn("{task.description}"),
        BarColumn(40, complete_style="blue", finished_style="blue", pulse_style="blue"),
        TaskProgressColumn(),
        TimeElapsedColumn(),
        console=Console(stderr=True),
        transient=True,
    )
