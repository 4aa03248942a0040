"""The descriptor of a handover, after the Data Package standard (specs.frictionlessdata.io)."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import Any

from plait.core.profiling.contents import ColumnContents
from plait.core.types.column_type import ColumnType
from plait.core.types.value_formats import number_formats
from plait.io.delimited.text_format import PLAIN_TEXT, TextFormat
from plait.report.account import OutputSummary
from plait.report.run_report import RunReport

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


def package_json(
    run_report: RunReport,
    outputs: Sequence[OutputSummary],
    seal: str = "",
    seals: Mapping[str, str] | None = None,
    text_format: TextFormat = PLAIN_TEXT,
) -> str:
    """The descriptor as JSON text.

    Parameters
    ----------
    outputs : sequence of OutputSummary
        Every file of the handover but the descriptor, paths from its folder.
    seal : str
        By which whoever hands it over knows it again.
    seals : mapping of str to str, optional
        The same of the lineage of each further result, by its file.
    text_format : TextFormat
        How the text files of the dataset are written.

    Notes
    -----
    The first file of the dataset that is text has a schema of its columns.
    """
    taken: set[str] = set()
    descriptor: dict[str, Any] = {
        "profile": "data-package",
        "name": _slug(run_report.title or run_report.result, set()),
        "title": run_report.title or run_report.result,
        "sources": [{"title": r.name, "path": r.path} for r in _once(run_report)],
        "resources": [_resource(output, run_report, taken, text_format) for output in outputs],
    }
    if seal:
        descriptor["seal"] = seal
    if seals:
        descriptor["seals"] = dict(seals)
    return json.dumps(descriptor, indent=2, ensure_ascii=False)


def _once(run_report: RunReport) -> list[Any]:
    """Each file once: of a workbook with several sheets the first."""
    return list({source.path: source for source in reversed(run_report.sources)}.values())[::-1]


def _resource(
    output: OutputSummary, run_report: RunReport, taken: set[str], text_format: TextFormat
) -> dict[str, Any]:
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
    contents = {run_report.result: run_report.contents}
    contents |= {one.name: one.contents for one in run_report.further}
    dataset = contents.get(output.path.removesuffix(f".{ending}"))
    if dataset is not None and ending in ("csv", "tsv"):
        made["profile"] = "tabular-data-resource"
        made["encoding"] = text_format.encoding.removesuffix("-bom")
        made["dialect"] = {
            "delimiter": text_format.delimiter or ("," if ending == "csv" else "\t"),
            "doubleQuote": True,
            "quoteChar": '"',
            "header": True,
        }
        made["schema"] = {
            "fields": [_field(content, run_report, text_format) for content in dataset]
        }
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


def _field(
    content: ColumnContents, run_report: RunReport, text_format: TextFormat
) -> dict[str, Any]:
    """A column's name, type and form; with other markers for missing in it, it is text."""
    type_ = content.profile.kind
    made: dict[str, Any] = {"name": content.name}
    plain = "string" if content.profile.markers else _TYPES.get(type_.family, "string")
    made["type"] = plain
    if plain == "number" and text_format.decimal != ".":
        made |= {"decimalChar": text_format.decimal}
    elif plain == "date" and text_format.dates:
        made |= {"format": text_format.dates}
    elif plain == "datetime" and text_format.dates:
        made |= {"type": "string"}  # the time behind the day is as each cell has it
    elif not type_.is_plain and plain != "string":
        made |= _form(type_)
    if run_report.description(content.name):
        made["description"] = run_report.description(content.name)
    return made


def _form(type_: ColumnType) -> dict[str, Any]:
    if type_.family in ("date", "datetime", "time"):
        return {"format": type_.written}
    if type_.family == "boolean":
        return {"type": "string"}
    form = next(
        (number_format for number_format in number_formats() if number_format.name == str(type_)),
        None,
    )
    if form is None:
        return {}
    made: dict[str, Any] = {"decimalChar": form.point} if form.point else {}
    made |= {"groupChar": form.group} if form.group else {}
    return made | ({"bareNumber": False} if form.beside else {})
