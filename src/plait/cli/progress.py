"""Progress on standard error, on a terminal, once work has lasted a second."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

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

    def _start(self) -> None:
        if self._bars is None:
            from rich.console import Console
            from rich.progress import BarColumn, TaskProgressColumn, TextColumn, TimeElapsedColumn
            from rich.progress import Progress as Bars

            self._bars = Bars(
                TextColumn("{task.description}"),
                BarColumn(40, complete_style="blue", finished_style="blue", pulse_style="blue"),
                TaskProgressColumn(),
                TimeElapsedColumn(),
                console=Console(stderr=True),
                transient=True,
            )
            self._bars.start()

    def __enter__(self) -> Progress:
        return self

    def __exit__(self, *_: object) -> None:
        with self._lock:
            self._shown = False
            if self._bars is not None:
                self._bars.stop()
