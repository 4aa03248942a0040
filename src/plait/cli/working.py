"""The options for the memory that a command may take, and the room they ask for."""

from __future__ import annotations

import argparse
from contextlib import AbstractContextManager, ExitStack, nullcontext
from pathlib import Path
from typing import Any


def add_work(parser: argparse.ArgumentParser) -> None:
    """How much memory the work may take."""
    group = parser.add_argument_group("work")
    group.add_argument(
        "--memory",
        metavar="SIZE",
        help=(
            "the most memory to use, such as 2GB; data that does not fit goes to "
            "scratch files (default: half of the free memory)"
        ),
    )
    group.add_argument(
        "--scratch",
        type=Path,
        metavar="DIR",
        help="the folder for scratch files (default: the system's temporary folder)",
    )
    group.add_argument(
        "--workers",
        type=int,
        metavar="N",
        help="share the work among N processes on this machine",
    )
    group.add_argument(
        "--cluster",
        metavar="ADDRESS",
        help=(
            "share the work among the workers of a cluster; ADDRESS is its scheduler, "
            "such as tcp://host:8786"
        ),
    )


def work_of(options: argparse.Namespace) -> AbstractContextManager[Any]:
    """The room that a command works in; those that read nothing large need none."""
    if "memory" not in options:
        return nullcontext()
    from plait.formats.remote.fetching import keeping
    from plait.formats.work.working import working

    within = ExitStack()
    within.enter_context(keeping(options.scratch))
    within.enter_context(working(options.memory, options.scratch, options.workers, options.cluster))
    return within
