"""``--figure``: a picture to put into a document."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from plait.formats.delivery.delivery import Delivery
from plait.formats.places.extras import needed
from plait.report.drawn.figure import check_ending

Write = Callable[[Any, Path, str], None]


def add_figure(group: Any) -> None:
    """The option."""
    group.add_argument(
        "--figure",
        type=Path,
        metavar="FILE",
        help="draw the result as a picture: .png, .svg or .pdf",
    )


def check_figure(options: argparse.Namespace, delivery: Delivery) -> None:
    """See that the figure asked for can be written."""
    if options.figure:
        check_ending(options.figure)
        needed("matplotlib", "figures", "--figure")
        delivery.check(options.figure)


def write_figure(write: Write, what: Any, options: argparse.Namespace, delivery: Delivery) -> None:
    """Write the figure, where one is asked for."""
    if options.figure:
        ending = options.figure.suffix.lower()
        delivery.write(options.figure, lambda part: write(what, part, ending))
