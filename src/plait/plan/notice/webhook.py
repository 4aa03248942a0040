"""Notices as one JSON object, posted to an address."""

from __future__ import annotations

import http.client
import json
import urllib.error
import urllib.request
from collections.abc import Sequence
from typing import Any

from plait._version import __version__
from plait.core.account.errors import UsageError
from plait.core.account.waiting import answer_of
from plait.formats.places.address import Address
from plait.plan.notice.message import Message
from plait.plan.notice.trying import NotSentError, again, is_this_machine

_SECONDS, _ALTOGETHER_SECONDS = 15, 30
_WAITS = (1.0, 4.0)
_TRY_AGAIN = (408, 425, 429)


class _StayHere(urllib.request.HTTPRedirectHandler):
    """Follows no redirection: a notice goes where the plan says, and nowhere else."""

    def redirect_request(self, *_: Any) -> None:
        """Nowhere."""


def post(webhook: str, message: Message, waits: Sequence[float] = _WAITS) -> None:
    """Post a notice, or try again after each wait.

    Raises
    ------
    NotSentError
    """
    address = Address(webhook)
    try:
        host, url = address.parts().host, address.filled()
    except UsageError as error:
        raise NotSentError(str(error)) from None
    if address.scheme != "https" and not (address.scheme == "http" and is_this_machine(host)):
        raise NotSentError(
            f"notices to {host or address.scheme} would be sent unencrypted: use https://"
        )
    body = json.dumps(message.data, ensure_ascii=False).encode()
    heads = {"Content-Type": "application/json", "User-Agent": f"plait/{__version__}"}
    request = urllib.request.Request(url, data=body, headers=heads, method="POST")
    opener = urllib.request.build_opener(_StayHere)
    again(lambda: _once(opener, request), waits)


def _once(opener: urllib.request.OpenerDirector, request: urllib.request.Request) -> None:
    try:
        answer_of(lambda: opener.open(request, timeout=_SECONDS).close(), _ALTOGETHER_SECONDS)
    except urllib.error.HTTPError as error:
        with error:
            later = error.code >= 500 or error.code in _TRY_AGAIN
            raise NotSentError(f"it answered {error.code} {error.reason}", later) from None
    except (OSError, http.client.HTTPException, ValueError) as error:
        reason = getattr(error, "reason", error)
        said = str(getattr(reason, "strerror", None) or reason) or type(reason).__name__
        raise NotSentError(said, "certificate" not in said.lower()) from None
