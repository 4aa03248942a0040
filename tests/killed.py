"""The program, killed at one of its own calls: at a point of the code, and not after some time.

    python -m killed 700 run p.toml        killed when its code makes its 700th call
    python -m killed 0 run p.toml          never: it prints how many calls there were

``kill_at`` and ``calls_of`` do it for tests; what is in ``before`` is carried out first.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path
from types import FrameType
from typing import Any

_HERE = str(Path(__file__).parent)
_PROGRAM = """
import sys
import killed
{before}
from plait.cli.main import run_command_line
status = killed.counted(int(sys.argv.pop(1)), lambda: run_command_line(sys.argv[1:]))
sys.exit(status)
"""


def kill_at(call: int, words: Sequence[str], folder: Path, before: str = "") -> None:
    """Run the program in a folder until it is killed at a call.

    Threads that look now and then make a few calls more or fewer from run to run: a run may end
    before so many, and says then how many there were.
    """
    ended = run_until(call, words, folder, before)
    early = ended.returncode == 0 and int(ended.stdout.splitlines()[-1]) < call
    assert ended.returncode == -signal.SIGKILL or early, (ended.returncode, ended.stderr)


def run_until(
    call: int, words: Sequence[str], folder: Path, before: str = ""
) -> subprocess.CompletedProcess[str]:
    """Run the program in a folder, and kill it at a call; at 0 never."""
    return subprocess.run(
        [sys.executable, "-c", _PROGRAM.format(before=before), str(call), *words],
        cwd=folder, capture_output=True, text=True, timeout=120, check=False,
        env={**os.environ, "PYTHONPATH": _HERE},
    )  # fmt: skip


def calls_of(words: Sequence[str], folder: Path, before: str = "") -> int:
    """How many calls the program makes where nothing kills it."""
    ended = run_until(0, words, folder, before)
    assert ended.returncode == 0, ended.stderr
    return int(ended.stdout.splitlines()[-1])


def spread(calls: int, number: int, seed: int) -> Iterator[int]:
    """So many points, one in each of as many equal stretches of the calls."""
    rng = random.Random(seed)
    for stretch in range(number):
        yield 1 + int((stretch + rng.random()) * calls / number)


def counted(at: int, work: Any) -> int:
    """Do some work, and be killed at a call from the package; else print how many there were."""
    import plait

    package = str(Path(plait.__file__).parent)
    calls = 0

    def hear(frame: FrameType, event: str, _: Any) -> None:
        nonlocal calls
        if event in ("call", "c_call") and frame.f_code.co_filename.startswith(package):
            calls += 1
            if calls == at:
                os.kill(os.getpid(), signal.SIGKILL)

    threading.setprofile(hear)
    sys.setprofile(hear)
    status = work()
    sys.setprofile(None)
    print(calls)
    return int(status)
