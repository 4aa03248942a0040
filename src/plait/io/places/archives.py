"""Compressed files and archives, unpacked within bounds."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import zipfile
import zlib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import IO

from plait.core.base.errors import SourceError
from plait.core.base.limits import LIMITS, LimitExceededError, Limits
from plait.core.base.names import unused_name
from plait.io.places.partial_files import scratch_folder

COMPRESSED = (".gz", ".bz2", ".xz", ".zst")
ARCHIVE = ".zip"
_MOST_TIMES = 250
_WORKBOOK_TIMES = 4  # sheets are XML, which packs well
_STEP = 1 << 20
BROKEN = (
    OSError,
    EOFError,
    lzma.LZMAError,
    zlib.error,
    zipfile.BadZipFile,
    RuntimeError,
    NotImplementedError,
    ValueError,
)


def uncompressed_ending(path: str) -> str:
    """The ending that says the format, below that of a compression.

    >>> uncompressed_ending("may.csv.gz"), uncompressed_ending("may.XLSX")
    ('.csv', '.xlsx')
    """
    plain = Path(path)
    if plain.suffix.lower() in COMPRESSED:
        plain = plain.with_suffix("")
    return plain.suffix.lower()


class BoundedStream(io.RawIOBase):
    """A stream that is unpacked, and refused once it is far larger than what it is packed in.

    Parameters
    ----------
    stream : binary file
        Gives the unpacked bytes.
    packed : int
        Bytes of the packed file.
    where : str
        The file, for errors.
    """

    def __init__(self, stream: IO[bytes], packed: int, where: str, limits: Limits = LIMITS) -> None:
        self._stream, self._where, self._taken = stream, where, 0
        self._most = max_unpacked_size(packed, limits)

    def readable(self) -> bool:
        """It is."""
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        """Fill the buffer as far as one step goes; 0 at the end."""
        try:
            data = self._stream.read(len(buffer))
        except BROKEN as error:
            raise _broken(self._where, error) from None
        self._taken += len(data)
        if self._taken > self._most:
            raise _too_large(f"more than {self._most >> 20:,} MiB", self._where)
        buffer[: len(data)] = data
        return len(data)

    def close(self) -> None:
        """Close what lies below too."""
        if not self.closed:
            self._stream.close()
        super().close()


def max_unpacked_size(packed: int, limits: Limits) -> int:
    """How many bytes a packed file may unpack to."""
    return max(limits.unpacked, _MOST_TIMES * packed)


def _too_large(size: str, where: str) -> LimitExceededError:
    return LimitExceededError(
        "unpacked",
        f"the file unpacks to {size}, more than {_MOST_TIMES} times its packed size",
        where,
    )


def _broken(where: str, error: BaseException) -> SourceError:
    return SourceError(
        f"cannot unpack the file: {error}", where, "the file may be incomplete: get it again"
    )


def open_unpacked(
    path: str, member: str = "", limits: Limits = LIMITS, where: str = ""
) -> IO[bytes]:
    """The bytes of a compressed file, or of a member of an archive; ``where`` for errors.

    Raises
    ------
    SourceError
        When it cannot be unpacked.
    """
    where = where or (f"{path}#{member}" if member else path)
    packed = Path(path).stat().st_size
    try:
        stream = _member(path, member) if member else _decompressing(path)
    except (*BROKEN, KeyError) as error:
        raise _broken(where, error) from None
    return BoundedStream(stream, packed, where, limits)  # type: ignore[return-value]


@dataclass(frozen=True, eq=False)
class _Archive:
    """An archive that stays open, and its files by names that are told apart."""

    opened: zipfile.ZipFile
    files: dict[str, zipfile.ZipInfo]


def _archive(path: str) -> _Archive:
    """The archive as it is now: what is in it is looked up once, however many files are read."""
    there = Path(path).stat()
    return _looked_up(str(path), there.st_mtime_ns, there.st_size)


@lru_cache(maxsize=4)
def _looked_up(path: str, modified: int, size: int) -> _Archive:
    opened = zipfile.ZipFile(path)
    if not all(info.filename for info in opened.infolist()):
        # The name ends where a NUL is, and this one begins with it.
        raise ValueError("the archive contains a file whose name cannot be read")
    files: dict[str, zipfile.ZipInfo] = {}
    tried: dict[str, int] = {}
    for info in opened.infolist():
        if not (info.is_dir() or _of_a_system(info.filename)):
            files[unused_name(info.filename, files, tried)] = info
    return _Archive(opened, files)


def _of_a_system(name: str) -> bool:
    """Whether a system put the file there for itself."""
    return name.startswith("__MACOSX/") or Path(name).name.startswith(".")


def _member(path: str, member: str) -> IO[bytes]:
    archive = _archive(path)
    return archive.opened.open(archive.files[member])


def _decompressing(path: str) -> IO[bytes]:
    ending = Path(path).suffix.lower()
    if ending == ".zst":
        import pyarrow as pa

        return pa.input_stream(path, compression="zstd")  # type: ignore[no-any-return]
    opener = {".gz": gzip.open, ".bz2": bz2.open, ".xz": lzma.open}[ending]
    return opener(path, "rb")  # type: ignore[operator, no-any-return]


def list_members(path: str, where: str = "") -> dict[str, str]:
    """The files in an archive: names that are told apart, and those that the archive gives.

    What systems put there for themselves is left out. Of two files of one name the second
    is called ``may.csv (2)``.

    Raises
    ------
    SourceError
        When it is no archive, or a broken one.
    """
    try:
        return {name: info.filename for name, info in _archive(path).files.items()}
    except BROKEN as error:
        raise _broken(where or path, error) from None


def check_unpacked_size(path: str, names: Iterable[str], limits: Limits, where: str) -> None:
    """See that some files of an archive are together not far larger than it.

    Raises
    ------
    LimitExceededError
    """
    files = _archive(path).files
    _check_size(path, where, sum(files[name].file_size for name in names), limits)


def _check_size(path: str, where: str, size: int, limits: Limits) -> None:
    if size > max_unpacked_size(Path(path).stat().st_size, limits):
        raise _too_large(f"{size >> 20:,} MiB", where)


@contextmanager
def unpack_to_file(
    path: str, member: str, ending: str, limits: Limits = LIMITS, where: str = ""
) -> Iterator[Path]:
    """The source as a plain file: itself, or unpacked in a temporary folder for as long as needed.

    The name of the file is made here, so that none in an archive can lead out of the folder.
    """
    if not member and Path(path).suffix.lower() not in COMPRESSED:
        yield Path(path)
        return
    with scratch_folder() as folder:
        target = folder / f"unpacked{ending}"
        with open_unpacked(path, member, limits, where) as stream, target.open("wb") as file:
            while data := stream.read(_STEP):
                file.write(data)
        yield target


def check_archive_size(path: Path, where: str, limits: Limits = LIMITS) -> None:
    """See that a file that is an archive inside, as workbooks are, unpacks within bounds.

    Raises
    ------
    SourceError
        When it is far larger unpacked.
    """
    if not zipfile.is_zipfile(path):
        return
    try:
        with zipfile.ZipFile(path) as archive:
            size = sum(info.file_size for info in archive.infolist())
    except BROKEN as error:
        raise _broken(where, error) from None
    _check_size(str(path), where, size // _WORKBOOK_TIMES, limits)
