"""Files fetched over HTTP(S) and from object stores, whole or not at all.

Its own files take every refusal for a file that is not there, and a body that was cut short
for a whole one; so the answers are looked at here. A file that comes in several answers, as
one after the other breaks off, must be one version of it: what tells versions apart (RFC 9110,
ETag, Last-Modified, the length) is kept from the first answer, asked for, and compared.
"""

from __future__ import annotations

import gzip
import os
import re
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from threading import Lock
from typing import IO, Any

from plait.core.base.errors import PlaitError, SourceError
from plait.core.base.limits import LIMITS, Limits
from plait.core.base.waiting import Waiter, answer_of
from plait.io.places.address import Address, import_optional
from plait.io.places.archives import BoundedStream, open_unpacked, unpack_to_file
from plait.io.places.partial_files import scratch_folder, sha256
from plait.io.places.source import OnProgress, Source

_STEP = 1 << 20
_PLAIN = {"Accept-Encoding": "identity"}  # bytes as they are in the file, so that they count
LOOK_SECONDS, LEAST_BYTES = 60, 64 << 10

_BLOCK = 8 << 20
_TRIES = 4
_WAIT_SECONDS = 0.5
_PATIENCE_SECONDS = 60
_LISTING_SECONDS = 600
_BLOCK_SECONDS = _BLOCK // LEAST_BYTES * LOOK_SECONDS
_HEAD = 4096
_OBJECT = re.compile(r" ?\w*:?<[^<>]* at 0x[0-9a-f]+>| ssl:(default|True|False|None)")
_ENDING, _LONGEST_ENDING = re.compile(r"\.[A-Za-z0-9]+"), 30


"""A file that comes more slowly than so many bytes in so many seconds does not come."""
_LEAST_FREE = 1 << 30
_SPAN = re.compile(r"bytes (\d+)-(\d+)/(\d+|\*)")
_PAGE = re.compile(rb"(?i)\s*(<!--.*?-->\s*)*<(!doctype\s+html|html)[\s>]", re.DOTALL)
_GZIP = ("gzip", "x-gzip")
_SEE = "download the file on its own to see the answer"


@dataclass
class Coming:
    """A file that is being fetched, in one answer or several.

    Parameters
    ----------
    url : str
    shown : str
        The same as messages may name it.
    out : binary file
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
        raise self.error(what, "--scratch DIR names a folder with more room")

    def error(
        self, what: str, remedy: str = "download the file on its own to see the answer"
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


def resume_download(system: Any, coming: Coming, seconds: float | None) -> None:
    """Fetch what is still lacking of a file: from where it stopped, or all where that cannot be.

    Parameters
    ----------
    system : fsspec file system
    coming : Coming
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


async def _go_on(system: Any, coming: Coming, seconds: float | None) -> None:
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


class _LateError(TimeoutError):
    """An answer of an object store did not come, and is waited for no longer."""


class _Store:
    """What was fetched in this job, and the folder that it is in."""

    def __init__(self) -> None:
        self.lock = Lock()
        self.within = 0
        self.files: dict[str, Path] = {}
        self.turns: dict[str, Lock] = {}
        self.systems: dict[tuple[str, int], Any] = {}
        self.places = 0
        self.folder: Path | None = None
        self.root: Path | None = None
        self.stack = ExitStack()

    def place(self, address: Address) -> Path:
        """A name for the next file: it ends as its own does, which tells how it is packed."""
        if self.folder is None:
            self.folder = self.stack.enter_context(scratch_folder(self.root))
        self.places += 1
        name = address.path.rpartition("/")[2]
        ending = "".join(_ENDING.findall(name))[-_LONGEST_ENDING:]
        return self.folder / f"fetched-{self.places}{ending}"


_STORE = _Store()


@contextmanager
def keep_fetched_files(root: Path | None = None) -> Iterator[None]:
    """Keep what is fetched within, so that nothing is fetched twice; then it goes.

    Parameters
    ----------
    root : Path, optional
        The folder in which the scratch folder is made. Without it the system's.
    """
    with _STORE.lock:
        _STORE.within += 1
        _STORE.root = _STORE.root or root
    try:
        yield
    finally:
        with _STORE.lock:
            _STORE.within -= 1
            if not _STORE.within:
                _STORE.stack.close()
                _STORE.files, _STORE.turns, _STORE.systems = {}, {}, {}
                _STORE.folder, _STORE.root = None, None


def fetch_file(
    address: Address,
    timeout: int | None = None,
    on_progress: OnProgress = lambda _: None,
    limits: Limits = LIMITS,
) -> Path:
    """The file with what an address gives.

    Parameters
    ----------
    address : Address
    timeout : int, optional
        Seconds that it may take altogether. Without it as long as it comes at a pace.
    on_progress : callable
        Told how many bytes came, each time.
    limits : Limits

    Raises
    ------
    SourceError
        When nobody answers, there is no such file, it may not be read, or it does not come whole.
    """
    with _STORE.lock:
        mine = _STORE.turns.setdefault(address.written, Lock())
    with mine:  # whoever wants the same file waits for it
        known = _STORE.files.get(address.written)
        if known is None:
            with _STORE.lock:
                known = _STORE.place(address)
            _fetch(address, known, timeout, on_progress, limits)
            _STORE.files[address.written] = known
        return known


