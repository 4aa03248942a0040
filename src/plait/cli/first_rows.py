"""First rows at once, where the result goes into a pipe: whoever wants a few waits for no more.

Only where the first rows are known before the rest is read: a table put right by names and
cells, files put under one another. What needs types, an order, or keys needs every row.
"""

from __future__ import annotations

import argparse
import os
import select
import stat
import sys
from collections.abc import Sequence
from typing import Any

from plait.cli.common_options import result_name, text_format
from plait.cli.process import OutputClosedError
from plait.core.base.errors import OutputError, PlaitError
from plait.core.specs.option import OperationSpec, run_operation
from plait.io.places.source import COLUMNAR, DELIMITED, STANDARD_INPUT, Source
from plait.io.read import read_first_rows
from plait.io.write import to_csv_bytes

_LEAST_BYTES = 32 << 20
_ROWS = 1000
_OF_ALL_ROWS = ("compute", "compute_first", "where", "sort", "missing", "type")
_VERBS = ("mend", "stack")


class FirstRowsStream:
    """Standard output, which has the first rows of a result before the result is made.

    Parameters
    ----------
    written : bytes
        What was written.
    """

    def __init__(self, written: bytes = b"") -> None:
        self._left = memoryview(written)

    @property
    def begun(self) -> bool:
        """Whether anything was written."""
        return bool(self._left)

    def on_progress(self, _: int = 0) -> None:
        """See that somebody still reads.

        Raises
        ------
        OutputClosedError
        """
        if self.begun and _is_left():
            raise OutputClosedError

    def write(self, data: Any) -> int:
        """Write what follows; what was written before is passed over."""
        view = memoryview(data).cast("B")
        known = min(len(view), len(self._left))
        if view[:known] != self._left[:known]:
            raise OutputError(
                "the first rows changed after they had been written to standard output",
                "standard output",
                "write the result to a file: --out FILE",
            )
        self._left = self._left[known:]
        if known < len(view):
            sys.stdout.buffer.write(view[known:])
        return len(view)

    def flush(self) -> None:
        """See that it has arrived."""
        sys.stdout.buffer.flush()


def write_first_rows(
    spec: OperationSpec, sources: Sequence[Source], values: dict[str, Any], options: Any
) -> FirstRowsStream:
    """Write the first rows of a result, where they can be known.

    Parameters
    ----------
    values : mapping
        What is asked of the operation.
    """
    if not _may_begin(spec, sources, options):
        return FirstRowsStream()
    try:
        tables = [
            read_first_rows(source, 0 if number else _ROWS)[0]
            for number, source in enumerate(sources)
        ]
        made = run_operation(spec, tables, values, result_name(options)).table
    except PlaitError:
        return FirstRowsStream()  # the whole will tell
    text = to_csv_bytes(made, text_format(options))
    sys.stdout.buffer.write(text)
    sys.stdout.buffer.flush()
    return FirstRowsStream(text)


def _may_begin(spec: OperationSpec, sources: Sequence[Source], options: argparse.Namespace) -> bool:
    return (
        spec.name in _VERBS
        and not options.out
        and not options.fail_on
        and not options.write
        and not any(getattr(options, name, None) for name in _OF_ALL_ROWS)
        and sum(source.size for source in sources) >= _LEAST_BYTES
        and all(map(_knows_its_columns, sources))
        and _into_a_pipe()
    )


def _knows_its_columns(source: Source) -> bool:
    """Whether the first part of a source tells all of its columns, and what its rows are."""
    return (
        source.path != STANDARD_INPUT
        and not source.error
        and not source.options.footer
        and source.ending in (*DELIMITED, *COLUMNAR)
    )


def _into_a_pipe() -> bool:
    try:
        return stat.S_ISFIFO(os.fstat(sys.stdout.fileno()).st_mode)
    except (OSError, ValueError, AttributeError):
        return False


def _is_left() -> bool:
    """Whether whoever read standard output has gone."""
    poll = select.poll()
    poll.register(sys.stdout.fileno(), 0)
    return any(what & select.POLLERR for _, what in poll.poll(0))
