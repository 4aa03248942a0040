"""The descriptor of a handover, after the Data Package standard (specs.frictionlessdata.io)."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import Any

from plait.core.look.contents import Content
from plait.core.types.forms import base
from plait.core.types.numberforms import number_forms
from plait.report.account import Output
from plait.report.story import Story

_TYPES = {
    "integer": "integer",
    "decimal": "number",
    "boolean": "boolean",
    "date": "date",
    "datetime": "datetime",
    "time": "time",
}
_MEDIA = {
    "csv": "text/csv",
    "tsv": "text/tab-separated-values",
    "json": "application/json",
    "jsonl": "application/jsonl",
    "html": "text/html",
    "md": "text/markdown",
    "toml": "application/toml",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "parquet": "application/vnd.apache.parquet",
    "arrow": "application/vnd.apache.arrow.file",
    "sqlite": "application/vnd.sqlite3",
}


def package_json(story: Story, outputs: Sequence[Output], seal: str = "") -> str:
    """The descriptor as JSON text.

    Parameters
    ----------
    story : Story
    outputs : sequence of Output
        Every file of the handover but the descriptor, paths from its folder.
    seal : str
        By which whoever hands it over knows it again.

    Notes
    -----
    The first file of the dataset that is text has a schema of its columns.
    """
    taken: set[str] = set()
    descriptor: dict[str, Any] = {
        "profile": "data-package",
        "name": _slug(story.title or story.result, set()),
        "title": story.title or story.result,
        "sources": [{"title": one.name, "path": one.path} for one in _once(story)],
        "resources": [_resource(one, story, taken) for one in outputs],
    }
    if seal:
        descriptor["seal"] = seal
    return json.dumps(descriptor, indent=2, ensure_ascii=False)


def _once(story: Story) -> list[Any]:
    """Each file once: of a workbook with several sheets the first."""
    return list({one.path: one for one in reversed(story.sources)}.values())[::-1]


def _resource(output: Output, story: Story, taken: set[str]) -> dict[str, Any]:
    ending = output.path.rpartition(".")[2]
    made: dict[str, Any] = {
        "name": _slug(output.path, taken),
        "path": output.path,
        "format": ending,
        "mediatype": _MEDIA.get(ending, "application/octet-stream"),
        "bytes": output.bytes,
        "hash": f"sha256:{output.sha256}",
    }
    if ending in ("csv", "tsv", "json", "jsonl", "html", "md", "toml"):
        made["encoding"] = "utf-8"
    if output.path == f"{story.result}.{ending}" and ending in ("csv", "tsv"):
        made["profile"] = "tabular-data-resource"
        made["dialect"] = {
            "delimiter": "," if ending == "csv" else "\t",
            "doubleQuote": True,
            "quoteChar": '"',
            "header": True,
        }
        made["schema"] = {"fields": [_field(one, story) for one in story.contents]}
    return made


def _slug(text: str, taken: set[str]) -> str:
    """A name of small letters, digits, points and hyphens, unlike the others.

    >>> _slug("Season 2031", set())
    'season-2031'
    """
    name = re.sub(r"[^a-z0-9._]+", "-", text.lower()).strip("-") or "data"
    free, number = name, 2
    while free in taken:
        free, number = f"{name}-{number}", number + 1
    taken.add(free)
    return free


def _field(content: Content, story: Story) -> dict[str, Any]:
    """A column's name, type and form; with other markers for missing in it, it is text."""
    kind = content.profile.kind
    made: dict[str, Any] = {"name": content.name}
    plain = "string" if content.profile.markers else _TYPES.get(base(kind), "string")
    made["type"] = plain
    if ":" in kind and plain != "string":
        made |= _form(kind)
    if story.description(content.name):
        made["description"] = story.description(content.name)
    return made


def _form(kind: str) -> dict[str, Any]:
    if base(kind) in ("date", "datetime", "time"):
        return {"format": kind.partition(":")[2]}
    if base(kind) == "boolean":
        return {"type": "string"}
    form = next((one for one in number_forms() if one.name == kind), None)
    if form is None:
        return {}
    made: dict[str, Any] = {"decimalChar": form.point} if form.point else {}
    made |= {"groupChar": form.group} if form.group else {}
    return made | ({"bareNumber": False} if form.beside else {})
