"""A plan file read, checked and completed."""

from __future__ import annotations

import datetime as dt
import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError

from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.base.synonyms import suggest_word
from plait.core.table.key_spec import parse_assignments
from plait.io.places.address import Address, is_address, parameterize_secrets
from plait.plan.file.line_numbers import PlanDiagnostic, PlanError, key_line_numbers, line_of_path
from plait.plan.file.model import (
    STEPS,
    ChangeExpectations,
    ExpectSection,
    HandoverSection,
    NoticeSection,
    Plan,
    Source,
    WorkSection,
    step_operation,
)
from plait.plan.file.name_checks import find_undefined_names
from plait.plan.file.plan_text import read_plan_text

_PARAMETER = re.compile(r"(?<!\$)\$\{([^{}]*)\}")
_TAKEN_AS_IT_IS = re.compile(r"\$(\$\{[^{}]*\})")  # $${x} means the text ${x}
_HEADINGS: dict[tuple[str | int, ...], str] = {
    ("step",): "write [[step]]",
    ("source",): "write [source.NAME]",
}
_TOP = ("title", "origin")
_SECTIONS: dict[str, type[BaseModel]] = {
    "expect": ExpectSection,
    "handover": HandoverSection,
    "work": WorkSection,
    "notice": NoticeSection,
}


@dataclass(frozen=True)
class LoadedPlan:
    """A plan without mistakes of its own.

    Parameters
    ----------
    text : str
        As the file has it.
    lines : mapping
        The line of each key.
    parameters : mapping of str to value
        As they were filled in.
    """

    plan: Plan
    path: Path
    text: str
    lines: Mapping[tuple[str | int, ...], int]
    parameters: Mapping[str, Any]

    @property
    def folder(self) -> Path:
        """Paths in the plan start here."""
        return self.path.parent

    def without_secrets(self, text: str) -> str:
        """A text, such as that of the plan or of a value in it, with its passwords hidden."""
        return parameterize_secrets(text, _secrets(self.plan))

    def shown_parameters(self) -> dict[str, Any]:
        """The parameters with what they were set to, unless that is a secret."""
        return {
            name: self.without_secrets(f"'{value}'")[1:-1] if isinstance(value, str) else value
            for name, value in self.parameters.items()
        }

    def line(self, *path: str | int) -> int:
        """The line of a key, or of what is around it."""
        return line_of_path(self.lines, path)


def _secrets(plan: Plan) -> set[str]:
    """The passwords in a plan's addresses, and what a webhook keeps to itself."""
    every: dict[str, Any] = plan.source
    paths = [spec.path for spec in every.values()]
    words = [word for path in paths for word in ([path] if isinstance(path, str) else path)]
    if plan.handover and plan.handover.database:
        words.append(plan.handover.database)
    if plan.notice:
        words.append(plan.notice.server)
    names: set[str] = set()
    if plan.notice and plan.notice.webhook:  # what is behind the machine's name may be a secret
        names.add(plan.notice.webhook)
    for word in filter(is_address, words):
        with suppress(UsageError):  # a variable that is not there
            names.add(Address(word.partition("#")[0]).parts().password or "")
    return names - {""}


def load_plan(path: str | Path, settings: Iterable[str] | Mapping[str, str] = ()) -> LoadedPlan:
    """Read a plan.

    Parameters
    ----------
    settings : texts ``NAME=VALUE``, or a mapping
        Values for parameters that the plan declares.

    Raises
    ------
    SourceError
        When the file cannot be read.
    PlanError
        With every mistake in it.
    """
    try:
        return _loaded(Path(path), read_plan_text(Path(path)), settings)
    except RecursionError:
        raise PlanError(str(path), [PlanDiagnostic(1, "the plan is nested too deep")]) from None


