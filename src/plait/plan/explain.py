"""A plan in plain sentences, step by step, so that a colleague who never saw Plait can judge it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from plait.core.base.findings import agreeing, pluralize
from plait.core.base.ledger import rows_by_effect
from plait.core.table.key_spec import parse_key_columns, parse_names
from plait.plan.execution.execute import PlanExecution, StepResult
from plait.plan.file.model import step_operation
from plait.plan.file.name_checks import step_crosswalks, step_inputs, step_keys, step_result_name
from plait.report.document import Document, ExpectationResult, Sentences

_PLACEHOLDERS = {
    "{stem}": "the name of its file",
    "{file}": "its file",
    "{folder}": "its folder",
    "{sheet}": "its sheet",
}
_SHOWN = 4  # names of a list that are spelt out

Say = Callable[[Any], str]


@dataclass(frozen=True)
class ExplainedPart:
    """A source, a step or the handover, in sentences.

    Parameters
    ----------
    line : int
        Of the plan.
    does : tuple of str
        What it does, a sentence each.
    gives : str
        What came of it on the sources that are there now.
    expected : tuple of ExpectationResult
        What is expected of its result.
    """

    title: str
    line: int
    does: tuple[str, ...]
    gives: str
    expected: tuple[ExpectationResult, ...] = ()


def explain_plan(
    plan_execution: PlanExecution, expected: Sequence[ExpectationResult]
) -> list[ExplainedPart]:
    """The parts of a plan in their order: its sources, its steps, what it hands over.

    Parameters
    ----------
    plan_execution : PlanExecution
        All of it but the writing was done: the numbers are those of the sources that are there.
    expected : sequence of ExpectationResult
        What the plan expects.
    """
    of_result = _by_result(plan_execution, expected)
    parts = [_source(plan_execution, name, of_result) for name in plan_execution.plan.plan.source]
    last = {step.name: step for step in plan_execution.steps if step.name}
    parts += [
        _step(plan_execution, step, of_result if last.get(step.name or "") is step else {})
        for step in plan_execution.steps
    ]
    told = {id(one) for part in parts for one in part.expected}
    rest = tuple(one for one in expected if id(one) not in told)
    return [*parts, _handover(plan_execution, rest)]


def explanation(plan_execution: PlanExecution, expected: Sequence[ExpectationResult]) -> Document:
    """The plan in sentences, as a document."""
    plan = plan_execution.plan
    parts = explain_plan(plan_execution, expected)
    steps = pluralize(len(plan_execution.steps), "step")
    sources = pluralize(len(plan.plan.source), "source")
    failing = [one for one in expected if not one.holds]
    answer = f"{plan.plan.title or plan.path.name}: {sources}, {steps}"
    if failing:
        answer += f"; a run would hand over nothing, {len(failing)} of {len(expected)} not met"
    return Document(
        (answer,),
        (),
        tuple(
            Sentences(f"{part.title} (line {part.line})", part.does, part.gives, part.expected)
            for part in parts
        ),
    )


def _by_result(
    plan_execution: PlanExecution, expected: Sequence[ExpectationResult]
) -> dict[str, list[ExpectationResult]]:
    """What is expected of each result or source, by the lines of the plan that say so."""
    expect = plan_execution.plan.plan.expect
    of_line: dict[int, str] = {}
    for key in ("unique", "unmatched", "columns", "type", "values", "series"):
        for name in getattr(expect, key):
            of_line[plan_execution.plan.line("expect", key, name)] = name
    found: dict[str, list[ExpectationResult]] = {}
    for one in expected:
        if one.line in of_line:
            found.setdefault(of_line[one.line], []).append(one)
    return found


def _source(
    plan_execution: PlanExecution, name: str, of_result: Mapping[str, list[ExpectationResult]]
) -> ExplainedPart:
    spec = plan_execution.plan.plan.source[name].model_dump(exclude_unset=True)
    tables = plan_execution.tables_by_source.get(name, ())
    paths = parse_names(spec["path"]) if isinstance(spec["path"], str) else spec["path"]
    many = f"{pluralize(len(tables), 'extract')} of one shape, " if len(tables) > 1 else ""
    rows = pluralize(sum(table.rows for table in tables), "row")
    said = [f"Read {_list(paths)}: {many}{rows}."]
    said += [say(spec[key]) for key, say in _READING.items() if spec.get(key)]
    return ExplainedPart(
        f"Source {name}",
        plan_execution.plan.line("source", name),
        tuple(said),
        "",
        tuple(of_result.get(name, ())),
    )


def _step(
    plan_execution: PlanExecution,
    step: StepResult,
    of_result: Mapping[str, list[ExpectationResult]],
) -> ExplainedPart:
    written = step_keys(plan_execution.plan.plan.step[step.number])
    operation = str(step_operation(written))
    crosswalks = step_crosswalks(written)
    inputs = [name for name in step_inputs(written) if name not in crosswalks]
    said = [_OPERATIONS[operation](inputs, written)]
    said += [say(written[key]) for key, say in _OPTIONS[operation].items() if written.get(key)]
    name = step_result_name(written)
    title = f"{step.number + 1}. {operation}{f' → {name}' if name else ''}"
    return ExplainedPart(
        title,
        plan_execution.plan.line("step", step.number),
        tuple(said),
        _gives(step),
        tuple(of_result.get(name or "", ())),
    )


def _gives(step: StepResult) -> str:
    """What became of the rows of a step, by its ledger."""
    told = []
    for entry in step.result.entries:
        effects = ", ".join(
            f"{rows:,} {effect}" for effect, rows in rows_by_effect(entry).items() if rows
        )
        into = pluralize(sum(entry.rows_in.values()), "row")
        told.append(f"{into} in{', ' if effects else ''}{effects}, {entry.rows_out:,} out")
    findings = len(step.result.findings)
    found = f"; {pluralize(findings, 'finding')}" if findings else ""
    return f"{'; '.join(told)}{found}." if told else ""


def _handover(plan_execution: PlanExecution, rest: tuple[ExpectationResult, ...]) -> ExplainedPart:
    handover = plan_execution.plan.plan.handover
    if handover is None:
        said = ["The plan hands nothing over."]
    else:
        results = [handover.result, *handover.further]
        formats = parse_names(handover.formats)
        said = [
            f"Write {_list(results)} to {handover.folder}/, as {_list(formats)}, "
            "with a report, every row set aside, a dictionary and where each cell came from."
        ]
        if handover.database:
            said.append("Write it into a table of a database as well.")
        if handover.key:
            said.append(f"A row is known from run to run by {_list(parse_names(handover.key))}.")
    if rest:
        said.append("Nothing is handed over unless all that is expected holds.")
    return ExplainedPart("Handover", plan_execution.plan.line("handover"), tuple(said), "", rest)


def _list(names: Sequence[str]) -> str:
    """Names as a person lists them.

    >>> _list(["a", "b", "c"]), _list(["a"] * 9)
    ('a, b and c', 'a, a, a, a and 5 more')
    """
    names = list(map(str, names))
    if len(names) > _SHOWN + 1:
        return f"{', '.join(names[:_SHOWN])} and {len(names) - _SHOWN} more"
    return " and ".join([", ".join(names[:-1]), names[-1]] if names[1:] else names)


def _names(value: Any) -> str:
    return _list(parse_names(value))


def _do(value: Any) -> str:
    return agreeing(len(parse_names(value)), "does", "do")


def _pairs(value: Mapping[str, Any], between: str) -> str:
    return _list([f"{name} {between} {_names(other)}" for name, other in value.items()])


def _labels(value: Mapping[str, Any]) -> str:
    """What each row says of its source: ``Month, the name of its file``."""
    texts = []
    for name, template in value.items():
        for word, meaning in _PLACEHOLDERS.items():
            template = template.replace(word, meaning)
        texts.append(f"{name} ({template})")
    return _list(texts)


def _key(value: Any) -> str:
    """A key in words: ``Yard and Hive``, ``Warden with Full name``."""
    if isinstance(value, Mapping):
        return _list([f"{left} with {right}" for left, right in value.items()])
    if isinstance(value, list) and value and isinstance(value[0], list):
        return ", then ".join(map(_key, value))
    pairs = parse_key_columns(value)
    return _list([left if left == right else f"{left} with {right}" for left, right in pairs])


def _crosswalk(value: str | Mapping[str, Any]) -> str:
    if isinstance(value, str):
        return f"Keys that {value} names as a pair count as equal."
    named = value["evidence"]
    columns = _list(list(parse_names(named)))
    by_hand = f", given what {value['settled']} settles" if value.get("settled") else ""
    return (
        f"Keys without a match that {columns} show to mean the same count as equal where that is "
        f"{value['accept']} sure{by_hand}."
    )


def _figure(text: str) -> str:
    """``sum:Honey kg`` as ``the sum of Honey kg``."""
    figure, _, column = text.rpartition(":")
    return f"the {figure} of {column}" if figure else f"the {column} of rows"


def _join(inputs: Sequence[str], written: Mapping[str, Any]) -> str:
    left, others = inputs[0], _list(inputs[1:])
    have = agreeing(len(inputs) - 1, "has", "have")
    key = f", matched on {_key(written['key'])}" if written.get("key") else ""
    does = {
        "left": f"Add to each row of {left} what {others} {have} of it",
        "right": f"Add to each row of {others} what {left} has of it",
        "inner": f"Put together the rows of {left} and {others} that match, and no others",
        "full": f"Put together the rows of {left} and {others}; those that match nothing stay",
        "semi": f"Keep the rows of {left} that match a row of {others}",
        "anti": f"Keep the rows of {left} that match no row of {others}",
        "cross": f"Put each row of {left} beside each row of {others}",
    }
    return f"{does[written.get('kind', 'left')]}{key}."


_SIDES = {
    "one-to-one": "A key is on one row of each side",
    "many-to-one": "A key is on one row of the right side",
    "one-to-many": "A key is on one row of the left side",
    "many-to-many": "A key may be on several rows of both sides, and each pairs with each",
}

_OPERATIONS: dict[str, Callable[[Sequence[str], Mapping[str, Any]], str]] = {
    "stack": lambda inputs, _: f"Put the rows of {_list(inputs)} below one another.",
    "mend": lambda inputs, _: f"Put the cells of {_list(inputs)} right.",
    "join": _join,
    "settle": lambda inputs, w: (
        f"Bring the rows of {_list(inputs)} down to one for each {_key(w['key'])}."
    ),
    "beside": lambda inputs, _: f"Put {_list(inputs)} side by side, row by row.",
    "group": lambda inputs, w: (
        f"Make one row of {_list(inputs)} for each {_names(w['by'])}."
        if w.get("by")
        else f"Make one row of all rows of {_list(inputs)}."
    ),
    "widen": lambda inputs, w: (
        f"Make a column of each {w['heads']} of {_list(inputs)}, filled with {_names(w['cells'])}."
    ),
    "lengthen": lambda inputs, w: (
        f"Make a row of each cell of {_list(inputs)}: the heading goes "
        f"into {w['heads']}, the cell into {w['cells']}."
    ),
    "keys": lambda inputs, _: f"Look at the keys of {_list(inputs)}; nothing is changed.",
    "compare": lambda inputs, _: f"List what changed between {_list(inputs)}.",
}

_KEYS: dict[str, Say] = {
    "ignore": lambda v: f"When keys are compared, {_names(v)} {_do(v)} not count.",
    "ignore_words": lambda v: f"When keys are compared, the words {_names(v)} do not count.",
    "pairs": lambda v: _crosswalk(v),
    "missing_keys": lambda v: (
        "Missing keys match one another." if v == "match" else "Missing keys match nothing."
    ),
}
_TYPES: dict[str, Say] = {
    "missing": lambda v: f"Read {_names(v)} as missing.",
    "type": lambda v: f"Read {_pairs(v, 'as')}.",
    "unfit": lambda v: {
        "error": "A cell that does not fit its type stops the run.",
        "missing": "A cell that does not fit its type is missing.",
        "set-aside": "Rows with a cell that does not fit its type are set aside.",
    }[v],
}
_READING: dict[str, Say] = {
    "label": lambda v: f"Each row says {_labels(v)}.",
    **_TYPES,
}
_OPTIONS: dict[str, dict[str, Say]] = {
    "stack": {
        "distinct": lambda _: "Leave out rows that repeat an earlier one in every column.",
        "label": lambda v: f"Each row says {_labels(v)}.",
        "same": lambda v: f"Take {_pairs(v, 'for')} where an extract spells it otherwise: "
        "one column.",
        "fold_headers": lambda _: "Headings that differ in case, spaces or punctuation are one.",
        "by": lambda v: f"Columns go together by {v}.",
        "number": lambda v: f"Number the rows in {v}.",
        "origin": lambda v: f"Say in {v} which source each row is of.",
    },
    "mend": {
        "header": lambda v: f"Call its columns {_names(v)}.",
        "rename": lambda v: f"Rename {_pairs(v, 'to')}.",
        "trim": lambda v: "Take spaces away around cells." if v is True else f"Take spaces away "
        f"around the cells of {_names(v)}.",
        "split": lambda v: f"Split {_list([v] if isinstance(v, str) else v)}.",
        "replace_value": lambda v: f"Replace {_list([v] if isinstance(v, str) else v)}.",
        "fill": lambda v: f"Fill what is missing: {_pairs(v, 'with')}.",
        "compute": lambda v: f"Work out {_list([f'{name} = {text}' for name, text in v.items()])}.",
        "where": lambda v: f"Keep the rows on which {v}; the others are set aside.",
        "sort": lambda v: f"Sort by {_names(v)}.",
        "drop": lambda v: f"Drop {_names(v)}.",
        "keep": lambda v: f"Keep only {_names(v)}.",
        "order": lambda v: f"Put {_names(v)} in front.",
        **_TYPES,
    },
    "join": {
        "cardinality": lambda v: f"{_SIDES[v]}, or the run stops.",
        "take": lambda v: f"Of the right side take {_names(v)}.",
        "rename": lambda v: f"Rename {_pairs(v, 'to')}.",
        "prefer": lambda v: f"Where both sides have a column, the {v} one counts.",
        "nearest": lambda v: f"Of the rows with such a key the nearest counts: {v}.",
        "within": lambda v: f"It is at most {v} away.",
        "max_rows": lambda v: f"More than {v:,} rows stop the run.",
        "origin": lambda v: f"Say in {v} which side each row is of.",
        **_KEYS,
    },
    "settle": {
        "rule": lambda v: f"Which cell counts: {_pairs(v, 'by')}.",
        "otherwise": lambda v: f"For the other columns: {v}.",
        "keep_rule": lambda v: f"One row of each is kept whole: {v}.",
        **_KEYS,
    },
    "beside": {},
    "group": {
        "take": lambda v: "Work out "
        + _list([f"{name}, {_figure(text)}" for name, text in v.items()]) + ".",
        "onto_rows": lambda _: "Every row stays, with the figures of its group behind it.",
        "places": lambda v: f"Means, shares and spreads have {v} decimal places.",
        "ignore": lambda v: f"When values are compared, {_names(v)} {_do(v)} not count.",
        "ignore_words": lambda v: f"When values are compared, the words {_names(v)} do not count.",
    },
    "widen": {
        "key": lambda v: f"There is one row for each {_names(v)}.",
        "rule": lambda v: f"Where several rows fall into one cell: {v}.",
    },
    "lengthen": {
        "columns": lambda v: f"Of {_names(v)}.",
        "key": lambda v: f"{_names(v)} stay beside each.",
        "without_missing": lambda _: "Missing cells make no row.",
    },
    "keys": {
        "key": lambda v: f"The key is {_key(v)}.",
        "apart": lambda _: "Each extract is looked at by itself.",
        "evidence": lambda v: f"Partners of keys without a match are looked for by {_names(v)}.",
        "accept": lambda v: f"Partners that are {v} sure are used.",
        "settled": lambda v: f"Pairs that {v} settles are taken as known.",
        **_KEYS,
    },
    "compare": {
        "key": lambda v: f"A row is known by {_key(v)}.",
        "columns": lambda v: f"Only {_names(v)} are compared.",
        "within": lambda v: f"Numbers may differ: {_pairs(v, 'by')}.",
        **_KEYS,
    },
}  # fmt: skip
