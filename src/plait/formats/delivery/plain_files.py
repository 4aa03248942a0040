"""Files that stand among other people's, read and written so that nothing planted is followed.

In a folder that others can write to, a name may be a link to somebody's file, or a pipe that
never ends. Of such names nothing is read, and nothing is written through them.
"""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

from plait.formats.delivery.locks import NO_FOLLOW, NO_WAIT, OPEN_FLAGS

_OWNER_ONLY = 0o600


def read_plain(path: Path, most: int | None = None) -> bytes:
    """What a file holds that is no link, no pipe and no device.

    Parameters
    ----------
    path : Path
    most : int, optional
        Bytes; a file that has more is an error.

    Raises
    ------
    OSError
        For anything else that has the name, and for a file that cannot be read.

    Examples
    --------
    >>> import tempfile
    >>> file = Path(tempfile.mkdtemp(), "a.json")
    >>> write_plain(file, b"{}")
    >>> read_plain(file)
    b'{}'
    """
    number = os.open(path, os.O_RDONLY | NO_FOLLOW | NO_WAIT | OPEN_FLAGS)
    with os.fdopen(number, "rb") as file:
        there = os.fstat(number)
        if not stat.S_ISREG(there.st_mode):
            raise OSError(errno.EINVAL, "not a regular file", str(path))
        if most is not None and there.st_size > most:
            raise OSError(errno.EFBIG, f"it has more than {most:,} bytes", str(path))
        return file.read()


def write_plain(path: Path, content: bytes, mode: int = _OWNER_ONLY) -> None:
    """Write a file anew, in the place of whatever has its name, and flush it to the disk.

    Parameters
    ----------
    path : Path
        In the place of a link there stands the file then, and what it led to is as it was.
    content : bytes
    mode : int
        Its rights; those of its owner without it.

    Raises
    ------
    OSError
    """
    path.unlink(missing_ok=True)
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | NO_FOLLOW | OPEN_FLAGS
    with os.fdopen(os.open(path, flags, mode), "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
