"""Which tests call which functions of the package: a plugin of pytest, told where by CALLED_MAP.

What runs in other processes is not seen. Each process of pytest writes a file of its own; a
function is known by its file and its qualified name.
"""

from __future__ import annotations

import json
import os
import sys
import threading
from collections import defaultdict
from pathlib import Path
from types import CodeType, FrameType
from typing import Any

PACKAGE = str(Path(__file__).parents[1] / "src" / "plait") + os.sep


class Called:
    """Hears of every call while a test runs."""

    def __init__(self) -> None:
        self.test = ""
        self.seen: set[CodeType] = set()
        self.tests: dict[str, set[str]] = defaultdict(set)
        self.seconds: dict[str, float] = defaultdict(float)

    def hear(self, frame: FrameType, event: str, _: Any) -> None:
        """Called by the interpreter, at each call and return."""
        code = frame.f_code
        if event == "call" and code not in self.seen:
            self.seen.add(code)
            if self.test and code.co_filename.startswith(PACKAGE):
                file = code.co_filename.removeprefix(PACKAGE)
                self.tests[f"{file}:{code.co_qualname}"].add(self.test)


_CALLED = Called()


def pytest_runtest_logstart(nodeid: str) -> None:
    """A test begins."""
    _CALLED.test = nodeid.partition("[")[0]
    _CALLED.seen = set()
    threading.setprofile(_CALLED.hear)
    sys.setprofile(_CALLED.hear)


def pytest_runtest_logreport(report: Any) -> None:
    """A part of a test has ended."""
    _CALLED.seconds[report.nodeid.partition("[")[0]] += report.duration


def pytest_sessionfinish() -> None:
    """Write down what this process has heard."""
    sys.setprofile(None)
    folder = os.environ.get("CALLED_MAP")
    if folder and _CALLED.tests:
        by_place = {place: sorted(tests) for place, tests in _CALLED.tests.items()}
        text = json.dumps({"tests": by_place, "seconds": _CALLED.seconds})
        Path(folder, f"{os.getpid()}.json").write_text(text)
