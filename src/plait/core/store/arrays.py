"""NumPy's arrays in scratch files, once those in memory have taken their share.

NumPy lets a program bring its own allocator (NEP 49, "Data allocation strategies"). The one
here gives small arrays memory as ever, and counts large ones; when they have taken what they
may, the next large one is mapped from a file without a name. So no computation has to know
where its arrays are, and none comes out differently.
"""

from __future__ import annotations

import ctypes
import os
import signal
import sys
import tempfile
import threading
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any

from plait.core.store.mapping import MAPPINGS

LARGE = 4 << 20
_SET_HANDLER = 304  # its place in NumPy's table of functions, the same in all versions
_ADDRESS, _SIZE = ctypes.c_void_p, ctypes.c_size_t
_LATER_SECONDS = 0.005


class _Allocator(ctypes.Structure):
    _fields_ = [
        ("context", _ADDRESS),
        *((name, _ADDRESS) for name in ("malloc", "calloc", "realloc", "free")),
    ]


class _Handler(ctypes.Structure):
    _fields_ = [
        ("name", ctypes.c_char * 127),
        ("version", ctypes.c_uint8),
        ("allocator", _Allocator),
    ]


class ScratchArrays:
    """An allocator for NumPy that keeps large arrays to a share of memory.

    Parameters
    ----------
    folder : path
        Where the files are.
    share : int
        Bytes of memory that large arrays may take.
    large : int
        Bytes from which on an array is large.

    Attributes
    ----------
    fault : OSError or None
        Why the last file could not be made.
    """

    def __init__(self, folder: Path, share: int, large: int = LARGE) -> None:
        self._folder, self._share, self._large = folder, share, large
        self._held: dict[int, int] = {}
        self._taken = 0
        self._lock = threading.RLock()
        self.fault: OSError | None = None
        self._back: Callable[[], Any] = lambda: None
        self._c = _c_library()
        self._made = self._callbacks()

    def use(self) -> None:
        """Have all arrays that are made from here on, in this context, made so."""
        core = import_module("numpy._core._multiarray_umath")
        pointer = ctypes.pythonapi.PyCapsule_GetPointer
        pointer.restype, pointer.argtypes = _ADDRESS, (ctypes.py_object, ctypes.c_char_p)
        functions = ctypes.cast(pointer(core._ARRAY_API, None), ctypes.POINTER(_ADDRESS))
        place = functions[_SET_HANDLER]
        assert place is not None
        set_handler = ctypes.PYFUNCTYPE(ctypes.py_object, ctypes.py_object)(place)
        before = set_handler(self._capsule)
        self._back = lambda: set_handler(before)

    def leave(self) -> None:
        """Have arrays made as before; those that are in files stay there."""
        self._share = sys.maxsize
        self._back()

    @property
    def codes(self) -> frozenset[Any]:
        """The code that NumPy calls into: no exception may come up there."""
        return frozenset(
            one.__code__
            for one in (self._malloc, self._calloc, self._realloc, self._free, self._new)
        )

    def _callbacks(self) -> Any:
        """What NumPy is given; it must live as long as any array."""
        kinds = (
            ctypes.CFUNCTYPE(_ADDRESS, _ADDRESS, _SIZE)(self._malloc),
            ctypes.CFUNCTYPE(_ADDRESS, _ADDRESS, _SIZE, _SIZE)(self._calloc),
            ctypes.CFUNCTYPE(_ADDRESS, _ADDRESS, _ADDRESS, _SIZE)(self._realloc),
            ctypes.CFUNCTYPE(None, _ADDRESS, _ADDRESS, _SIZE)(self._free),
        )
        places = (ctypes.cast(one, _ADDRESS).value for one in kinds)
        handler = _Handler(b"plait", 1, _Allocator(None, *places))
        capsule = ctypes.pythonapi.PyCapsule_New
        capsule.restype = ctypes.py_object
        capsule.argtypes = (_ADDRESS, ctypes.c_char_p, _ADDRESS)
        self._capsule = capsule(ctypes.addressof(handler), b"mem_handler", None)
        ctypes.pythonapi.Py_IncRef(ctypes.py_object(self))
        return kinds, handler

    def _malloc(self, _: Any, size: int) -> Any:
        return self._c.malloc(size) if size < self._large else self._new(size, self._c.malloc, size)

    def _calloc(self, _: Any, number: int, each: int) -> Any:
        size = number * each
        if size < self._large:
            return self._c.calloc(number, each)
        return self._new(size, self._c.calloc, number, each)

    def _new(self, size: int, in_memory: Callable[..., Any], *how: int) -> Any:
        """A large block: in memory within the share, else in a file. All of it is zero there."""
        with self._lock:
            if self._taken + size > self._share:
                return self._in_file(size)
            address = in_memory(*how)
            if address:
                self._held[address] = size
                self._taken += size
        return address

    def _in_file(self, size: int) -> int | None:
        try:
            with tempfile.TemporaryFile(dir=self._folder, buffering=0) as file:
                _reserve(file.fileno(), size)
                return MAPPINGS.map(file.fileno(), size, True)
        except OSError as error:
            self.fault = error
            return None  # which NumPy takes for too little memory

    def _realloc(self, _: Any, address: Any, size: int) -> Any:
        mapped = MAPPINGS.size_at(address)
        if mapped:
            made = self._malloc(None, size)
            if made:
                ctypes.memmove(made, address, min(size, mapped))
                MAPPINGS.unmap(address)
            return made
        with self._lock:  # what grows where it is stays in memory, and is counted no more
            self._taken -= self._held.pop(address, 0)
        return self._c.realloc(address, size)

    def _free(self, _: Any, address: int | None, size: int) -> None:
        if size >= self._large and address:
            if MAPPINGS.size_at(address):
                MAPPINGS.unmap(address)
                return
            with self._lock:
                self._taken -= self._held.pop(address, 0)
        self._c.free(address)


def _c_library() -> Any:
    library = ctypes.CDLL(None)
    for name, takes in (
        ("malloc", (_SIZE,)),
        ("calloc", (_SIZE, _SIZE)),
        ("realloc", (_ADDRESS, _SIZE)),
    ):
        function = getattr(library, name)
        function.restype, function.argtypes = _ADDRESS, takes
    library.free.restype, library.free.argtypes = None, (_ADDRESS,)
    return library


def _reserve(number: int, size: int) -> None:
    """Have the room before it is needed: a full disk would end the process later."""
    if hasattr(os, "posix_fallocate"):
        os.posix_fallocate(number, 0, size)
    else:
        os.ftruncate(number, size)


def hold_signals(codes: frozenset[Any]) -> None:
    """Have interrupts wait for a moment that come while NumPy asks for memory.

    An exception cannot go through NumPy's own code: it would be lost there.
    """
    if threading.current_thread() is not threading.main_thread():
        return
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        handler = signal.getsignal(number) if number else None
        if number and callable(handler):
            signal.signal(number, _waiting(handler, codes))


def _waiting(handler: Any, codes: frozenset[Any]) -> Any:
    def handle(number: int, frame: Any) -> Any:
        if frame is not None and _within(frame, codes):
            again = threading.Timer(_LATER_SECONDS, signal.raise_signal, (number,))
            again.daemon = True
            again.start()
            return None
        return handler(number, frame)

    return handle


def _within(frame: Any, codes: frozenset[Any]) -> bool:
    """Whether code that NumPy called is being carried out."""
    while frame is not None:
        if frame.f_code in codes:
            return True
        frame = frame.f_back
    return False
