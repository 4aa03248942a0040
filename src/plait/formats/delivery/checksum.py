"""Checksums of files, worked out beside other work."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path


def sha256(path: str | Path) -> str:
    """The SHA-256 of a file, in hexadecimal digits.

    >>> import tempfile
    >>> file = Path(tempfile.mkdtemp()) / "a.txt"
    >>> size = file.write_text("whole")
    >>> sha256(file)[:8]
    '5d5766cf'
    """
    with Path(path).open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def sums_of(paths: Iterable[str]) -> Mapping[str, Future[str]]:
    """The checksums of files, each worked out once, while others go on.

    Returns
    -------
    mapping of str to Future
        ``result()`` waits for one.
    """
    pool = ThreadPoolExecutor(1)
    made = {path: pool.submit(sha256, path) for path in dict.fromkeys(paths)}
    pool.shutdown(wait=False)
    return made
