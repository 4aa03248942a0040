"""Files opened so that nothing planted is followed, locks, and the user's own folders.

In a folder that others can write to, a name may be a link to somebody's file, or a pipe that
never ends. Of such names nothing is read, and nothing is written through them.

All of Plait's locks are taken here, through ``portalocker``. They belong to the process that
takes them and end with it, however it ends.

Windows differs in two ways. A folder cannot be opened there, so no lock on a folder is taken.
And a lock on a file keeps everybody from reading and writing it, the holder's own other handles
included: files that are being written are therefore not locked there (``CAN_LOCK_OUTPUTS``).
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable
from pathlib import Path

from plait.core.base.platform import IS_POSIX

#: Open files of the parent are not the child's, no line end is translated, no link is followed.
OPEN_FLAGS = getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)
NO_FOLLOW = getattr(os, "O_NOFOLLOW", 0)
#: A pipe that nobody writes into is not waited for.
NO_WAIT = getattr(os, "O_NONBLOCK", 0)
CAN_LOCK_OUTPUTS = IS_POSIX

_OWNER_ONLY_FILE = 0o600

_OWNER_ONLY_FOLDER = 0o700


def try_lock(descriptor: int) -> bool:
    """Take the lock of an open file or folder, without waiting for it.

    Returns
    -------
    bool
        ``False`` when somebody else holds it. ``True`` when it was taken, and where the file
        system has no locks at all.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.NamedTemporaryFile() as file, open(file.name) as again:
    ...     try_lock(file.fileno()), try_lock(again.fileno())
    (True, False)
    """
    import portalocker

    try:
        portalocker.lock(descriptor, portalocker.LOCK_EX | portalocker.LOCK_NB)
    except portalocker.AlreadyLocked:
        return False
    except (portalocker.LockException, OSError):
        return True
    return True


def read_plain(path: Path, most: int | None = None) -> bytes:
    """What a file holds that is no link, no pipe and no device.

    Parameters
    ----------
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


def write_plain(path: Path, content: bytes, mode: int = _OWNER_ONLY_FILE) -> None:
    """Write a file anew, in the place of whatever has its name, and flush it to the disk.

    Parameters
    ----------
    path : Path
        In the place of a link there stands the file then, and what it led to is as it was.
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


def cache_folder(name: str) -> Path | None:
    """Return a folder of the user's cache that nobody else can write to, made where need be.

    Parameters
    ----------
    name : str
        What is kept there.

    Returns
    -------
    Path or None
        ``None`` where there can be none, or where somebody else owns it or may write to it:
        whatever is read from there was then not written by this user.

    Notes
    -----
    The folder is the one that the system has for this (``platformdirs``); ``XDG_CACHE_HOME``
    moves it on Linux.

    Examples
    --------
    >>> import tempfile
    >>> os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp()
    >>> folder = cache_folder("templates")
    >>> folder.name, oct(folder.stat().st_mode & 0o777)
    ('templates', '0o700')
    """
    from platformdirs import user_cache_path

    return _own_folder(lambda: user_cache_path("plait", appauthor=False) / name)


def data_folder() -> Path | None:
    """Return the folder of the user's data, as ``cache_folder`` does."""
    from platformdirs import user_data_path

    return _own_folder(lambda: user_data_path("plait", appauthor=False))


def _own_folder(find: Callable[[], Path]) -> Path | None:
    try:
        folder = find()
        folder.mkdir(_OWNER_ONLY_FOLDER, parents=True, exist_ok=True)
        state = folder.lstat()
    except (OSError, RuntimeError):
        return None
    if not stat.S_ISDIR(state.st_mode) or not os.access(folder, os.W_OK):
        return None
    if IS_POSIX and (state.st_uid != os.geteuid() or state.st_mode & 0o022):
        return None
    return folder
