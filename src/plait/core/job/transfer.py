"""Objects sent to other processes: what is large in them stands in files, and is sent as a name.

Buffers of Arrow's and arrays of NumPy's are put into one file for each parcel, unless they
stand in such a file already. Whoever opens the parcel maps the file.
"""

from __future__ import annotations

import io
import os
import pickle
import secrets
import shutil
from bisect import bisect_right
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import numpy as np
import pyarrow as pa

from plait.core.base.errors import scratch_full_error
from plait.core.job.current import current_job
from plait.core.job.mapped_files import list_mapped_files, map_named_file

_SMALL, _AT_ONCE = 1 << 14, 1 << 24
_ALIGNED = 64

Place = tuple[str, int, int]


@dataclass(frozen=True)
class Payload:
    """An object as bytes, and the file that some of it is in.

    Parameters
    ----------
    file : str, optional
        Without it all is in the bytes.
    """

    data: bytes
    file: str | None = None


def pack_payload(value: Any, folder: Path, lends: bool = True) -> Payload:
    """An object as a parcel, what is large in it in a file of a folder.

    Parameters
    ----------
    folder : path
        All who may open it see it under this name.
    lends : bool
        Whether what stands in a file already stays there. Without it all is in the parcel's own,
        which outlives the job.

    Raises
    ------
    ScratchError
        When the file cannot be written.
    """
    out = io.BytesIO()
    lender = _Lender(out, folder, lends)
    try:
        lender.dump(value)
    finally:
        lender.close()
    return Payload(out.getvalue(), lender.file)


def unpack_payload(parcel: Payload, keep: bool = True) -> Any:
    """What is in a parcel.

    Parameters
    ----------
    keep : bool
        Whether its file stays; else it goes when nothing in it is used any more.

    Examples
    --------
    >>> from tempfile import TemporaryDirectory
    >>> with TemporaryDirectory() as folder:
    ...     sent = pack_payload({"codes": np.arange(100_000)}, Path(folder))
    ...     unpack_payload(sent, keep=False)["codes"][-1], len(sent.data) < 1000
    (np.int64(99999), True)
    """
    region = map_named_file(parcel.file, owned=not keep) if parcel.file else None
    value = pickle.loads(parcel.data)
    del region  # by now it is held by what stands in it
    return value


class _Lender(pickle.Pickler):
    """Pickles everything but large buffers and arrays."""

    def __init__(self, out: IO[bytes], folder: Path, lends: bool) -> None:
        super().__init__(out, protocol=5)
        self._folder = folder
        self.file: str | None = None
        self._open: Any = None
        self._size = 0
        self._places: dict[tuple[int, int], Place] = {}
        files = list_mapped_files() if lends else []
        self._regions = sorted(files, key=lambda mapped_file: mapped_file.address)
        self._begins = [region.address for region in self._regions]

    def reducer_override(self, value: Any) -> Any:
        """How a large buffer or array is told; ``NotImplemented`` for all else."""
        if isinstance(value, pa.Buffer) and value.size > _SMALL:
            return _buffer, self._put_region(value.address, value.size, lambda: memoryview(value))
        if isinstance(value, np.ndarray) and value.nbytes > _SMALL and _is_plain(value):
            flat = value.reshape(-1)
            place = self._put_region(
                value.ctypes.data, value.nbytes, lambda: flat.view(np.uint8).data
            )
            return _array, (*place, value.dtype.str, value.shape)
        return NotImplemented

    def _put_region(self, address: int, size: int, data: Callable[[], memoryview]) -> Place:
        place = self._standing(address, size) or self._places.get((address, size))
        if place is None:
            place = self._places[address, size] = self._written(data())
        return place

    def _standing(self, address: int, size: int) -> Place | None:
        """Where it stands in a file that has a name."""
        number = bisect_right(self._begins, address) - 1
        if number < 0:
            return None
        region = self._regions[number]
        begin = address - region.address
        return (region.path, begin, size) if begin + size <= region.size else None

    def _written(self, data: memoryview) -> Place:
        try:
            if self._open is None:
                self.file = str(self._folder / secrets.token_hex(8))
                self._open = Path(self.file).open("xb", buffering=0)  # noqa: SIM115
            assert self.file
            begin, size = self._size, len(data)
            write_fully(self._open, data)
            write_fully(self._open, memoryview(bytes(-size % _ALIGNED)))
        except OSError as error:
            raise scratch_full_error(self._folder, error.strerror or str(error)) from None
        self._size += size + -size % _ALIGNED
        return self.file, begin, size

    def close(self) -> None:
        if self._open is not None:
            self._open.close()


def write_fully(file: Any, data: memoryview) -> None:
    """Write bytes to a file that, as it has no buffer, may take less than it was given."""
    while len(data):
        data = data[file.write(data) :]


def _is_plain(array: np.ndarray) -> bool:
    return array.flags.c_contiguous and not array.dtype.hasobject


def _buffer(path: str, begin: int, size: int) -> pa.Buffer:
    return map_named_file(path).buffer(begin, size)


def _array(path: str, begin: int, size: int, kind: str, shape: tuple[int, ...]) -> np.ndarray:
    return np.frombuffer(_buffer(path, begin, size), kind).reshape(shape)


@contextmanager
def create_shared_file() -> Iterator[IO[bytes]]:
    """A file in the scratch folder for whoever asked for the work, who takes it away.

    Raises
    ------
    ScratchError
        When it cannot be written.
    """
    memory_budget = current_job().spilling
    assert memory_budget is not None and memory_budget.folder is not None
    try:
        with (memory_budget.folder / secrets.token_hex(8)).open("xb", buffering=0) as file:
            yield file
    except OSError as error:
        raise scratch_full_error(memory_budget.folder, error.strerror or str(error)) from None


def append_file(file: IO[bytes], path: Path) -> None:
    """Write a file behind what another has, and take it away."""
    with path.open("rb", buffering=0) as part:
        try:
            while os.sendfile(file.fileno(), part.fileno(), None, _AT_ONCE):
                pass
        except (AttributeError, OSError):  # not on every system, nor to every kind of file
            shutil.copyfileobj(part, file, _AT_ONCE)
    path.unlink()


def remove_payload_file(parcel: Payload) -> None:
    """Take a parcel's file away; who has opened it keeps what is in it."""
    if parcel.file:
        Path(parcel.file).unlink(missing_ok=True)
