"""Seals: whether something that was written earlier was written by this user.

A handover or a journal names addresses, and variables of the environment in them. Whoever can
put one into a folder could have these opened, and filled in. So what is written is sealed
with a key that only this user has, and what carries no seal of ours is data: nothing that it
names is opened unasked. The seal is an HMAC (RFC 2104) with SHA-256.
"""

from __future__ import annotations

import hmac
import os
import secrets
import stat
from contextlib import suppress

from plait.core.base.platform import IS_POSIX
from plait.io.places.safe_files import data_folder, read_plain, write_plain

_KEY_FILE, _KEY_BYTES = "seal.key", 32


def sealed(what: str, text: str) -> str:
    """The seal of a text.

    Parameters
    ----------
    what : str
        What it is: ``handover``, ``journal``. A seal of one is none of another.

    Returns
    -------
    str
        Empty where this user can keep no key.

    Examples
    --------
    >>> import tempfile
    >>> os.environ["XDG_DATA_HOME"] = tempfile.mkdtemp()
    >>> is_ours("handover", "abc", sealed("handover", "abc"))
    True
    >>> is_ours("handover", "abd", sealed("handover", "abc")), is_ours("handover", "abc", "")
    (False, False)
    """
    key = _key()
    return hmac.digest(key, f"{what}\0{text}".encode(), "sha256").hex() if key else ""


def is_ours(what: str, text: str, seal: object) -> bool:
    """Whether a text has the seal that this user would give it."""
    ours = sealed(what, text)
    return bool(ours) and isinstance(seal, str) and hmac.compare_digest(ours, seal)


def _key() -> bytes | None:
    """The key of the user, made when there is none."""
    folder = data_folder()
    if folder is None:
        return None
    path = folder / _KEY_FILE
    with suppress(OSError):
        if not path.exists():
            # Under a name of its own first: two commands may begin at once.
            new = path.with_name(f".{secrets.token_hex(4)}.{_KEY_FILE}")
            write_plain(new, secrets.token_bytes(_KEY_BYTES))
            with suppress(FileExistsError):
                os.link(new, path)
            new.unlink(missing_ok=True)
        state = path.lstat()
        if IS_POSIX and (state.st_uid != os.geteuid() or stat.S_IMODE(state.st_mode) & 0o077):
            return None
        key = read_plain(path, _KEY_BYTES)
        return key if len(key) == _KEY_BYTES else None
    return None
