"""A file system that fails, and processes that end, at the n-th call: for every n."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

HERE = Path(__file__).parent


@dataclass(frozen=True)
class Told:
    """How a run ended, and how many calls it made that change files."""

    status: int
    out: str
    err: str
    count: int


class Faults:
    """Runs ``plait`` in forks of one process that counts calls."""

    def __init__(self, library: Path) -> None:
        self._process = subprocess.Popen(
            [sys.executable, str(HERE / "forked.py")],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "LD_PRELOAD": str(library), "OMP_NUM_THREADS": "1"},
        )

    def run(
        self,
        folder: Path,
        *words: Any,
        action: str = "count",
        at: int = 0,
        after: float | None = None,
    ) -> Told:
        """Run ``plait`` so, with something happening at a call, or killed after some seconds."""
        asked = {
            "folder": str(folder), "under": str(folder), "words": [str(word) for word in words],
            "action": action, "at": at, "after": after,
        }  # fmt: skip
        assert self._process.stdin and self._process.stdout
        self._process.stdin.write(json.dumps(asked) + "\n")
        self._process.stdin.flush()
        told = Told(**json.loads(self._process.stdout.readline()))
        assert "Traceback" not in told.err, told.err
        return told

    def end(self) -> None:
        assert self._process.stdin and self._process.stdout
        self._process.stdin.close()
        self._process.wait(30)
        self._process.stdout.close()


@pytest.fixture(scope="session")
def faults(tmp_path_factory) -> Iterator[Faults]:
    compiler = shutil.which("cc") or shutil.which("gcc")
    if not compiler or not sys.platform.startswith("linux"):
        pytest.skip("calls are counted on Linux, with a C compiler")
    library = tmp_path_factory.mktemp("faults") / "faults.so"
    subprocess.run(
        [compiler, "-shared", "-fPIC", "-O1", "-o", library, HERE / "faults.c", "-ldl"], check=True
    )
    running = Faults(library)
    yield running
    running.end()
