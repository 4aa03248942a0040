"""What a plan expects of its results, and what falls short of it."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Context, Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pyarrow as pa

from plait.core.account.errors import PlaitError, UsageError
from plait.core.account.finding import MOST_EXAMPLES, Example, counted, standing
from plait.core.codes.coding import code_keys
from plait.core.codes.groups import key_groups
from plait.core.keys.duplicates import key_text
from plait.core.lineage.lineage import places
from plait.core.table.absent import present
from plait.core.table.keyspec import check_column, names
from plait.core.table.table import Table
from plait.core.types.forms import base
from plait.core.types.kinds import NUMBERS, plain_number
from plait.core.verbs.group import group
from plait.plan.file.faults import Fault, PlanError
from plait.plan.file.naming import as_number, comparison
from plait.plan.file.remedy import in_plan
from plait.plan.work.work import Worked
from plait.report.story import Expected

_SIGNS: dict[str, Callable[[Any, Any], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "=": operator.eq,
    "==": operator.eq,
    "!=": operator.ne,
    "<>": operator.ne,
}


def expectations(worked: Worked) -> list[Expected]:
    """Everything the plan expects, and whether it holds.

    Raises
    ------
    PlanError
        When an expectation cannot be looked at: it names a column that is not
        there, or several extracts where one table is wanted.
    """
    found: list[Expected] = []
    faults: list[Fault] = []
    expect = worked.loaded.plan.expect
    for key, judge in _JUDGES.items():
        asked = getattr(expect, key)
        if not asked:
            continue
        parts = asked.items() if isinstance(asked, Mapping) else [(None, asked)]
        for name, value in parts:
            line = worked.loaded.line("expect", key, *([name] if name else []))
            try:
                found += judge(worked, name, value, line)
            except PlaitError as error:
                faults.append(Fault(line, str(error.what), in_plan(error.remedy or "")))
    faults += _key_faults(worked)
    if faults:
        raise PlanError(str(worked.loaded.path), faults)
    return found


def _key_faults(worked: Worked) -> Iterator[Fault]:
    """Columns of the key of the handover that its result has not."""
    handover = worked.loaded.plan.handover
    for name in names(handover.key) if handover and handover.key else ():
        try:
            check_column(name, worked.result)
        except UsageError as error:
            yield Fault(worked.loaded.line("handover", "key"), error.what, error.remedy or "")


def _table(worked: Worked, name: str) -> Table:
    if name in worked.results:
        return worked.results[name]
    raise UsageError(
        f"{name} has several extracts, but this check needs one table",
        remedy="name the result of the step that stacks them",
    )


def _texts(value: str | Sequence[str]) -> list[str]:
    return [value] if isinstance(value, str) else list(value)


def _fail_on(worked: Worked, _: str, codes: Any, line: int) -> Iterator[Expected]:
    failing = standing(worked.findings, _texts(codes))
    examples = tuple(Example(f"{one.message} [{one.code}]") for one in failing[:MOST_EXAMPLES])
    what = f"no finding of {', '.join(_texts(codes))}"
    yield Expected(what, not failing, counted(len(failing), "finding"), line, examples)


def _rows(worked: Worked, _: str, texts: Any, line: int) -> Iterator[Expected]:
    for text in _texts(texts):
        compared = comparison(text)
        assert compared is not None
        left, right = (_size(worked, side) for side in (compared[0], compared[2]))
        said = " and ".join(
            f"{side} has {counted(size, 'row')}"
            for side, size in ((compared[0], left), (compared[2], right))
            if as_number(side) is None
        )
        yield Expected(f"rows: {text}", _SIGNS[compared[1]](left, right), said, line)


def _size(worked: Worked, side: str) -> int:
    number = as_number(side)
    if number is not None:
        return number
    if side in worked.results:
        return worked.results[side].rows
    return sum(table.rows for table in worked.sources[side])


def _unique(worked: Worked, name: str, key: Any, line: int) -> Iterator[Expected]:
    table, columns = _table(worked, name), names(key)
    for column in columns:
        check_column(column, table)
    coding = code_keys([table], [columns], missing_match=True)
    groups = key_groups(coding)
    several = np.flatnonzero(groups.counts > 1)
    examples = tuple(
        _repeated(table, columns, groups.rows[groups.offsets[at] : groups.offsets[at + 1]])
        for at in several[:MOST_EXAMPLES]
    )
    what = f"{', '.join(columns)} unique in {name}"
    found = f"{counted(len(several), 'key')} on several rows"
    yield Expected(what, not len(several), found, line, examples)


def _repeated(table: Table, columns: Sequence[str], rows: Any) -> Example:
    where = tuple(place for row in rows[:2] for place in places(table, int(row))[:1])
    return Example(f"{key_text(table, columns, int(rows[0]))}: {len(rows):,} rows", where)


def _unmatched(worked: Worked, name: str, most: Any, line: int) -> Iterator[Expected]:
    joins = [step for step in worked.steps if step.name == name and step.result.matches]
    if not joins:
        raise UsageError(f"{name} is not the result of a join", remedy="name the result of one")
    for step in joins:
        rows = sum(match.left_unmatched + match.left_missing_key for match in step.result.matches)
        total = step.result.matches[0].left_rows
        allowed = _most(most, total)
        examples = tuple(
            example
            for finding in step.result.findings
            if finding.code in ("key-unmatched", "key-missing")
            and finding.where not in step.inputs[1:]  # rows of the first source are counted
            for example in finding.examples
        )[:MOST_EXAMPLES]
        found = f"{counted(rows, 'row')} of {total:,} ({rows / max(total, 1):.1%})"
        which = f", joined to {step.inputs[-1]}" if len(joins) > 1 else ""
        yield Expected(
            f"at most {most} unmatched rows in {name}{which}",
            rows <= allowed,
            found,
            line,
            examples if rows > allowed else (),
        )


def _most(most: int | str, total: int) -> Fraction:
    """A number of rows, or a percentage of them.

    >>> _most("0.2 %", 500)
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