def remote_size(address: Address, timeout: int | None = None) -> int:
    """How many bytes there are to fetch; 0 where that is not told beforehand.

    Raises
    ------
    SourceError
        As ``fetch_file``.
    """
    with _explain_fetch_errors(address):
        system, path = _file_system(address, timeout)
        if address.scheme == "s3":
            about = answer_of(lambda: system.info(path), timeout or _PATIENCE_SECONDS)
            return int(about.get("size") or 0)
        try:
            return https_size(system, path, timeout or _PATIENCE_SECONDS)
        except Exception as error:
            if _is_no_answer(error):
                return 0  # what gives the file may answer well all the same
            raise


def expand_remote_pattern(address: Address) -> list[Address]:
    """The files that an address of an object store with a pattern means, or what is in a folder.

    Raises
    ------
    SourceError
        As ``fetch_file``.
    """
    head, sign, asked = address.written.partition("?")
    if address.scheme != "s3" or not (any(one in head for one in "*[") or head.endswith("/")):
        return [address]
    with _explain_fetch_errors(address):
        system, path = _file_system(address, None)
        asked_for = system.ls if head.endswith("/") else system.glob
        paths = answer_of(lambda: asked_for(path), _LISTING_SECONDS)
    return [Address(f"s3://{path}{sign}{asked}") for path in paths]


def _file_system(address: Address, timeout: int | None) -> tuple[Any, str]:
    """What speaks to the other machine, made once in a job, and the path as it takes it."""
    of_store, seconds = address.scheme == "s3", timeout or _PATIENCE_SECONDS
    path = address.filled().partition("?")[0] if of_store else address.filled()
    key = (address.scheme, seconds)
    made = _STORE.systems.get(key) or (_store if of_store else _web)(address, seconds)
    if _STORE.within:
        _STORE.systems[key] = made
    return made, path


def _store(address: Address, seconds: int) -> Any:
    fsspec = import_optional("fsspec", "remote", address.shown)
    import_optional("s3fs", "remote", address.shown)
    config = {"connect_timeout": seconds, "read_timeout": seconds, "retries": {"max_attempts": 2}}
    return fsspec.filesystem(
        "s3", anon=_nobody_known(), config_kwargs=config, skip_instance_cache=True
    )


def _web(address: Address, seconds: int) -> Any:
    fsspec = import_optional("fsspec", "remote", address.shown)
    aiohttp = import_optional("aiohttp", "remote", address.shown)
    # A body is taken as it comes: unpacked on the way it could be of any length.
    limit = aiohttp.ClientTimeout(total=None, connect=seconds, sock_read=seconds)
    kwargs = {"trust_env": True, "timeout": limit, "auto_decompress": False}
    return fsspec.filesystem("http", client_kwargs=kwargs, skip_instance_cache=True)


def _nobody_known() -> bool:
    """Whether there are no credentials for S3: then what is open to all can be read."""
    session = import_optional("botocore.session", "remote", "s3")
    return session.Session().get_credentials() is None


def _fetch(
    address: Address, target: Path, timeout: int | None, on_progress: OnProgress, limits: Limits
) -> None:
    end = None if timeout is None else time.monotonic() + timeout
    with _explain_fetch_errors(address):
        with target.open("w+b") as out:
            system, path = _file_system(address, timeout)
            coming = Coming(path, address.shown, out, on_progress)
            for left in reversed(range(_TRIES)):
                seconds = None if end is None else max(end - time.monotonic(), 0.01)
                try:
                    if address.scheme == "s3":
                        _from_store(system, path, coming, seconds)
                    else:
                        resume_download(system, coming, seconds)
                    break
                except Exception as error:
                    over = end is not None and time.monotonic() > end
                    if not left or over or not _may_pass(error):
                        raise
                    time.sleep(_WAIT_SECONDS * 2 ** (_TRIES - 1 - left))
        if coming.is_gzip:
            _unpack(target, address, limits)
        with target.open("rb") as file:
            head = file.read(_HEAD)
        if is_page(head):
            raise SourceError(
                "the answer is an HTML page, perhaps a login page, not data",
                address.shown,
                "open the address in a browser; it may need a token",
            )


def _unpack(target: Path, address: Address, limits: Limits) -> None:
    """Unpack what was packed for the way only."""
    plain = target.with_name(f"{target.name}-plain")
    packed: Any = gzip.GzipFile(target)
    unpacked = BoundedStream(packed, target.stat().st_size, address.shown, limits)
    with unpacked, plain.open("wb") as file:
        shutil.copyfileobj(unpacked, file, _BLOCK)
    plain.replace(target)