def _loaded(path: Path, text: str, settings: Iterable[str] | Mapping[str, str]) -> LoadedPlan:
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise PlanError(str(path), [_syntax_fault(text, str(error))]) from None
    except ValueError:
        fault = PlanDiagnostic(1, "a number has too many digits")
        raise PlanError(str(path), [fault]) from None
    lines = key_line_numbers(text)
    parameters = _set(raw, parse_assignments(settings, "--set"), str(path))
    faults: list[PlanDiagnostic] = []
    filled = {
        key: value if key == "parameters" else _filled(value, parameters, (key,), lines, faults)
        for key, value in raw.items()
    }
    faults += find_undefined_names(filled, lines)
    try:
        plan = Plan.model_validate(filled)
    except ValidationError as error:
        raise PlanError(str(path), [*faults, *_model_faults(error, filled, lines)]) from None
    if faults:
        raise PlanError(str(path), faults)
    return LoadedPlan(plan, path, text, lines, parameters)


def _syntax_fault(text: str, said: str) -> PlanDiagnostic:
    match = re.search(r" \(at line (\d+), column \d+\)$", said)
    line = int(match[1]) if match else text.count("\n") + 1
    message = said[: match.start()] if match else said.replace(" (at end of document)", "")
    remedy = "texts go in 'single' or \"double\" quotes" if "Invalid value" in message else ""
    return PlanDiagnostic(line, f"not valid TOML: {message[:1].lower()}{message[1:]}", remedy)


def _set(raw: Mapping[str, Any], given: Mapping[str, str], path: str) -> dict[str, Any]:
    """The parameters, with the values that were given for them."""
    declared = raw.get("parameters", {})
    known = dict(declared) if isinstance(declared, dict) else {}
    for name, value in given.items():
        if name not in known:
            raise UsageError(
                f"the plan has no parameter {name!r}",
                path,
                suggest_name(name, known)
                or (f"it has {', '.join(known)}" if known else "write it under [parameters]"),
            )
        known[name] = _as_declared(name, value, known[name])
    return known


def _as_declared(name: str, value: str, declared: Any) -> Any:
    """A given text as a value of the type that the plan declares.

    Raises
    ------
    UsageError
        For one that is of another type.
    """
    if isinstance(declared, str):
        return value
    try:
        given = tomllib.loads(f"x = {value}")["x"]
    except tomllib.TOMLDecodeError:
        given = value
    except (RecursionError, ValueError):
        start = f"{value[:20]}…"
        raise UsageError(
            f"a parameter cannot be {start!r}", remedy="give a number or text"
        ) from None
    given_kind, declared_kind = _describe_value_kind(given), _describe_value_kind(declared)
    if given_kind != declared_kind:
        raise UsageError(
            f"{name} is {declared_kind} in the plan, and {value[:40]!r} is {given_kind}",
            remedy=f"--set {name}=… of that kind; the plan has {declared}",
        )
    return given


def _describe_value_kind(value: Any) -> str:
    """What a value of a plan is, in words: a whole number and any other are of one kind."""
    kinds = {bool: "true or false", int: "a number", float: "a number", str: "a text"}
    kinds |= {list: "a list", dict: "a table", dt.date: "a date", dt.time: "a time"}
    return kinds.get(type(value), "a date and time")


def _filled(
    value: Any,
    parameters: Mapping[str, Any],
    path: tuple[str | int, ...],
    lines: Mapping[tuple[str | int, ...], int],
    faults: list[PlanDiagnostic],
) -> Any:
    """A value with its parameters filled in."""
    if isinstance(value, dict):
        return {
            key: _filled(one, parameters, (*path, key), lines, faults) for key, one in value.items()
        }
    if isinstance(value, list):
        return [
            _filled(one, parameters, (*path, at), lines, faults) for at, one in enumerate(value)
        ]
    if not isinstance(value, str):
        return value
    for name in _PARAMETER.findall(value):
        if name not in parameters and not is_address(value):  # there it is of the environment
            remedy = suggest_name(name, parameters) or "declare it under [parameters]"
            text = f"unknown parameter {name!r}"
            faults.append(PlanDiagnostic(line_of_path(lines, path), text, remedy))
    match = _PARAMETER.fullmatch(value)
    if match and match[1] in parameters:
        return parameters[match[1]]
    filled = _PARAMETER.sub(lambda v: str(parameters.get(v[1], v[0])), value)
    return _TAKEN_AS_IT_IS.sub(r"\1", filled)


