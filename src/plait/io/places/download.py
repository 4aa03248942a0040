"""One file downloaded over HTTPS, in one answer or several, whole or not at all.

The file system library takes every refusal for a file that does not exist, and a body that was cut
short for a whole one; so the answers are checked here. A file that comes in several answers, as
one after the other breaks off, must be one version of it: what tells versions apart (RFC 9110,
ETag, Last-Modified, the length) is kept from the first answer, asked for, and compared.
"""

from __future__ import annotations

import os
import re
import shutil
import time
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import IO, Any

from plait.core.base.errors import SourceError
from plait.core.base.wording import Setting, Text, wording
from plait.io.places.source import OnProgress

_STEP = 1 << 20
_PLAIN = {"Accept-Encoding": "identity"}  # bytes as they are in the file, so that they count
# A file that comes more slowly than so many bytes in so many seconds does not come.
LOOK_SECONDS, LEAST_BYTES = 60, 64 << 10
_LEAST_FREE = 1 << 30
_SPAN = re.compile(r"bytes (\d+)-(\d+)/(\d+|\*)")
_PAGE = re.compile(rb"(?i)\s*(<!--.*?-->\s*)*<(!doctype\s+html|html)[\s>]", re.DOTALL)
_GZIP = ("gzip", "x-gzip")
_SEE = "download the file on its own to see the answer"


@dataclass
class Download:
    """A file that is being fetched, in one answer or several.

    Parameters
    ----------
    shown : str
        The same as messages may name it.
    on_progress : callable
        Told how many bytes came, each time.

    Attributes
    ----------
    total : int or None
        Bytes that it has, where the server says so.
    encoding : str
        How it is packed on the way, though that was not asked for.
    """

    url: str
    shown: str
    out: IO[bytes]
    on_progress: OnProgress
    total: int | None = None
    encoding: str = ""
    _version: str = ""
    _ranges: dict[str, str] = field(default_factory=dict)

    def headers(self) -> dict[str, str]:
        """What is asked for: the rest of the same version, or all of it."""
        if not self.out.tell() or not self._ranges:
            self._restart()
            return _PLAIN
        return {**_PLAIN, "Range": f"bytes={self.out.tell()}-", **self._ranges}

    def begin(self, answer: Any) -> None:
        """Look at the head of an answer.

        Raises
        ------
        SourceError
            When it is no part of what was asked for, or of another version.
        """
        asked = self.out.tell() > 0
        if answer.status == 206 and not asked:
            raise self.error("the server sent part of the file instead of all of it")
        if answer.status == 206:
            self._go_on(answer)
            return
        if answer.status != 200:
            raise self.error(f"the server answers with {answer.status}")
        self._restart()
        self.total = answer.content_length
        self.encoding = _encoding(answer)
        self._version = _version(answer)
        tag, since = answer.headers.get("ETag", ""), answer.headers.get("Last-Modified", "")
        name = tag if tag and not tag.startswith("W/") else since
        self._ranges = {"If-Range": name} if name else {}
        self._check_room()

    def _go_on(self, answer: Any) -> None:
        span = _SPAN.fullmatch(answer.headers.get("Content-Range", "").strip())
        if span is None or int(span[1]) != self.out.tell():
            raise self.error("the server gives another part of the file than was asked for")
        total = None if span[3] == "*" else int(span[3])
        if _encoding(answer) != self.encoding:
            raise self.error("the server compressed parts of the file differently")
        self.same_version(_version(answer), total)

    def same_version(self, version: str, total: int | None) -> None:
        """See that what comes is of the version that came until now, and know how long it is.

        Raises
        ------
        SourceError
        """
        another = None not in (total, self.total) and total != self.total
        if self.out.tell() and (another or version != self._version):
            raise self.error("the file changed while it was being fetched")
        self._version, self.total = version, self.total if total is None else total

    def _restart(self) -> None:
        self.on_progress(-self.out.tell())  # what was told of comes once more
        self.out.seek(0)
        self.out.truncate()

    def take(self, data: bytes) -> None:
        """Take some bytes of the body.

        Raises
        ------
        SourceError
            For more than there should be, and where the disk gets full.
        """
        self.out.write(data)
        self.on_progress(len(data))
        if self.total is not None and self.out.tell() > self.total:
            raise self.error(f"the server sent more than the {self.total:,} bytes it announced")
        if self.total is None:
            self._check_room()

    def end(self) -> None:
        """See that all of it is there.

        Raises
        ------
        ConnectionError
            When it is not: the rest can be asked for.
        """
        if self.total is not None and self.out.tell() != self.total:
            raise ConnectionError(
                f"the transfer ended after {self.out.tell():,} of {self.total:,} bytes"
            )
        if self.encoding and self.encoding not in _GZIP:
            raise self.error(f"the server packs it as {self.encoding}, which was not asked for")

    @property
    def is_gzip(self) -> bool:
        """Whether it has to be unpacked once it is there: it was packed for the way only."""
        return self.encoding in _GZIP and not self.url.partition("?")[0].lower().endswith(".gz")

    def _check_room(self) -> None:
        free = shutil.disk_usage(Path(self.out.name).parent).free
        if self.total is not None and self.total > free + self.out.tell():
            what = (
                f"the file has {self.total:,} bytes, but the scratch folder has room for {free:,}"
            )
        elif self.total is None and free < _LEAST_FREE:
            what = f"the server gave no length, and {self.out.tell():,} bytes filled the disk"
        else:
            return
        raise self.error(what, wording(Setting("scratch", "DIR"), " names a folder with more room"))

    def error(
        self, what: str, remedy: Text = "download the file on its own to see the answer"
    ) -> SourceError:
        """What is wrong with what the server gives."""
        return SourceError(what, self.shown, remedy)


