"""What a plan expects of its results, and what falls short of it."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date
from decimal import Context, Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pyarrow as pa

from plait.core.base.errors import PlaitError, UsageError
from plait.core.base.findings import MOST_EXAMPLES, FindingExample, matching_findings, pluralize
from plait.core.codes.key_codes import encode_keys, group_by_key
from plait.core.keys.duplicates import format_key
from plait.core.lineage.paths import source_rows_of_row
from plait.core.operations.group import group
from plait.core.table.columns import has_value_mask
from plait.core.table.key_spec import check_column, parse_names
from plait.core.table.table import Table
from plait.core.types.column_type import ColumnType
from plait.core.types.inference import canonical_number_text
from plait.core.types.periods import Period, parse_series, periods_of_names
from plait.plan.execution.execute import PlanExecution
from plait.plan.file.line_numbers import PlanDiagnostic, PlanError
from plait.plan.file.name_checks import parse_comparison, parse_comparison_number
from plait.plan.file.toml import plan_diagnostic
from plait.report.document import ExpectationResult

_MOST_PERIODS = 6
_COMPARATORS: dict[str, Callable[[Any, Any], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "=": operator.eq,
    "==": operator.eq,
    "!=": operator.ne,
    "<>": operator.ne,
}


def judge_plan_expectations(plan_execution: PlanExecution) -> list[ExpectationResult]:
    """Everything the plan expects, and whether it holds.

    Raises
    ------
    PlanError
        When an expectation cannot be looked at: it names a column that is not
        there, or several extracts where one table is wanted.
    """
    found: list[ExpectationResult] = []
    faults: list[PlanDiagnostic] = []
    expect = plan_execution.plan.plan.expect
    for key, judge in _JUDGES.items():
        asked = getattr(expect, key)
        if not asked:
            continue
        parts = asked.items() if isinstance(asked, Mapping) else [(None, asked)]
        for name, value in parts:
            line = plan_execution.plan.line("expect", key, *([name] if name else []))
            try:
                found += judge(plan_execution, name, value, line)
            except PlaitError as error:
                faults.append(plan_diagnostic(line, error))
    faults += _key_faults(plan_execution)
    if faults:
        raise PlanError(str(plan_execution.plan.path), faults)
    return found


def _key_faults(plan_execution: PlanExecution) -> Iterator[PlanDiagnostic]:
    """Columns of the key of the handover that its result has not."""
    handover = plan_execution.plan.plan.handover
    for name in parse_names(handover.key) if handover and handover.key else ():
        try:
            check_column(name, plan_execution.result)
        except UsageError as error:
            yield plan_diagnostic(plan_execution.plan.line("handover", "key"), error)


def _table(plan_execution: PlanExecution, name: str) -> Table:
    if name in plan_execution.results:
        return plan_execution.results[name]
    raise UsageError(
        f"{name} has several extracts, but this check needs one table",
        remedy="name the result of the step that stacks them",
    )


def _texts(value: str | Sequence[str]) -> list[str]:
    return [value] if isinstance(value, str) else list(value)


def _fail_on(
    plan_execution: PlanExecution, _: str, codes: Any, line: int
) -> Iterator[ExpectationResult]:
    failing = matching_findings(plan_execution.findings, _texts(codes))
    examples = tuple(
        FindingExample(f"{one.message} [{one.code}]") for one in failing[:MOST_EXAMPLES]
    )
    text = f"no finding of {', '.join(_texts(codes))}"
    yield ExpectationResult(text, not failing, pluralize(len(failing), "finding"), line, examples)


def _rows(
    plan_execution: PlanExecution, _: str, texts: Any, line: int
) -> Iterator[ExpectationResult]:
    for text in _texts(texts):
        comparison = parse_comparison(text)
        assert comparison is not None
        left, right = (_size(plan_execution, side) for side in (comparison[0], comparison[2]))
        message = " and ".join(
            f"{side} has {pluralize(size, 'row')}"
            for side, size in ((comparison[0], left), (comparison[2], right))
            if parse_comparison_number(side) is None
        )
        yield ExpectationResult(
            f"rows: {text}", _COMPARATORS[comparison[1]](left, right), message, line
        )


def _size(plan_execution: PlanExecution, side: str) -> int:
    number = parse_comparison_number(side)
    if number is not None:
        return number
    if side in plan_execution.results:
        return plan_execution.results[side].rows
    return sum(table.rows for table in plan_execution.tables_by_source[side])


def _unique(
    plan_execution: PlanExecution, name: str, key: Any, line: int
) -> Iterator[ExpectationResult]:
    table, columns = _table(plan_execution, name), parse_names(key)
    for column in columns:
        check_column(column, table)
    coding = encode_keys([table], [columns], missing_match=True)
    groups = group_by_key(coding)
    several = np.flatnonzero(groups.counts > 1)
    examples = tuple(
        _repeated(table, columns, groups.member_rows[groups.offsets[at] : groups.offsets[at + 1]])
        for at in several[:MOST_EXAMPLES]
    )
    text = f"{', '.join(columns)} unique in {name}"
    message = f"{pluralize(len(several), 'key')} on several rows"
    yield ExpectationResult(text, not len(several), message, line, examples)


def _repeated(table: Table, columns: Sequence[str], rows: Any) -> FindingExample:
    where = tuple(
        source_row for row in rows[:2] for source_row in source_rows_of_row(table, int(row))[:1]
    )
    return FindingExample(f"{format_key(table, columns, int(rows[0]))}: {len(rows):,} rows", where)


def _unmatched(
    plan_execution: PlanExecution, name: str, most: Any, line: int
) -> Iterator[ExpectationResult]:
    joins = [step for step in plan_execution.steps if step.name == name and step.result.matches]
    if not joins:
        raise UsageError(f"{name} is not the result of a join", remedy="name the result of one")
    for step in joins:
        rows = sum(match.left_unmatched + match.left_missing_key for match in step.result.matches)
        total = step.result.matches[0].left_rows
        allowed = _parse_row_limit(most, total)
        examples = tuple(
            example
            for finding in step.result.findings
            if finding.code in ("key-unmatched", "key-missing")
            and finding.where.source not in step.inputs[1:]  # rows of the first source are counted
            for example in finding.examples
        )[:MOST_EXAMPLES]
        text = f"{pluralize(rows, 'row')} of {total:,} ({rows / max(total, 1):.1%})"
        which = f", joined to {step.inputs[-1]}" if len(joins) > 1 else ""
        yield ExpectationResult(
            f"at most {most} unmatched rows in {name}{which}",
            rows <= allowed,
            text,
            line,
            examples if rows > allowed else (),
        )


def _parse_row_limit(most: int | str, total: int) -> Fraction:
    """A number of rows, or a percentage of them.

    >>> _parse_row_limit("0.2 %", 500)
    Fraction(1, 1)
    """
    if isinstance(most, int):
        return Fraction(most)
    text = most.strip()
    try:
        share = Fraction(text.removesuffix("%").strip())
    except ValueError:
        raise UsageError(f"{most!r} is not a number of rows", remedy="write 20, or '2 %'") from None
    return share / 100 * total if text.endswith("%") else share


def _columns(
    plan_execution: PlanExecution, name: str, columns: Any, line: int
) -> Iterator[ExpectationResult]:
    there = list(_table(plan_execution, name).column_names)
    lacking = [column for column in columns if column not in there]
    more = [column for column in there if column not in columns]
    texts = [
        f"lacks {', '.join(lacking)}" if lacking else "",
        f"also has {', '.join(more)}" if more else "",
        "another order" if not lacking and not more and there != list(columns) else "",
    ]
    text = "; ".join(filter(None, texts)) or "the same columns"
    yield ExpectationResult(f"the columns of {name}", there == list(columns), text, line)


def _type(
    plan_execution: PlanExecution, name: str, types: Any, line: int
) -> Iterator[ExpectationResult]:
    table = _table(plan_execution, name)
    for column, type_ in types.items():
        check_column(column, table)
        family = table.column_type(column).family
        fits = family in (type_, "empty") or (type_ == "decimal" and family == "integer")
        yield ExpectationResult(f"{name}: {column} is {type_}", fits, f"it is {family}", line)


def _values(
    plan_execution: PlanExecution, name: str, allowed: Any, line: int
) -> Iterator[ExpectationResult]:
    table = _table(plan_execution, name)
    for column, values in allowed.items():
        check_column(column, table)
        yield _allowed(table, name, column, [_plain(value) for value in values], line)


def _plain(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def _allowed(
    table: Table, name: str, column: str, values: list[str], line: int
) -> ExpectationResult:
    coding = encode_keys([table], [[column]])
    texts = coding.key_columns[0].texts.to_pylist()
    outside = np.array(
        [*_outside(coding.key_columns[0].texts, values, table.column_type(column)), False]
    )
    rows = np.flatnonzero(outside[coding.codes[0]])
    shown = dict.fromkeys(coding.codes[0][rows].tolist())
    first = {code: int(rows[np.argmax(coding.codes[0][rows] == code)]) for code in list(shown)[:5]}
    examples = tuple(
        FindingExample(repr(texts[code]), source_rows_of_row(table, row)[:1])
        for code, row in first.items()
    )
    text = f"{pluralize(len(rows), 'row')} with {pluralize(len(shown), 'other value')}"
    message = f"{name}: {column} is one of {', '.join(values[:6])}" + (
        " …" if len(values) > 6 else ""
    )
    return ExpectationResult(message, not len(rows), text, line, examples)


def _outside(texts: pa.Array, values: list[str], type_: ColumnType) -> list[bool]:
    """Which texts are none of the values; numbers are the same however they are written."""
    allowed = pa.array(values, pa.string())
    if type_.is_plain_number:
        texts, allowed = canonical_number_text(texts), canonical_number_text(allowed)
    known = set(allowed.to_pylist())
    return [text not in known for text in texts.to_pylist()]


def _series(
    plan_execution: PlanExecution, name: str, asked: str, line: int
) -> Iterator[ExpectationResult]:
    """Whether each period of a stretch has one extract, and there is no other."""
    tables = plan_execution.tables_by_source.get(name, ())
    first, last = parse_series(asked, date.today())
    periods = [
        period
        for period in periods_of_names([table.name for table in tables])
        if period is not None
    ]
    there = [period for period in periods if period.unit == last.unit]
    begin = first or min(there, default=last)
    wanted = [Period(last.unit, place) for place in range(begin.place, last.place + 1)]
    missing = [period for period in wanted if period not in there]
    several = [period for period in dict.fromkeys(there) if there.count(period) > 1]
    beyond = [period for period in there if not begin.place <= period.place <= last.place]
    told = [
        f"{word} {', '.join(map(str, found[:_MOST_PERIODS]))}"
        + (" …" if len(found) > _MOST_PERIODS else "")
        for word, found in (("missing", missing), ("twice", several), ("beyond", beyond))
        if found
    ]
    text = "; ".join(told) or pluralize(len(wanted), "extract")
    yield ExpectationResult(f"{name}: each of {begin} .. {last}", not told, text, line)


def _sum(
    plan_execution: PlanExecution, column: str, where: Any, line: int
) -> Iterator[ExpectationResult]:
    sums = {name: _sum_in(plan_execution, name, column) for name in where}
    text = ", ".join(f"{total:,} in {name}" for name, total in sums.items())
    same = len(set(sums.values())) == 1
    yield ExpectationResult(
        f"the sum of {column} is the same in {', '.join(where)}", same, text, line
    )


def _sum_in(plan_execution: PlanExecution, name: str, column: str) -> Decimal:
    """The exact sum over a result, or over all extracts of a source."""
    total = Decimal(0)
    for table in (
        [plan_execution.results[name]]
        if name in plan_execution.results
        else plan_execution.tables_by_source[name]
    ):
        check_column(column, table)
        if has_value_mask(table, column).any():
            (made,) = group(table, (), {"sum": f"sum:{column}"}).table.to_dict()["sum"]
            total = _EXACT.add(total, Decimal(str(made)))
    return total


_EXACT = Context(prec=200)
_JUDGES: dict[str, Callable[[PlanExecution, Any, Any, int], Iterator[ExpectationResult]]] = {
    "rows": _rows,
    "unique": _unique,
    "unmatched": _unmatched,
    "columns": _columns,
    "type": _type,
    "values": _values,
    "sum": _sum,
    "fail_on": _fail_on,
    "series": _series,
}
