"""Options that several commands have, spelt the same everywhere."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from plait.core.keyspec import names


def add_output(parser: argparse.ArgumentParser) -> None:
    """Where results go, and what is shown."""
    group = parser.add_argument_group("output")
    group.add_argument(
        "--out",
        type=Path,
        metavar="FILE",
        help="where the result goes; the ending says the format: .csv .tsv .parquet "
        "(without it: CSV on standard output)",
    )
    group.add_argument(
        "--aside",
        type=Path,
        metavar="DIR",
        help="where rows that are set aside go (without it: beside --out, in NAME-aside)",
    )
    group.add_argument(
        "--report", type=Path, metavar="FILE", help="write the account as an HTML page"
    )
    group.add_argument(
        "--fail-on",
        type=names,
        default=(),
        metavar="CODE,…",
        help="end with status 1 and hand nothing over when a finding of such a code, or of such "
        "a severity (note, warning, error) or a worse one, stands",
    )
    group.add_argument("--replace", action="store_true", help="write over files that are there")
    group.add_argument(
        "--json",
        action="store_true",
        help="print the account as JSON on standard output (needs --out)",
    )
    group.add_argument("--quiet", action="store_true", help="say nothing but errors")
    group.add_argument("--verbose", action="store_true", help="show all examples with their places")


def add_origin(parser: argparse.ArgumentParser) -> None:
    """The column that says which sources a row came from."""
    parser.add_argument(
        "--origin",
        metavar="COLUMN",
        help="add a column with the names of the sources each row came from, joined by +",
    )


def complete_columns(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """Columns of the sources on the line so far, for a shell that completes ``--key``."""
    from plait.core.errors import PlaitError
    from plait.formats.reading import read_columns
    from plait.formats.sources import find_sources

    done, _comma, _rest = prefix.rpartition(",")
    try:
        sources = find_sources(getattr(parsed_args, "sources", None) or [])
        known = dict.fromkeys(name for one in sources for name in read_columns(one))
    except (PlaitError, OSError):
        return []
    return [f"{done},{name}" if done else name for name in known]
