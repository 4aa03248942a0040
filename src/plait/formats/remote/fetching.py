"""Files fetched from https and S3, in blocks, into the scratch folder; each once in a job."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from threading import Lock
from typing import IO, Any

from plait.core.account.errors import PlaitError, SourceError
from plait.formats.delivery.scratch import scratch
from plait.formats.places.address import Address
from plait.formats.places.extras import needed
from plait.formats.places.reader import Tick
from plait.formats.remote import https

_BLOCK = 8 << 20
_TRIES = 4
_WAIT_SECONDS = 0.5
_PATIENCE_SECONDS = 60


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

    def place(self) -> Path:
        """A name for the next file."""
        if self.folder is None:
            self.folder = self.stack.enter_context(scratch(self.root))
        self.places += 1
        return self.folder / f"fetched-{self.places}"


_STORE = _Store()


@contextmanager
def keeping(root: Path | None = None) -> Iterator[None]:
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


def fetched(address: Address, timeout: int | None = None, tick: Tick = lambda _: None) -> Path:
    """The file with what an address gives.

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
                known = _STORE.place()
            _fetch(address, known, timeout, tick)
            _STORE.files[address.written] = known
        return known


def size_of(address: Address, timeout: int | None = None) -> int:
    """How many bytes there are to fetch; 0 where that is not told beforehand.

    Raises
    ------
    SourceError
        As ``fetched``.
    """
    with _told(address):
        system, path = _file_system(address, timeout)
        if address.scheme == "s3":
            return int(system.info(path).get("size") or 0)
        return https.size_of(system, path)


def matching(address: Address) -> list[Address]:
    """The files that an address of an object store with a pattern means, or what is in a folder.

    Raises
    ------
    SourceError
        As ``fetched``.
    """
    head, sign, asked = address.written.partition("?")
    if address.scheme != "s3" or not (any(one in head for one in "*[") or head.endswith("/")):
        return [address]
    with _told(address):
        system, path = _file_system(address, None)
        found = system.ls(path, detail=False) if head.endswith("/") else system.glob(path)
    return [Address(f"s3://{one}{sign}{asked}") for one in found]


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
    fsspec = needed("fsspec", "remote", address.shown)
    needed("s3fs", "remote", address.shown)
    config = {"connect_timeout": seconds, "read_timeout": seconds, "retries": {"max_attempts": 2}}
    return fsspec.filesystem(
        "s3", anon=_nobody_known(), config_kwargs=config, skip_instance_cache=True
    )


def _web(address: Address, seconds: int) -> Any:
    fsspec = needed("fsspec", "remote", address.shown)
    aiohttp = needed("aiohttp", "remote", address.shown)
    # Each answer by itself may take so long; a large file comes in many.
    limit = aiohttp.ClientTimeout(total=None, connect=seconds, sock_read=seconds)
    kwargs = {"trust_env": True, "timeout": limit}
    return fsspec.filesystem("http", client_kwargs=kwargs, skip_instance_cache=True)


def _nobody_known() -> bool:
    """Whether there are no credentials for S3: then what is open to all can be read."""
    session = needed("botocore.session", "remote", "s3")
    return session.Session().get_credentials() is None


def _fetch(address: Address, target: Path, timeout: int | None, tick: Tick) -> None:
    with _told(address), target.open("wb") as out:
        system, path = _file_system(address, timeout)
        go_on = _from_store if address.scheme == "s3" else https.go_on
        for left in reversed(range(_TRIES)):
            try:
                go_on(system, path, out, tick)
                return
            except Exception as error:
                if not left or not _may_pass(error):
                    raise
                time.sleep(_WAIT_SECONDS * 2 ** (_TRIES - 1 - left))


def _from_store(system: Any, path: str, out: IO[bytes], tick: Tick) -> None:
    """Fetch what is still lacking of a file in an object store, block by block."""
    with system.open(path, "rb", block_size=_BLOCK, cache_type="readahead") as stream:
        stream.seek(out.tell())
        while data := stream.read(_BLOCK):
            out.write(data)
            tick(len(data))
        if out.tell() != stream.size:
            raise ConnectionError(f"it ended after {out.tell():,} of {stream.size:,} bytes")


def _may_pass(error: BaseException) -> bool:
    """Whether it is worth trying again: the way is at fault, and not what was asked for."""
    import ssl  # loads slowly, and most jobs fetch nothing

    status = getattr(error, "status", None)
    if status is not None:
        return bool(status == 429 or status >= 500)
    certain = (FileNotFoundError, PermissionError, PlaitError, ssl.SSLError)
    return not isinstance(error, certain) and "certificate" not in str(error).lower()


@contextmanager
def _told(address: Address) -> Iterator[None]:
    """Tell what goes wrong on the way as what it is."""
    try:
        yield
    except PlaitError:
        raise
    except FileNotFoundError:
        raise SourceError(
            "there is no such file", address.shown, "look at the address: capitals count"
        ) from None
    except Exception as error:
        raise _in_words(error, address) from None


def _in_words(error: Exception, address: Address) -> SourceError:
    parts = address.parts()
    said = address.with_secrets_hidden(" ".join(str(error).split()))[:200]
    status = getattr(error, "status", None)
    who = f"{parts.host}:{parts.port}" if parts.port else parts.host
    where = address.shown
    if isinstance(error, PermissionError) or status in (401, 403) or "Credentials" in said:
        return SourceError(
            "it may not be read with what you are known by",
            where,
            "give a user or token in the address (${NAME} for one of the environment), or for s3 "
            "AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or a profile",
        )
    if status == 404:
        return SourceError("there is no such file", where, "look at the address: capitals count")
    if "certificate" in said.lower():
        return SourceError(
            f"the certificate of {who} is not trusted: {said}",
            where,
            "SSL_CERT_FILE=FILE names certificates to trust besides",
        )
    if status:
        return SourceError(f"the server of {who} answers with {status}", where, "try it later")
    if isinstance(error, TimeoutError) or "timeout" in type(error).__name__.lower():
        return SourceError(f"{who} does not answer in time", where, "--timeout SECONDS allows more")
    if "Connect" in type(error).__name__ or isinstance(error, OSError):
        return SourceError(
            f"the connection to {who} failed: {said or type(error).__name__}",
            where,
            "is the name right, is the server up, is there a way to it from here?",
        )
    return SourceError(f"it cannot be fetched: {said or type(error).__name__}", where)
