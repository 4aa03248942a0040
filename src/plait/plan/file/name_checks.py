"""The names in a plan: every input is there before it is used."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from plait.core.base.errors import UsageError
from plait.core.base.findings import Finding, Location, check_finding_codes
from plait.core.base.names import suggest_name, to_file_name
from plait.plan.file.line_numbers import PlanDiagnostic, line_of_path
from plait.plan.file.model import Plan, PlanSection, step_operation
from plait.plan.file.toml import plan_diagnostic

Lines = Mapping[tuple[str | int, ...], int]

_SIGNS = (
    (r"=<|most|max|under|below|less|fewer|up to", "<="),
    (r"same|equal|exactly| is ", "="),
)
_COMPARED = re.compile(r"^\s*(.+?)\s*(<=|>=|!=|<>|<|>|==?)\s*(.+?)\s*$")
_BY_RESULT = ("unique", "unmatched", "columns", "type", "values", "series")


def step_keys(step: PlanSection) -> dict[str, Any]:
    """A step as the file has it, without the keys that are left out."""
    return step.model_dump(exclude_unset=True)


def step_inputs(step: Mapping[str, Any]) -> list[str]:
    """The sources and results that a step takes, a crosswalk last.

    >>> step_inputs({"join": ["visits", "hives"], "pairs": "spellings"})
    ['visits', 'hives', 'spellings']
    """
    spec = step_operation(step)
    named = step[spec] if spec else []
    inputs = [named] if isinstance(named, str) else named if isinstance(named, list) else []
    return [name for name in (*inputs, *step_crosswalks(step)) if isinstance(name, str)]


def step_crosswalks(step: Mapping[str, Any]) -> list[Any]:
    """The tables of pairs that a step takes beside its inputs.

    >>> step_crosswalks({"pairs": {"evidence": "Born", "accept": "99%", "settled": "known"}})
    ['known']
    """
    pairs = step.get("pairs")
    by_hand = pairs.get("settled") if isinstance(pairs, Mapping) else None
    return [name for name in (pairs, by_hand, step.get("settled")) if isinstance(name, str)]


def step_result_name(step: Mapping[str, Any]) -> str | None:
    """What a step's result is called; an audit of keys has none."""
    if "keys" in step:
        return None
    into = step.get("into")
    return into if isinstance(into, str) else next(iter(step_inputs(step)), None)


def parse_comparison(text: str) -> tuple[str, str, str] | None:
    """The sides and the sign of ``season >= 1000``; ``=>`` is no sign."""
    if re.search("=[<>]", text):
        return None
    match = _COMPARED.match(text)
    return (match[1], match[2], match[3]) if match else None


def _as_comparison(text: str, known: Iterable[str]) -> str:
    """The right form of what somebody meant as a comparison of rows.

    >>> _as_comparison("season => 1,000", ["season"]), _as_comparison("at most 7 hives", ["hives"])
    ('season >= 1000', 'hives <= 7')
    """
    named = [name for name in known if re.search(rf"(?<!\w){re.escape(name)}(?!\w)", text)]
    named.sort(key=text.index)
    number = re.search(r"\d[\d,_ ]*", text)
    size = re.sub(r"\D", "", number[0]) if number else "1000"
    sign = next((s for words, s in _SIGNS if re.search(words, text, re.IGNORECASE)), ">=")
    left, right = named[0] if named else "season", named[1] if named[1:] else size
    return f"{left} {sign} {right}"


def parse_comparison_number(side: str) -> int | None:
    """The number that one side of a comparison is.

    >>> parse_comparison_number("1,000"), parse_comparison_number("visits")
    (1000, None)
    """
    plain = side.replace(",", "").replace("_", "")
    return int(plain) if plain.isdecimal() else None


def find_undefined_names(raw: Mapping[str, Any], lines: Lines) -> Iterator[PlanDiagnostic]:
    """Names that are not there, or not yet.

    Parameters
    ----------
    raw : mapping
        The plan as the file has it; parts of a wrong type are passed over.
    """
    yield from _no_names(raw, lines)
    known = dict.fromkeys(_tables(raw.get("source")))
    listed = raw.get("step")
    steps = [step if isinstance(step, dict) else {} for step in _lists(listed)]
    later = {name for name in map(step_result_name, steps) if name}
    for number, step in enumerate(steps):
        spec = step_operation(step)
        for name in step_inputs(step):
            if name not in known:
                line = line_of_path(lines, ("step", number, spec or "into"))
                yield PlanDiagnostic(line, *_unknown(name, known, later))
        text = step_result_name(step)
        if text:
            known[text] = None
    yield from _expected_faults(_tables(raw.get("expect")), lines, known)
    for key, result in _handed_over(raw):
        if result not in known:
            line = line_of_path(lines, ("handover", key))
            yield PlanDiagnostic(line, *_unknown(result, known, set()))


