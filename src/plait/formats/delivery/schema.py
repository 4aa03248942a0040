"""How often the tables of a SQLite file were changed: what tells whether a change was made."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any
from urllib.parse import quote


def schema_version(path: Any) -> int | None:
    """The number that SQLite raises with every change of a table's making; None without one.

    A change that was cut short is taken back by SQLite when the file is opened.
    """
    try:
        address = f"file:{quote(str(Path(path).absolute()))}?mode=rw"
        with closing(sqlite3.connect(address, uri=True)) as base:
            (version,) = base.execute("PRAGMA schema_version").fetchone()
    except (sqlite3.Error, TypeError, ValueError):
        return None
    return int(version)
