"""Labels: a column that says of each row which extract it came from."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from pathlib import PurePath

import pyarrow as pa

from plait.core.account.errors import UsageError
from plait.core.account.names import nearest
from plait.core.table.strand import AnyOrigin
from plait.core.text.cells import repeated

FIELDS = ("file", "stem", "folder", "sheet")


def label_text(template: str, origin: AnyOrigin) -> str:
    """The template with its fields filled in for a source.

    Raises
    ------
    UsageError
        For a field that there is not.

    Examples
    --------
    >>> from plait.core.table.strand import Origin
    >>> label_text("{folder}/{stem}", Origin("may", "in/2031-05.csv", 3))
    'in/2031-05'
    """
    path, _, sheet = origin.path.partition("#")
    file = PurePath(path)
    fields = {"file": file.name, "stem": file.stem, "folder": file.parent.name, "sheet": sheet}

    def filled(match: re.Match[str]) -> str:
        if match[1] not in fields:
            raise UsageError(
                f"a label has no field {{{match[1]}}}",
                remedy=nearest(match[1], FIELDS) or f"one of {', '.join(FIELDS)}",
            )
        return fields[match[1]]

    return re.sub(r"\{([^{}]*)\}", filled, template)


def label_column(template: str, origins: Iterable[AnyOrigin]) -> pa.ChunkedArray:
    """The label of every row of these sources; its pieces share their memory."""
    chunks: list[pa.Array] = []
    for origin in origins:
        chunks += repeated(label_text(template, origin), origin.rows)
    return pa.chunked_array(chunks, pa.string())


def parse_labels(labels: Mapping[str, str] | Iterable[str]) -> dict[str, str]:
    """Column and template from ``COLUMN={stem}`` texts, or a mapping.

    >>> parse_labels(["month={stem}"])
    {'month': '{stem}'}
    """
    if isinstance(labels, Mapping):
        return dict(labels)
    parsed = {}
    for label in labels:
        column, sign, template = label.partition("=")
        if not sign or not column:
            raise UsageError(f"no column in label {label!r}", remedy="write --label month={stem}")
        parsed[column] = template
    return parsed