def _model_faults(
    error: ValidationError, raw: Mapping[str, Any], lines: Mapping[tuple[str | int, ...], int]
) -> Iterator[PlanDiagnostic]:
    """Each mistake the model found, in plain words; of a choice of types only one is told."""
    told: set[tuple[str | int, ...]] = set()
    for one in error.errors(include_url=False):
        path = _path_in_file(one["loc"], raw)
        if path in told:
            continue
        told.add(path)
        yield PlanDiagnostic(line_of_path(lines, path), *_in_words(one, path, raw))


def _path_in_file(loc: tuple[int | str, ...], raw: Any) -> tuple[str | int, ...]:
    """The part of a place that is in the file: the model's own names of types are left out."""
    path: list[str | int] = []
    if loc[0] == "step":
        loc = (*loc[:2], *loc[3:])  # the third is the operation, by which the model was chosen
    here = raw
    for part in loc:
        try:
            here = here[part]
        except (LookupError, TypeError):
            continue
        path.append(part)
    return tuple(path)


def _in_words(one: Any, path: tuple[str | int, ...], raw: Any) -> tuple[str, str]:
    kind, name = one["type"], one["loc"][-1]
    if kind == "extra_forbidden":
        names = _known_keys(path[:-1], raw)
        if path[:-1] and str(name) in _TOP:
            return f"unknown key {name!r}", f"write {name} at the top of the plan"
        return f"unknown key {name!r}", suggest_word(
            str(name), names
        ) or f"one of {', '.join(names)}"
    if kind == "missing":
        return f"{_called(path)} needs {name}", ""
    if kind.startswith("union_tag"):
        return _without_verb(one["input"])
    if kind == "literal_error":
        return f"{path[-1]} is {one['input']!r}", _choice(one)
    if kind == "too_short":
        return f"{path[-1]} needs at least {one['ctx']['min_length']} names", ""
    if kind == "too_long":
        return f"{path[-1]} takes {one['ctx']['max_length']} names", ""
    if kind == "value_error":
        return (
            f"{path[-1]} is {one['input']!r}, which is not an amount",
            "20, '10 %', '+20' or 'none'",
        )
    if kind == "greater_than_equal":
        return f"{path[-1]} is {one['input']}, and should not be below {one['ctx']['ge']}", ""
    expected = _describe_expected_kind(kind)
    text = f"{_called(path)} is {_said_type(one['input'])}, and should be {expected}"
    return text, _HEADINGS.get(path, "")


def _known_keys(path: tuple[str | int, ...], raw: Any) -> list[str]:
    """The keys that may be in the part of a plan at that path."""
    if path[:1] == ("source",):
        return list(Source.model_fields)
    if path[:1] == ("step",) and len(path) > 1:
        return list(STEPS[str(step_operation(raw["step"][path[1]]))].model_fields)
    section = _SECTIONS.get(str(path[0])) if path else None
    if section:
        return list(
            (ChangeExpectations if path[:2] == ("expect", "change") else section).model_fields
        )
    return list(Plan.model_fields)


def _without_verb(step: Any) -> tuple[str, str]:
    if not isinstance(step, dict):
        return "a step is a table: [[step]]", ""
    specs = [spec for spec in STEPS if spec in step]
    if len(specs) > 1:
        return (
            f"this step names several operations: {', '.join(specs)}",
            "write one [[step]] for each",
        )
    for key in step:
        near = suggest_name(key, STEPS)
        if near:
            return f"unknown step {key!r}", near
    return "this step names no operation", f"one of {', '.join(STEPS)}"


def _choice(one: Any) -> str:
    known = re.findall(r"'([^']*)'", one["ctx"]["expected"])
    return suggest_name(str(one["input"]), known) or f"one of {', '.join(known)}"


def _called(path: tuple[str | int, ...]) -> str:
    words = [str(part) for part in path if not isinstance(part, int)]
    return words[-1] if words else "the plan"


def _said_type(value: Any) -> str:
    return {
        bool: "true or false",
        int: "a number",
        float: "a number",
        str: "a text",
        list: "a list",
        dict: "a table",
    }.get(type(value), "a date or time")


def _describe_expected_kind(kind: str) -> str:
    return {
        "string_type": "a text",
        "list_type": "a list",
        "dict_type": "a table",
        "model_type": "a table",
        "int_type": "a whole number",
        "float_type": "a number",
        "bool_type": "true or false",
    }.get(kind, "something else")
