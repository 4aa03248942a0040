"""How much memory a job may take: as a person says it, or half of what is free."""

from __future__ import annotations

import re
from contextlib import suppress
from pathlib import Path

from plait.core.account.errors import UsageError

LEAST = 256 << 20  # the program, its libraries, and what passes through at a time
_UNITS = {"K": 10, "M": 20, "G": 30, "T": 40}
_GROUP = Path("/sys/fs/cgroup")


def memory_of(text: str) -> int:
    """Bytes of memory, as a person writes them.

    Raises
    ------
    UsageError
        For what is not an amount, or too little to work with.

    Examples
    --------
    >>> memory_of("2GB"), memory_of("512 MiB")
    (2147483648, 536870912)
    """
    match = re.fullmatch(
        r"([0-9]{1,6}(?:\.[0-9]{1,3})?) ?([KMGT])i?B?", text.strip(), re.IGNORECASE
    )
    if not match:
        raise UsageError(f"{text!r} is not a memory size", remedy="such as 500MB or 2GB")
    size = int(float(match[1]) * (1 << _UNITS[match[2].upper()]))
    if size < LEAST:
        raise UsageError(
            f"{text} of memory is too little to work with", remedy=f"{LEAST >> 20}MB or more"
        )
    return size


def half_of_free() -> int:
    """Half of the memory that the machine, or the group of processes this one is in, has free."""
    return max(LEAST, _free() // 2)


def _free() -> int:
    """Bytes that are free; as much as any machine has where the system does not tell."""
    return min(_of_machine(), _of_group())


def _of_machine(path: Path = Path("/proc/meminfo")) -> int:
    with suppress(OSError):
        match = re.search(r"MemAvailable: +([0-9]+) kB", path.read_text())
        if match:
            return int(match[1]) << 10
    return 16 << 30


def _of_group(root: Path = _GROUP) -> int:
    """What the control groups above this process leave it, version 2 or 1."""
    most = 1 << 60
    for limit, used in _groups(root):
        with suppress(OSError, ValueError):
            most = min(most, int(limit.read_text()) - int(used.read_text()))
    return max(most, 0)


def _groups(root: Path) -> list[tuple[Path, Path]]:
    """Files with the limit and the use of each group."""
    found = [(root / "memory" / "memory.limit_in_bytes", root / "memory" / "memory.usage_in_bytes")]
    place = ""
    with suppress(OSError):
        lines = Path("/proc/self/cgroup").read_text().splitlines()
        place = next((line[4:] for line in lines if line.startswith("0::/")), "")
    folder = root / place
    for one in (folder, *folder.parents):
        found.append((one / "memory.max", one / "memory.current"))
        if one == root:
            break
    return found
