"""Files at https addresses, through the session of fsspec's file system.

Its own files take every refusal for a file that is not there, and a body that was cut short
for a whole one; so the answers are looked at here.
"""

from __future__ import annotations

import os
from functools import cache
from typing import IO, Any

from plait.formats.places.reader import Tick

_STEP = 1 << 20
_PLAIN = {"Accept-Encoding": "identity"}  # bytes as they are in the file, so that they count


def size_of(system: Any, url: str) -> int:
    """How many bytes a server says that a file has; 0 where it does not.

    Raises
    ------
    FileNotFoundError
        When there is none.
    aiohttp.ClientError
        When there is no way to it.
    """
    from fsspec.asyn import sync

    return int(sync(system.loop, _size, system, url))


async def _size(system: Any, url: str) -> int:
    session = await system.set_session()
    async with session.head(
        url, headers=_PLAIN, allow_redirects=True, ssl=_trusted(_named())
    ) as answer:
        if answer.status == 404:
            raise FileNotFoundError
        # Whoever may only get a file is refused what is asked of it beforehand.
        return int(answer.headers.get("Content-Length", 0)) if answer.ok else 0


def go_on(system: Any, url: str, out: IO[bytes], tick: Tick) -> None:
    """Fetch what is still lacking of a file: from where it stopped, or all where that cannot be.

    Raises
    ------
    FileNotFoundError
    aiohttp.ClientError
        When it is refused, or does not come whole.
    """
    from fsspec.asyn import sync

    sync(system.loop, _go_on, system, url, out, tick)


async def _go_on(system: Any, url: str, out: IO[bytes], tick: Tick) -> None:
    session = await system.set_session()
    span = {"Range": f"bytes={out.tell()}-"} if out.tell() else {}
    headers = {**_PLAIN, **span}
    async with session.get(url, headers=headers, ssl=_trusted(_named())) as answer:
        if answer.status == 404:
            raise FileNotFoundError
        answer.raise_for_status()
        if answer.status != 206:
            out.seek(0)
            out.truncate()
        async for data in answer.content.iter_chunked(_STEP):
            out.write(data)
            tick(len(data))


def _named() -> tuple[str, str]:
    return os.environ.get("SSL_CERT_FILE", ""), os.environ.get("SSL_CERT_DIR", "")


@cache
def _trusted(_: tuple[str, str]) -> Any:
    """The certificates that are trusted now: the library's own are those of when it was loaded."""
    import ssl

    return ssl.create_default_context()
