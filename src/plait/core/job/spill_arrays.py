"""NumPy's arrays in scratch files, once those in memory have taken their share.

NumPy lets a program bring its own allocator (NEP 49, "Data allocation strategies"). The one
here gives every array memory as NumPy does; behind that of a large one it puts a file without
a name when much memory is taken already. So no computation has to know where its arrays are,
and none comes out differently. Memory is freed by NumPy's own function: whatever a program
does there could be lost, as arrays are freed while exceptions are on their way.
"""

from __future__ import annotations

import ctypes
import os
import platform
import signal
import sys
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any

from plait.core.job.mapped_files import MAPPINGS, PAGE, aligned_file_offset

LARGE = 4 << 20
_SET_HANDLER, _DEFAULT = 304, 306  # places in NumPy's table of functions, the same in all versions
_ADDRESS, _SIZE = ctypes.c_void_p, ctypes.c_size_t
_SOON_SECONDS, _LATER_SECONDS = 0.3, 0.005
_THRESHOLD = -3  # mallopt(3): from which size on memory is a region of its own


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


_MALLOC = ctypes.CFUNCTYPE(_ADDRESS, _ADDRESS, _SIZE)
_CALLOC = ctypes.CFUNCTYPE(_ADDRESS, _ADDRESS, _SIZE, _SIZE)


class SpillAllocator:
    """An allocator for NumPy that keeps large arrays to a share of memory.

    Parameters
    ----------
    folder : path
        Where the files are.
    share : int
        Bytes that may be taken before large arrays go to files.
    taken : callable
        How many bytes of memory without a file are taken.
    large : int
        Bytes from which on an array is large.

    Attributes
    ----------
    fault : OSError or None
        Why the last file could not be made.
    """

    def __init__(
        self, folder: Path, share: int, taken: Callable[[], int], large: int = LARGE
    ) -> None:
        self._folder, self._share, self._taken, self._large = folder, share, taken, large
        self._given: deque[tuple[float, int]] = deque()
        self._use: Callable[[], None] | None = None
        self._back: Callable[[], None] = lambda: None
        self.fault: OSError | None = None
        if platform.libc_ver()[0] == "glibc" and _takes_turns():
            # With another C library large memory may be no region of its own.
            ctypes.CDLL(None).mallopt(_THRESHOLD, max(large, 2 * PAGE))
            self._made = self._callbacks()

    def use(self) -> None:
        """Have all arrays that are made from here on, in this context, made so."""
        if self._use is not None:
            self._use()

    def leave(self) -> None:
        """Have arrays made as before; those that are in files stay there."""
        self._back()

    @property
    def codes(self) -> frozenset[Any]:
        """The code that NumPy calls into: no exception may come up there."""
        return frozenset(one.__code__ for one in (self._malloc, self._calloc, self._filed))

    def _callbacks(self) -> Any:
        """What NumPy is given; it must live as long as any array."""
        functions = _numpy_functions()
        usual = ctypes.cast(
            _pointer(ctypes.cast(functions[_DEFAULT], ctypes.POINTER(ctypes.py_object))[0]),
            ctypes.POINTER(_Handler),
        )[0].allocator
        # Called with the interpreter's lock held: NumPy's own let go of it themselves.
        self._usual_malloc = ctypes.PYFUNCTYPE(_ADDRESS, _ADDRESS, _SIZE)(usual.malloc)
        self._usual_calloc = ctypes.PYFUNCTYPE(_ADDRESS, _ADDRESS, _SIZE, _SIZE)(usual.calloc)
        ours = _MALLOC(self._malloc), _CALLOC(self._calloc)
        places = (ctypes.cast(our, _ADDRESS).value for our in ours)
        handler = _Handler(b"plait", 1, _Allocator(None, *places, usual.realloc, usual.free))
        capsule = ctypes.pythonapi.PyCapsule_New
        capsule.restype = ctypes.py_object
        capsule.argtypes = (_ADDRESS, ctypes.c_char_p, _ADDRESS)
        made = capsule(ctypes.addressof(handler), b"mem_handler", None)
        ctypes.pythonapi.Py_IncRef(ctypes.py_object(self))
        set_handler = ctypes.PYFUNCTYPE(ctypes.py_object, ctypes.py_object)(
            functions[_SET_HANDLER] or 0
        )

        def use() -> None:
            before = set_handler(made)
            self._back = lambda: set_handler(before)

        self._use = use
        return ours, handler, made

    def _malloc(self, _: Any, size: int) -> Any:
        address = self._usual_malloc(None, size)
        return address if size < self._large else self._filed(address, size)

    def _calloc(self, _: Any, number: int, each: int) -> Any:
        address = self._usual_calloc(None, number, each)
        return address if number * each < self._large else self._filed(address, number * each)

    def _filed(self, address: Any, size: int) -> Any:
        """Put a file behind large memory, where there is too little; all of it is zero yet."""
        now = time.monotonic()
        while self._given and self._given[0][0] < now - _SOON_SECONDS:
            self._given.popleft()
        soon = sum(one for _, one in self._given)  # given, and perhaps not touched yet
        if not address or self._taken() + soon + size <= self._share:
            self._given.append((now, size))
            return address
        begin = -(-address // PAGE) * PAGE
        length = (address + size) // PAGE * PAGE - begin
        try:
            if length > 0:
                with tempfile.TemporaryFile(dir=self._folder, buffering=0) as file:
                    _reserve(file.fileno(), aligned_file_offset(begin), length)
                    MAPPINGS.map_over(file.fileno(), begin, length)
        except OSError as error:
            self.fault = error
            return None  # which NumPy takes for too little memory
        return address


def _takes_turns() -> bool:
    """Whether threads have the interpreter in turn, on which letting go of pages rests."""
    return bool(getattr(sys, "_is_gil_enabled", lambda: True)())


def _numpy_functions() -> Any:
    """NumPy's table of functions for other libraries."""
    core = import_module("numpy._core._multiarray_umath")
    return ctypes.cast(_pointer(core._ARRAY_API, None), ctypes.POINTER(_ADDRESS))


def _pointer(capsule: Any, name: bytes | None = b"mem_handler") -> Any:
    pointer = ctypes.pythonapi.PyCapsule_GetPointer
    pointer.restype, pointer.argtypes = _ADDRESS, (ctypes.py_object, ctypes.c_char_p)
    return pointer(capsule, name)


def _reserve(number: int, begin: int, size: int) -> None:
    """Have the room before it is needed: a full disk would end the process later."""
    if hasattr(os, "posix_fallocate"):
        os.posix_fallocate(number, begin, size)
    else:
        os.ftruncate(number, begin + size)


def defer_signals_during_allocation(codes: frozenset[Any]) -> Callable[[], None] | None:
    """Have interrupts wait for a moment that come while NumPy asks for memory.

    An exception cannot go through NumPy's own code: it would be lost there.

    Returns
    -------
    callable or None
        Takes them as before. Only the main thread can take them otherwise.
    """
    if threading.current_thread() is not threading.main_thread():
        return None
    before: list[tuple[int, Any, Any]] = []
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        handler = signal.getsignal(number) if number else None
        if number and callable(handler):
            waiting = _waiting(handler, codes)
            signal.signal(number, waiting)
            before.append((number, handler, waiting))

    def as_before() -> None:
        for number, handler, waiting in before:
            if signal.getsignal(number) is waiting:
                signal.signal(number, handler)

    return as_before


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
