"""Runs of the program, each in a fork of a process that has all loaded: one line of JSON a run.

Started with ``faults.c`` before the C library; each run says at which call what happens.
"""

from __future__ import annotations

import ctypes
import importlib
import json
import os
import pkgutil
import signal
import sys
import tempfile
import time
from pathlib import Path

LATER = (
    *("matplotlib.figure", "matplotlib.backends.backend_svg", "rich.table", "rich.progress"),
    *("xlsxwriter", "python_calamine", "pyarrow.parquet", "jinja2", "sqlglot", "scipy.optimize"),
)
ACTIONS = ("count", "fail", "full", "kill", "interrupt")


def main() -> None:
    """Answer each line until there are no more."""
    _load_everything()
    faults = ctypes.CDLL(None)
    for line in sys.stdin:
        asked = json.loads(line)
        faults.faults_set(os.fsencode(asked["under"]), asked["at"], ACTIONS.index(asked["action"]))
        status, out, err = _forked(asked["words"], Path(asked["folder"]), asked["after"])
        count = faults.faults_count()
        faults.faults_set(b"", 0, 0)
        told = {"status": status, "out": out, "err": err, "count": count}
        print(json.dumps(told), flush=True)


def _load_everything() -> None:
    import plait

    for module in pkgutil.walk_packages(plait.__path__, "plait."):
        if "__main__" not in module.name:
            importlib.import_module(module.name)
    for name in LATER:
        importlib.import_module(name)


def _forked(words: list[str], folder: Path, after: float | None) -> tuple[int, str, str]:
    """Run it, and where a time is given kill it after that; how it ended, and what it said."""
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        child = os.fork()
        if not child:
            _run(words, folder, out.fileno(), err.fileno())
        if after is not None:
            time.sleep(after)
            os.kill(child, signal.SIGKILL)
        _, ended = os.waitpid(child, 0)
        texts = []
        for file in (out, err):
            file.seek(0)
            texts.append(file.read().decode(errors="replace"))
    return os.waitstatus_to_exitcode(ended), texts[0], texts[1]


def _run(words: list[str], folder: Path, out: int, err: int) -> None:
    from plait.cli.main import console_entry

    signal.signal(signal.SIGINT, signal.default_int_handler)
    os.chdir(folder)
    os.dup2(out, 1)
    os.dup2(err, 2)
    sys.argv = ["plait", *words]
    try:
        console_entry()
    except BaseException as error:  # it never comes to that
        os.write(2, f"Traceback: {error!r}".encode())
    os._exit(99)


if __name__ == "__main__":
    main()