def _encoding(answer: Any) -> str:
    """How a body is packed on the way; nothing where it is not."""
    encoding = str(answer.headers.get("Content-Encoding", "")).strip().lower()
    return "" if encoding == "identity" else encoding


def _version(answer: Any) -> str:
    """What tells one version of a file from the next, where the server says so."""
    return str(answer.headers.get("ETag", "") or answer.headers.get("Last-Modified", ""))


def is_page(head: bytes) -> bool:
    """Whether bytes are the beginning of a page of HTML.

    >>> is_page(b"<!DOCTYPE html><title>Sign in</title>"), is_page(b"hive,kg")
    (True, False)
    """
    return bool(_PAGE.match(head))


def https_size(system: Any, url: str, seconds: int) -> int:
    """How many bytes a server says that a file has; 0 where it does not.

    Raises
    ------
    FileNotFoundError
        When there is none.
    aiohttp.ClientError
        When there is no way to it.
    """
    from fsspec.asyn import sync

    return int(sync(system.loop, _size, system, url, seconds))


async def _size(system: Any, url: str, seconds: int) -> int:
    import asyncio

    session = await system.set_session()
    async with (
        asyncio.timeout(seconds),
        session.head(url, headers=_PLAIN, allow_redirects=True, ssl=_trusted(_named())) as answer,
    ):
        if answer.status == 404:
            raise FileNotFoundError
        # Whoever may only get a file is refused what is asked of it beforehand.
        return int(answer.content_length or 0) if answer.ok else 0


def resume_download(system: Any, coming: Download, seconds: float | None) -> None:
    """Fetch what is still lacking of a file: from where it stopped, or all where that cannot be.

    Parameters
    ----------
    seconds : float, optional
        How long it may take. Without it as long as it comes at a pace.

    Raises
    ------
    FileNotFoundError
    SourceError
        When what comes is not what was asked for.
    aiohttp.ClientError, TimeoutError
        When it is refused, or does not come whole.
    """
    from fsspec.asyn import sync

    sync(system.loop, _go_on, system, coming, seconds)


async def _go_on(system: Any, coming: Download, seconds: float | None) -> None:
    import asyncio  # what fetches nothing begins without it

    session = await system.set_session()
    async with (
        asyncio.timeout(seconds),
        session.get(coming.url, headers=coming.headers(), ssl=_trusted(_named())) as answer,
    ):
        if answer.status == 404:
            raise FileNotFoundError
        answer.raise_for_status()
        coming.begin(answer)
        looked, taken = time.monotonic(), 0
        async for data in answer.content.iter_chunked(_STEP):
            coming.take(data)
            taken += len(data)
            if time.monotonic() - looked > LOOK_SECONDS:
                if taken < LEAST_BYTES:
                    raise TimeoutError(f"{taken:,} bytes in {LOOK_SECONDS} seconds")
                looked, taken = time.monotonic(), 0
    coming.end()


def _named() -> tuple[str, str]:
    return os.environ.get("SSL_CERT_FILE", ""), os.environ.get("SSL_CERT_DIR", "")


@cache
def _trusted(_: tuple[str, str]) -> Any:
    """The certificates that are trusted now: the library's own are those of when it was loaded."""
    import ssl

    return ssl.create_default_context()