def _from_store(system: Any, path: str, coming: Coming, seconds: float | None) -> None:
    """Fetch what is still lacking of a file in an object store, block by block, of one version."""
    end = None if seconds is None else time.monotonic() + seconds
    # The library waits for each piece of a block by itself: what drips is never late for it.
    waiter = Waiter()

    def answer(call: Callable[[], Any], most: float) -> Any:
        return waiter.answer(call, most if end is None else max(end - time.monotonic(), 0.01))

    try:
        how = {"block_size": _BLOCK, "cache_type": "readahead"}
        stream = answer(lambda: system.open(path, "rb", **how), 2 * _PATIENCE_SECONDS)
        # Blocks of one opening are of one version; the library asks for that.
        coming.same_version(str(stream.details.get("ETag") or ""), stream.size)
        stream.seek(coming.out.tell())
        while data := answer(lambda: stream.read(_BLOCK), _BLOCK_SECONDS):
            coming.take(data)
        answer(stream.close, _PATIENCE_SECONDS)
    except TimeoutError as error:
        if waiter.lost:
            raise _LateError from error  # and not tried again
        raise
    finally:
        waiter.end()
    coming.end()


def _is_no_answer(error: BaseException) -> bool:
    """Whether what came is no HTTP: the library gives it the status 400, which nobody sent."""
    cause = error.__cause__
    return type(cause).__module__.startswith("aiohttp.http")


def _may_pass(error: BaseException) -> bool:
    """Whether it is worth trying again: the way is at fault, and not what was asked for."""
    import ssl  # loads slowly, and most jobs fetch nothing

    status = getattr(error, "status", None)
    if status is not None and not _is_no_answer(error):
        return bool(status == 429 or status >= 500)
    certain = (FileNotFoundError, PermissionError, PlaitError, ssl.SSLError, _LateError)
    return not isinstance(error, certain) and "certificate" not in str(error).lower()


@contextmanager
def _explain_fetch_errors(address: Address) -> Iterator[None]:
    """Tell what goes wrong on the way as what it is."""
    try:
        yield
    except PlaitError:
        raise
    except FileNotFoundError:
        raise SourceError(
            "file not found", address.shown, "check the address; upper and lower case matter"
        ) from None
    except Exception as error:
        raise _in_words(error, address) from None


def _in_words(error: Exception, address: Address) -> SourceError:
    parts = address.parts()
    plain = _OBJECT.sub("", " ".join(str(error).split()))
    said = address.with_secrets_hidden(plain)[:200]
    status = getattr(error, "status", None)
    who = f"{parts.host}:{parts.port}" if parts.port else parts.host
    where = address.shown
    if isinstance(error, PermissionError) or status in (401, 403) or "Credentials" in said:
        return SourceError(
            "access denied with the credentials given",
            where,
            "give a user or token in the address (${NAME} for one of the environment), or for s3 "
            "AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or a profile",
        )
    if status == 404:
        return SourceError(
            "file not found", where, "check the address; upper and lower case matter"
        )
    if "certificate" in said.lower():
        return SourceError(
            f"the certificate of {who} is not trusted: {said}",
            where,
            "SSL_CERT_FILE=FILE adds certificates to trust",
        )
    if _is_no_answer(error):
        return SourceError(
            f"{who} does not answer with HTTP",
            where,
            "check the port, and whether the address should begin with https",
        )
    if status:
        return SourceError(f"the server of {who} answers with {status}", where, "try again later")
    if isinstance(error, TimeoutError) or "timeout" in type(error).__name__.lower():
        return SourceError(f"{who} did not answer in time", where, "wait longer: --timeout SECONDS")
    if "Connect" in type(error).__name__ or isinstance(error, OSError):
        return SourceError(
            f"the connection to {who} failed: {said or type(error).__name__}",
            where,
            "check the host name, that the server is running, and that this machine can reach it",
        )
    return SourceError(f"cannot fetch the file: {said or type(error).__name__}", where)


def local_path(source: Source, on_progress: OnProgress = lambda _: None) -> Path:
    """The file on this machine that has the bytes of a source: fetched first if need be.

    Parameters
    ----------
    source : Source
    on_progress : callable
        Told how many bytes are fetched, each time.

    Raises
    ------
    SourceError
        When an address does not give it.
    """
    if source.address is None:
        return Path(source.path)

    return fetch_file(source.address, source.options.timeout, on_progress, source.options.limits)


def open_bytes(source: Source) -> IO[bytes]:
    """The bytes of a source, unpacked where it is compressed."""
    path = local_path(source)
    if source.member or source.packed:
        return open_unpacked(str(path), source.member, source.options.limits, source.where)
    return path.open("rb", buffering=0)


@contextmanager
def open_plain_file(source: Source) -> Iterator[Path]:
    """The source as a plain file: itself, or unpacked for as long as needed."""
    path = str(local_path(source))
    with unpack_to_file(
        path, source.member, source.ending, source.options.limits, source.where
    ) as file:
        yield file


def source_checksum(source: Source) -> str:
    """The SHA-256 of the file that a source is in."""
    return sha256(local_path(source))
