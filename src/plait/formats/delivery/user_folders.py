"""The user's own folders: for what can be worked out again, and for what nobody else may have."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from pathlib import Path

from plait.core.account.system import IS_POSIX

_OWNER_ONLY = 0o700


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
        folder.mkdir(_OWNER_ONLY, parents=True, exist_ok=True)
        state = folder.lstat()
    except (OSError, RuntimeError):
        return None
    if not stat.S_ISDIR(state.st_mode) or not os.access(folder, os.W_OK):
        return None
    if IS_POSIX and (state.st_uid != os.geteuid() or state.st_mode & 0o022):
        return None
    return folder
