"""Compressed files and archives, unpacked within bounds."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from plait.core.account.errors import SourceError
from plait.formats.delivery.scratch import scratch

COMPRESSED = (".gz", ".bz2", ".xz", ".zst")
ARCHIVE = ".zip"
_ALWAYS_ALLOWED = 256 << 20
_MOST_TIMES = 250
_STEP = 1 << 20
_BROKEN = (
    OSError,
    EOFError,
    lzma.LZMAError,
    zlib.error,
    zipfile.BadZipFile,
    RuntimeError,
    NotImplementedError,
)


def inner_ending(path: str) -> str:
    """The ending that says the format, below that of a compression.

    >>> inner_ending("may.csv.gz"), inner_ending("may.XLSX")
    ('.csv', '.xlsx')
    """
    plain = Path(path)
    if plain.suffix.lower() in COMPRESSED:
        plain = plain.with_suffix("")
    return plain.suffix.lower()


class Bounded(io.RawIOBase):
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

    def __init__(self, stream: IO[bytes], packed: int, where: str) -> None:
        self._stream, self._where, self._taken = stream, where, 0
        self._most = max(_ALWAYS_ALLOWED, _MOST_TIMES * packed)

    def readable(self) -> bool:
        """It is."""
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        """Fill the buffer as far as one step goes; 0 at the end."""
        try:
            data = self._stream.read(len(buffer))
        except _BROKEN as error:
            raise _broken(self._where, error) from None
        self._taken += len(data)
        if self._taken > self._most:
            raise SourceError(
                f"it unpacks to more than {self._most >> 20:,} MiB, over {_MOST_TIMES} times "
                "its size",
                self._where,
                "if it is what you expect: unpack it first, and give the file in it",
            )
        buffer[: len(data)] = data
        return len(data)

    def close(self) -> None:
        """Close what lies below too."""
        if not self.closed:
            self._stream.close()
        super().close()


def _broken(where: str, error: BaseException) -> SourceError:
    return SourceError(f"it cannot be unpacked: {error}", where, "is the file whole? get it again")


def unpacked(path: str, member: str = "") -> IO[bytes]:
    """The bytes of a compressed file, or of a member of an archive.

    Raises
    ------
    SourceError
        When it cannot be unpacked.
    """
    where = f"{path}#{member}" if member else path
    packed = Path(path).stat().st_size
    try:
        stream = _member(path, member) if member else _decompressing(path)
    except _BROKEN as error:
        raise _broken(where, error) from None
    return Bounded(stream, packed, where)  # type: ignore[return-value]


def _member(path: str, member: str) -> IO[bytes]:
    with zipfile.ZipFile(path) as archive:
        return archive.open(member)  # which keeps the file open for as long as it needs


def _decompressing(path: str) -> IO[bytes]:
    ending = Path(path).suffix.lower()
    if ending == ".zst":
        import pyarrow as pa

        return pa.input_stream(path, compression="zstd")  # type: ignore[no-any-return]
    opener = {".gz": gzip.open, ".bz2": bz2.open, ".xz": lzma.open}[ending]
    return opener(path, "rb")  # type: ignore[operator, no-any-return]


def members(path: str) -> list[str]:
    """The names of the files in an archive, without those that systems put there for themselves.

    Raises
    ------
    SourceError
        When it is no archive, or a broken one.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            names = [info.filename for info in archive.infolist() if not info.is_dir()]
    except (OSError, zipfile.BadZipFile) as error:
        raise _broken(path, error) from None
    return [
        name
        for name in names
        if not name.startswith("__MACOSX/") and not Path(name).name.startswith(".")
    ]


@contextmanager
def as_file(path: str, member: str, ending: str) -> Iterator[Path]:
    """The source as a plain file: itself, or unpacked in a temporary folder for as long as needed.

    The name of the file is made here, so that none in an archive can lead out of the folder.
    """
    if not member and Path(path).suffix.lower() not in COMPRESSED:
        yield Path(path)
        return
    with scratch() as folder:
        target = folder / f"unpacked{ending}"
        with unpacked(path, member) as stream, target.open("wb") as file:
            while data := stream.read(_STEP):
                file.write(data)
        yield target


def check_archive_size(path: Path, where: str) -> None:
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
    except (OSError, zipfile.BadZipFile) as error:
        raise _broken(where, error) from None
    most = max(4 * _ALWAYS_ALLOWED, _MOST_TIMES * path.stat().st_size)
    if size > most:
        raise SourceError(
            f"it unpacks to {size >> 20:,} MiB, over {_MOST_TIMES} times its size",
            where,
            "open it in a spreadsheet program and save it as CSV",
        )
