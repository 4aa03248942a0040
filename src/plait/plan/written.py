"""A draft as the text of a plan."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Iterable, Iterator, Mapping

from plait.plan.draft import LABEL, Draft
from plait.plan.drafting.joins import DraftedJoin
from plait.plan.drafting.sources import DraftedSource
from plait.plan.file.quoting import listed, quoted, quoted_as_it_is

_WIDTH = 96


def plan_text(draft: Draft) -> str:
    """The plan, commented, ready to run."""
    return "\n".join(_lines(draft)) + "\n"


def _lines(draft: Draft) -> Iterator[str]:
    yield "# A starter plan, drafted from the sources. You can run it now: plait run"
    yield "# To see what it would do: plait check. For every key: plait help plan. Open"
    yield "# decisions are in comments."
    yield ""
    yield f"title = {quoted(draft.base.name.replace('-', ' ').capitalize())}"
    for one in (draft.base, *draft.others):
        yield ""
        yield from _source(one, labelled=one is draft.base)
    for one in (draft.base, *draft.others):
        if one.extracts > 1:
            yield ""
            yield from _stack(one)
    for name, splits in draft.splits.items():
        yield ""
        yield from _comment("The key is one column here and several there:")
        yield "[[step]]"
        yield f"mend = {quoted(name)}"
        yield f"split = {listed(splits)}"
    left = draft.base.name
    for number, made in enumerate(draft.joins):
        yield ""
        yield from _join(left, made, into=not number)
        left = "combined"
    yield from _not_sure(draft)
    yield ""
    yield from _expect(draft)
    yield ""
    yield "[handover]"
    yield f"result = {quoted(draft.result)}"
    yield 'folder = "handover"'
    yield 'formats = ["csv"]  # also parquet, arrow, json, jsonl, xlsx, sqlite'


def _source(one: DraftedSource, labelled: bool = False) -> Iterator[str]:
    yield f"[source.{_key(one.name)}]"
    paths = quoted_as_it_is(one.paths[0]) if len(one.paths) == 1 else _paths(one.paths)
    yield f"path = {paths}"
    if labelled and one.extracts > 1:
        field = "{sheet}" if one.sheets else "{stem}"
        yield f"label = {{ {LABEL} = {quoted(field)} }}  # which extract a row came from"
    for said in one.open:
        yield from _comment(said)


def _paths(paths: Iterable[str]) -> str:
    return f"[{', '.join(map(quoted_as_it_is, paths))}]"


def _stack(one: DraftedSource) -> Iterator[str]:
    yield "[[step]]"
    yield f"stack = {quoted(one.name)}  # {one.extracts} extracts under one another"
    if one.same:
        yield from _comment("Headings that look like one spelt differently:")
        pairs = ", ".join(
            f"{_key(new)} = {quoted(olds[0]) if len(olds) == 1 else listed(olds)}"
            for new, olds in one.same.items()
        )
        yield f"same = {{ {pairs} }}"
    if one.repeats:
        yield f"distinct = true  # {one.repeats:,} rows equal an earlier one"


def _join(left: str, made: DraftedJoin, into: bool) -> Iterator[str]:
    for said in made.evidence:
        yield from _comment(said)
    yield "[[step]]"
    yield f"join = {listed([left, made.right])}"
    if all(here == there for here, there in made.key):
        yield f"key = {listed([here for here, _ in made.key])}"
    else:
        yield f"key = {_table(dict(made.key))}"
    if made.ignore:
        yield f"ignore = {listed(made.ignore)}"
    yield f"cardinality = {quoted('many-to-one')}"
    if into:
        yield 'into = "combined"'


def _not_sure(draft: Draft) -> Iterator[str]:
    told = {draft.reasons.get(one.name) for one in draft.unused}
    unsure = [said for said in draft.unsure if said not in told]
    if unsure:
        yield ""
        yield "# Left for you to decide:"
        for said in unsure:
            yield from _comment(f"- {said}.")
    for one in draft.unused:
        yield ""
        why = draft.reasons.get(one.name, "none of its columns matches another table")
        said = f"{one.name} is not used in any step"
        yield from _comment(f"Left out: {said}.")
        yield from _comment(f"{why[:1].upper()}{why[1:]}.")
        for line in _source(one):
            yield line if line.startswith("#") else f"# {line}"
    if draft.unread:
        yield ""
        yield "# Left out because they cannot be read:"
        for fault in draft.unread:
            yield from _comment(f"- {fault.path}: {fault.reason}")


def _expect(draft: Draft) -> Iterator[str]:
    yield (
        "# True today. If any of it fails, nothing is handed over. Also possible: "
        "sum, type, values."
    )
    yield "[expect]"
    base = draft.base
    rows = [f"{base.name} >= {base.table.rows}"]
    if draft.joins:
        yield f"rows = {listed([f'combined = {base.name}', *rows])}  # no join adds or loses a row"
        most = max(one.lost for one in draft.joins)
        yield f"unmatched = {{ combined = {most} }}  # in each join"
    else:
        yield f"rows = {listed(rows)}"
    keyed = {one.name: one.key for one in (base, *draft.others) if one.key}
    keyed |= {
        one.right: tuple(name for _, name in one.key) for one in draft.joins if one.no_repeats
    }
    if keyed:
        pairs = ", ".join(f"{_key(name)} = {listed(key)}" for name, key in keyed.items())
        yield f"unique = {{ {pairs} }}"


def _comment(text: str) -> Iterator[str]:
    words = " ".join(text.split())
    lines = textwrap.wrap(words, _WIDTH - 2, break_on_hyphens=False, break_long_words=False)
    return (f"# {line}" for line in lines or [""])


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else quoted(name)


def _table(pairs: Mapping[str, str]) -> str:
    return f"{{ {', '.join(f'{_key(name)} = {quoted(text)}' for name, text in pairs.items())} }}"