def _columns(worked: Worked, name: str, columns: Any, line: int) -> Iterator[Expected]:
    there = list(_table(worked, name).column_names)
    lacking = [column for column in columns if column not in there]
    more = [column for column in there if column not in columns]
    said = [
        f"lacks {', '.join(lacking)}" if lacking else "",
        f"also has {', '.join(more)}" if more else "",
        "another order" if not lacking and not more and there != list(columns) else "",
    ]
    found = "; ".join(filter(None, said)) or "the same columns"
    yield Expected(f"the columns of {name}", there == list(columns), found, line)


def _type(worked: Worked, name: str, types: Any, line: int) -> Iterator[Expected]:
    table = _table(worked, name)
    for column, wanted in types.items():
        check_column(column, table)
        kind = base(table.kind_in_words(column))
        fits = kind in (wanted, "empty") or (wanted == "decimal" and kind == "integer")
        yield Expected(f"{name}: {column} is {wanted}", fits, f"it is {kind}", line)


def _values(worked: Worked, name: str, allowed: Any, line: int) -> Iterator[Expected]:
    table = _table(worked, name)
    for column, values in allowed.items():
        check_column(column, table)
        yield _allowed(table, name, column, [_plain(value) for value in values], line)


def _plain(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def _allowed(table: Table, name: str, column: str, values: list[str], line: int) -> Expected:
    coding = code_keys([table], [[column]])
    texts = coding.columns[0].texts.to_pylist()
    outside = np.array([*_outside(coding.columns[0].texts, values, table.kind(column)), False])
    rows = np.flatnonzero(outside[coding.codes[0]])
    shown = dict.fromkeys(coding.codes[0][rows].tolist())
    first = {code: int(rows[np.argmax(coding.codes[0][rows] == code)]) for code in list(shown)[:5]}
    examples = tuple(
        Example(repr(texts[code]), places(table, row)[:1]) for code, row in first.items()
    )
    found = f"{counted(len(rows), 'row')} with {counted(len(shown), 'other value')}"
    what = f"{name}: {column} is one of {', '.join(values[:6])}" + (" …" if len(values) > 6 else "")
    return Expected(what, not len(rows), found, line, examples)


def _outside(texts: pa.Array, values: list[str], kind: str) -> list[bool]:
    """Which texts are none of the values; numbers are the same however they are written."""
    allowed = pa.array(values, pa.string())
    if kind in NUMBERS:
        texts, allowed = plain_number(texts), plain_number(allowed)
    known = set(allowed.to_pylist())
    return [text not in known for text in texts.to_pylist()]


def _sum(worked: Worked, column: str, where: Any, line: int) -> Iterator[Expected]:
    sums = {name: _sum_in(worked, name, column) for name in where}
    said = ", ".join(f"{total:,} in {name}" for name, total in sums.items())
    same = len(set(sums.values())) == 1
    yield Expected(f"the sum of {column} is the same in {', '.join(where)}", same, said, line)


def _sum_in(worked: Worked, name: str, column: str) -> Decimal:
    """The exact sum over a result, or over all extracts of a source."""
    total = Decimal(0)
    for table in [worked.results[name]] if name in worked.results else worked.sources[name]:
        check_column(column, table)
        if present(table, column).any():
            (made,) = group(table, (), {"sum": f"sum:{column}"}).table.to_dict()["sum"]
            total = _EXACT.add(total, Decimal(str(made)))
    return total


_EXACT = Context(prec=200)
_JUDGES: dict[str, Callable[[Worked, Any, Any, int], Iterator[Expected]]] = {
    "rows": _rows,
    "unique": _unique,
    "unmatched": _unmatched,
    "columns": _columns,
    "type": _type,
    "values": _values,
    "sum": _sum,
    "fail_on": _fail_on,
}
