"""Sending a notice, again where it may work later, and never where others could read it."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from ipaddress import ip_address


class NotSentError(Exception):
    """A notice that could not be sent, why, and whether it may work later."""

    def __init__(self, why: str, later: bool = False) -> None:
        super().__init__(why)
        self.later = later


def again(once: Callable[[], None], waits: Sequence[float]) -> None:
    """Do something, and do it again after each wait while it may work then.

    Raises
    ------
    NotSentError
    """
    for wait in (*waits, None):
        try:
            once()
        except NotSentError as error:
            if wait is None or not error.later:
                raise
            time.sleep(wait)
        else:
            return


def is_this_machine(host: str) -> bool:
    """Whether a host is this machine itself.

    >>> is_this_machine("localhost"), is_this_machine("127.0.0.1"), is_this_machine("mail.example")
    (True, True, False)
    """
    try:
        return host == "localhost" or ip_address(host).is_loopback
    except ValueError:
        return False
