"""Compiled templates, kept where the interpreter keeps compiled modules."""

from __future__ import annotations

import sys
from contextlib import suppress
from pathlib import Path

from jinja2.bccache import Bucket, FileSystemBytecodeCache


class _BesideModules(FileSystemBytecodeCache):
    """Compiled templates as files; where none can be written, there are none."""

    def load_bytecode(self, bucket: Bucket) -> None:
        """What was kept, if it is of this template."""
        try:
            super().load_bytecode(bucket)
        except OSError:
            bucket.reset()

    def dump_bytecode(self, bucket: Bucket) -> None:
        """Keep it, unless the interpreter keeps nothing either."""
        if sys.dont_write_bytecode:
            return
        with suppress(OSError):
            super().dump_bytecode(bucket)


def kept_compiled() -> _BesideModules:
    """Where compiled templates are kept: to compile them takes longer than to fill them in."""
    return _BesideModules(str(Path(__file__).parent / "__pycache__"), "%s.template")