def _no_names(raw: Mapping[str, Any], lines: Lines) -> Iterator[PlanDiagnostic]:
    """Names that are none: they would make a line of their own, or choose a folder."""
    named: dict[tuple[str | int, ...], str] = {}
    named |= {("source", name): name for name in _tables(raw.get("source"))}
    for number, step in enumerate(_lists(raw.get("step"))):
        into = _tables(step).get("into")
        if isinstance(into, str):
            named["step", number, "into"] = into
    for place, name in named.items():
        if not name or not name.isprintable():
            yield PlanDiagnostic(
                line_of_path(lines, place), f"not a valid name: {name!r}", "one line of text"
            )
    for key, result in _handed_over(raw):
        if result != to_file_name(result):
            text = f"the result's files cannot be called {result!r}"
            line = line_of_path(lines, ("handover", key))
            yield PlanDiagnostic(line, text, f"such as {to_file_name(result)}")


def _handed_over(raw: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """The names of results under [handover], and the key that each stands in."""
    handover = _tables(raw.get("handover"))
    results = handover.get("results", [])
    named = [("result", handover.get("result"))]
    named += [("results", name) for name in (results if isinstance(results, dict | list) else [])]
    yield from ((key, name) for key, name in named if isinstance(name, str))


def _tables(part: Any) -> Mapping[str, Any]:
    return part if isinstance(part, dict) else {}


def _lists(part: Any) -> list[Any]:
    return part if isinstance(part, list) else []


def _unknown(name: str, known: Iterable[str], later: set[str]) -> tuple[str, str]:
    if name in later:
        return f"{name!r} is made by a later step", "move the step that makes it before this one"
    there = ", ".join(known)
    remedy = suggest_name(name, known) or (
        f"there are {there}" if there else "write a [source.NAME]"
    )
    return f"no source or result {name!r}", remedy


def _expected_faults(
    expect: Mapping[str, Any], lines: Lines, known: Mapping[str, None]
) -> Iterator[PlanDiagnostic]:
    for key in _BY_RESULT:
        for name in _tables(expect.get(key)):
            if name not in known:
                yield PlanDiagnostic(
                    line_of_path(lines, ("expect", key, name)), *_unknown(name, known, set())
                )
    for column, places in _tables(expect.get("sum")).items():
        for name in _lists(places):
            if name not in known:
                line = line_of_path(lines, ("expect", "sum", column))
                yield PlanDiagnostic(line, *_unknown(str(name), known, set()))
    for code in _lists(expect.get("fail_on", [])):
        with_line = line_of_path(lines, ("expect", "fail_on"))
        if isinstance(code, str) and "${" not in code:
            try:
                check_finding_codes([code])
            except UsageError as error:
                yield plan_diagnostic(with_line, error)
    rows = expect.get("rows", [])
    for text in [rows] if isinstance(rows, str) else _lists(rows):
        line = line_of_path(lines, ("expect", "rows"))
        comparison = parse_comparison(str(text))
        if comparison is None:
            right = _as_comparison(str(text), known)
            yield PlanDiagnostic(line, f"not a comparison: {text!r}", f"write '{right}'")
            continue
        for side in (comparison[0], comparison[2]):
            if parse_comparison_number(side) is None and side not in known and "${" not in side:
                yield PlanDiagnostic(line, *_unknown(side, known, set()))


def find_unused_names(plan: Plan, lines: Lines) -> Iterator[Finding]:
    """Sources and results that nothing uses."""
    used = _used_at_the_end(plan)
    found = []
    for number in reversed(range(len(plan.step))):
        step = step_keys(plan.step[number])
        text = step_result_name(step)
        if text and text not in used:
            found.append((line_of_path(lines, ("step", number)), "the result", text))
        used.discard(text or "")
        used.update(step_inputs(step))
    for name in plan.source:
        if name not in used:
            found.append((line_of_path(lines, ("source", name)), "the source", name))
    for line, what, name in sorted(found):
        yield Finding(
            "not-used",
            "warning",
            1,
            f"{what} {name!r} is never used",
            "use it in a step or in [handover], or remove it from the plan",
            Location(f"line {line} of the plan"),
        )


def _used_at_the_end(plan: Plan) -> set[str]:
    """What is handed over, or what something is expected of."""
    expect = plan.expect
    used = {plan.handover.result, *plan.handover.further} if plan.handover else set()
    for key in _BY_RESULT:
        used.update(getattr(expect, key))
    for places in expect.sum.values():
        used.update(places)
    for text in [expect.rows] if isinstance(expect.rows, str) else expect.rows:
        sides = parse_comparison(text)
        used.update((sides[0], sides[2]) if sides else ())
    return used


def name_own_handover(path: Path) -> str:
    """The name of the folder for a plan whose neighbour hands over into the usual one.

    >>> name_own_handover(Path("season 2031.toml"))
    'season 2031-handover'
    """
    return f"{to_file_name(path.stem)}-handover"
