"""Locks on open files, and the flags to open them with, on every system.

All of Plait's locks are taken here, through ``portalocker``. They belong to the process that
takes them and end with it, however it ends.

Windows differs in two ways. A folder cannot be opened there, so no lock on a folder is taken.
And a lock on a file keeps everybody from reading and writing it, the holder's own other handles
included: files that are being written are therefore not locked there (``CAN_LOCK_OUTPUTS``).
"""

from __future__ import annotations

import os

from plait.core.account.system import IS_POSIX

#: Open files of the parent are not the child's, no line end is translated, no link is followed.
OPEN_FLAGS = getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)
NO_FOLLOW = getattr(os, "O_NOFOLLOW", 0)
#: A pipe that nobody writes into is not waited for.
NO_WAIT = getattr(os, "O_NONBLOCK", 0)
CAN_LOCK_OUTPUTS = IS_POSIX


def try_lock(descriptor: int) -> bool:
    """Take the lock of an open file or folder, without waiting for it.

    Parameters
    ----------
    descriptor : int

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
