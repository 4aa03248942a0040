"""Files fetched from HTTPS addresses and object stores into the scratch folder, once a job."""

from __future__ import annotations

import gzip
import re
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from threading import Lock
from typing import IO, Any

from plait.core.base.errors import PlaitError, SourceError
from plait.core.base.limits import LIMITS, Limits
from plait.core.base.waiting import Waiter, answer_of
from plait.core.base.wording import Setting, wording
from plait.io.places.address import Address, import_optional
from plait.io.places.archives import BoundedStream, open_unpacked, unpack_to_file
from plait.io.places.download import (
    LEAST_BYTES,
    LOOK_SECONDS,
    Download,
    https_size,
    is_page,
    resume_download,
)
from plait.io.places.partial_files import scratch_folder, sha256
from plait.io.places.source import OnProgress, Source

_STEP = 1 << 20

_BLOCK = 8 << 20
_TRIES = 4
_WAIT_SECONDS = 0.5
_PATIENCE_SECONDS = 60
_LISTING_SECONDS = 600
_BLOCK_SECONDS = _BLOCK // LEAST_BYTES * LOOK_SECONDS
_HEAD = 4096
_OBJECT = re.compile(r" ?\w*:?<[^<>]* at 0x[0-9a-f]+>| ssl:(default|True|False|None)")
_ENDING, _LONGEST_ENDING = re.compile(r"\.[A-Za-z0-9]+"), 30


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
    timeout : int, optional
        Seconds that it may take altogether. Without it as long as it comes at a pace.
    on_progress : callable
        Told how many bytes came, each time.

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
            coming = Download(path, address.shown, out, on_progress)
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


def _from_store(system: Any, path: str, coming: Download, seconds: float | None) -> None:
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
    text = address.with_secrets_hidden(plain)[:200]
    status = getattr(error, "status", None)
    who = f"{parts.host}:{parts.port}" if parts.port else parts.host
    where = address.shown
    if isinstance(error, PermissionError) or status in (401, 403) or "Credentials" in text:
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
    if "certificate" in text.lower():
        return SourceError(
            f"the certificate of {who} is not trusted: {text}",
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
        return SourceError(
            f"{who} did not answer in time",
            where,
            wording("wait longer: ", Setting("timeout", "SECONDS")),
        )
    if "Connect" in type(error).__name__ or isinstance(error, OSError):
        return SourceError(
            f"the connection to {who} failed: {text or type(error).__name__}",
            where,
            "check the host name, that the server is running, and that this machine can reach it",
        )
    return SourceError(f"cannot fetch the file: {text or type(error).__name__}", where)


def local_path(source: Source, on_progress: OnProgress = lambda _: None) -> Path:
    """The file on this machine that has the bytes of a source: fetched first if need be.

    Parameters
    ----------
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
