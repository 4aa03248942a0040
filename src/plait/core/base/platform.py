"""What the system is, asked in one place."""

from __future__ import annotations

try:
    import fcntl
except ImportError:
    IS_POSIX = False
else:
    #: Whether files, folders, signals and memory are those of POSIX: Linux, macOS; not Windows.
    IS_POSIX = bool(fcntl)
