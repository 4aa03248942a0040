"""Every key of a plan, and every file of a handover, told from the model itself."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from types import NoneType, UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic.fields import FieldInfo

from plait.plan.file.model import STEPS, Change, Expect, Handover, Notice, Part, Plan, Source, Work

HANDOVER_FILES = (
    ("RESULT.csv, …", "the dataset, in every format that `formats` names"),
    (
        "report.html",
        "the report as one page: the answer, the plan as a picture, ledger, match "
        "rates by source, expectations, findings, columns, sources, how to run it "
        "again",
    ),
    ("report.md", "a short version of the report, in Markdown"),
    ("ledger.json", "the report as data: what `plait run --json` prints"),
    (
        "aside/",
        "every list of rows set aside, with reason, source, place (line, sheet row or key) "
        "and their cells as they were; a number in front of the name is that of the step",
    ),
    (
        "dictionary.csv",
        "each column: type, description, where it came from, missing, distinct, smallest, largest",
    ),
    (
        "datapackage.json",
        "every file with its size and SHA-256 checksum, and the column types, "
        "following the Data Package standard",
    ),
    (
        "plan.toml",
        "the plan as it was run, preceded by the sizes and SHA-256 checksums of its sources",
    ),
    ("lineage.parquet", "for each row of the dataset, the source rows it came from"),
)


@dataclass(frozen=True)
class KeySaid:
    """A key of a plan: its name, type, default, and what it is for."""

    name: str
    type: str
    default: str
    meaning: str


@dataclass(frozen=True)
class PartSaid:
    """A part of a plan: its heading in the file, what it is, and its keys."""

    topic: str
    heading: str
    meaning: str
    keys: tuple[KeySaid, ...]


def parts() -> list[PartSaid]:
    """All parts of a plan, in the order in which they are written."""
    said = [
        _part("plan", "the file", "Keys at the top of the file.", Plan),
        _part("source", "[source.NAME]", _first(Source), Source),
    ]
    for verb, kind in STEPS.items():
        said.append(_part(verb, "[[step]]", _first(kind), kind))
    said.append(_part("expect", "[expect]", _first(Expect), Expect))
    said.append(_part("change", "[expect.change]", _first(Change), Change))
    said.append(_part("handover", "[handover]", _first(Handover), Handover))
    said.append(_part("work", "[work]", _first(Work), Work))
    said.append(_part("notice", "[notice]", _first(Notice), Notice))
    return said


def part_of(topic: str) -> PartSaid | None:
    """The part that a topic is about."""
    return next((one for one in parts() if one.topic == topic), None)


def reference_markdown() -> str:
    """All keys as Markdown tables, for ``docs/plan.md``."""
    return "\n".join(_lines())


def _lines() -> Iterator[str]:
    for one in parts():
        name = f"`{one.heading}`" if one.heading.startswith("[") else "The top of the file"
        verb = f": `{one.topic}`" if one.heading == "[[step]]" else ""
        yield f"### {name}{verb}"
        yield ""
        yield one.meaning
        yield ""
        yield "| key | type | default | meaning |"
        yield "|---|---|---|---|"
        for key in one.keys:
            cells = (f"`{key.name}`", key.type, key.default, key.meaning)
            yield f"| {' | '.join(cell.replace('|', chr(92) + '|') for cell in cells)} |"
        yield ""


def _first(kind: type[Part]) -> str:
    return (kind.__doc__ or "").strip().splitlines()[0].replace("``", "`")


def _part(topic: str, heading: str, meaning: str, kind: type[Part]) -> PartSaid:
    fields = kind.model_fields
    # The verb first, what all steps have last.
    order = sorted(fields, key=lambda name: (name != topic, name == "into"))
    return PartSaid(topic, heading, meaning, tuple(_key(name, fields[name]) for name in order))


def _key(name: str, field: FieldInfo) -> KeySaid:
    return KeySaid(name, _type(field.annotation), _default(field), field.description or "")


def _default(field: FieldInfo) -> str:
    value = field.default
    if field.is_required():
        return "needed"
    if value is None or value in ({}, [], "") or isinstance(value, Part):
        return ""
    if isinstance(value, bool):
        return str(value).lower()
    return f'"{value}"' if isinstance(value, str) else str(value).replace("'", '"')


def _type(kind: Any) -> str:
    """A type in words."""
    origin, inner = get_origin(kind), get_args(kind)
    if origin is Annotated:
        return _type(inner[0])
    if origin in (Union, UnionType):
        words = dict.fromkeys(_type(one) for one in inner if one is not NoneType)
        return " or ".join(words)
    if origin is Literal:
        return " or ".join(f"`{one}`" for one in inner)
    if origin is list:
        return "list of lists" if get_origin(inner[0]) is list else "list"
    if origin is dict:
        return "table"
    if isinstance(kind, type) and issubclass(kind, Part):
        return "table"
    plain = {str: "text", int: "whole number", float: "number", bool: "true or false"}
    return plain.get(kind, "value")
