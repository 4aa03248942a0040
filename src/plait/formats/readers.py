"""Which reader reads a source: by the ending of its file, or the beginning of its address."""

from __future__ import annotations

from importlib import import_module
from typing import cast

from plait.formats.places.endings import (
    COLUMNAR,
    DATABASES,
    DELIMITED,
    JSON,
    JSON_LINES,
    WORKBOOKS,
)
from plait.formats.places.reader import Reader
from plait.formats.places.source import STANDARD_INPUT, Source

ROOMS = {
    **dict.fromkeys(DELIMITED, "text"),
    **dict.fromkeys((JSON, *JSON_LINES), "json"),
    **dict.fromkeys(WORKBOOKS, "workbooks"),
    **dict.fromkeys(COLUMNAR, "columnar"),
    **dict.fromkeys(DATABASES, "databases"),
}


def reader_of(source: Source) -> Reader:
    """The module that reads a source. Each is loaded when it is needed, so that nobody waits."""
    if source.path == STANDARD_INPUT:
        room = "text"
    else:
        room = "servers" if source.in_database else ROOMS[source.ending]
    return cast(Reader, import_module(f"plait.formats.{room}.reader"))
