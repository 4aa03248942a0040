"""Every key of a plan, and every file of a handover, told from the model itself."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from types import NoneType, UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic.fields import FieldInfo

from plait.plan.file.model import (
    STEPS,
    ChangeExpectations,
    EvidencePairs,
    ExpectSection,
    HandoverSection,
    NoticeSection,
    Plan,
    PlanSection,
    Source,
    WorkSection,
)

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
    (
        "digests.parquet",
        "of a large dataset, digests of its rows, by which the next run tells what is new",
    ),
)


@dataclass(frozen=True)
class KeyReference:
    """A key of a plan: its name, type, default, and what it is for."""

    name: str
    type: str
    default: str
    meaning: str


@dataclass(frozen=True)
class SectionReference:
    """A part of a plan: its heading in the file, what it is, and its keys."""

    topic: str
    heading: str
    meaning: str
    keys: tuple[KeyReference, ...]


def plan_sections() -> list[SectionReference]:
    """All parts of a plan, in the order in which they are written."""
    texts = [
        _part("plan", "the file", "Keys at the top of the file.", Plan),
        _part("source", "[source.NAME]", _first(Source), Source),
    ]
    for spec, kind in STEPS.items():
        texts.append(_part(spec, "[[step]]", _first(kind), kind))
    heading = "pairs = { … } of a step"
    texts.append(_part("pairs", heading, _first(EvidencePairs), EvidencePairs))
    texts.append(_part("expect", "[expect]", _first(ExpectSection), ExpectSection))
    texts.append(_part("change", "[expect.change]", _first(ChangeExpectations), ChangeExpectations))
    texts.append(_part("handover", "[handover]", _first(HandoverSection), HandoverSection))
    texts.append(_part("work", "[work]", _first(WorkSection), WorkSection))
    texts.append(_part("notice", "[notice]", _first(NoticeSection), NoticeSection))
    return texts


def plan_section(topic: str) -> SectionReference | None:
    """The part that a topic is about."""
    return next((section for section in plan_sections() if section.topic == topic), None)


def reference_markdown() -> str:
    """All keys as Markdown tables, for ``docs/plan.md``."""
    return "\n".join(_lines())


def _lines() -> Iterator[str]:
    for section in plan_sections():
        name = "The top of the file" if section.topic == "plan" else f"`{section.heading}`"
        spec = f": `{section.topic}`" if section.heading == "[[step]]" else ""
        yield f"### {name}{spec}"
        yield ""
        yield section.meaning
        yield ""
        yield "| key | type | default | meaning |"
        yield "|---|---|---|---|"
        for key in section.keys:
            cells = (f"`{key.name}`", key.type, key.default, key.meaning)
            yield f"| {' | '.join(cell.replace('|', chr(92) + '|') for cell in cells)} |"
        yield ""


def _first(kind: type[PlanSection]) -> str:
    return (kind.__doc__ or "").strip().splitlines()[0].replace("``", "`")


def _part(topic: str, heading: str, meaning: str, kind: type[PlanSection]) -> SectionReference:
    fields = kind.model_fields
    # The operation first, what all steps have last.
    order = sorted(fields, key=lambda name: (name != topic, name == "into"))
    return SectionReference(
        topic, heading, meaning, tuple(_key(name, fields[name]) for name in order)
    )


def _key(name: str, field: FieldInfo) -> KeyReference:
    return KeyReference(name, _type(field.annotation), _default(field), field.description or "")


def _default(field: FieldInfo) -> str:
    value = field.default
    if field.is_required():
        return "needed"
    if value is None or value in ({}, [], "") or isinstance(value, PlanSection):
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
        words = dict.fromkeys(_type(i) for i in inner if i is not NoneType)
        return " or ".join(words)
    if origin is Literal:
        return " or ".join(f"`{one}`" for one in inner)
    if origin is list:
        return "list of lists" if get_origin(inner[0]) is list else "list"
    if origin is dict:
        return "table"
    if isinstance(kind, type) and issubclass(kind, PlanSection):
        return "table"
    plain = {str: "text", int: "whole number", float: "number", bool: "true or false"}
    return plain.get(kind, "value")
