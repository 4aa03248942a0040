"""A draft as the text of a plan."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from plait.plan.drafting.draft import LABEL, Draft, DraftedJoin
from plait.plan.drafting.draft_sources import DraftedSource
from plait.plan.file.name_checks import name_own_handover
from plait.plan.file.toml import toml_array, toml_key, toml_literal_string, toml_string

_WIDTH = 96


def plan_text(draft: Draft, path: Path | None = None) -> str:
    """The plan, commented, ready to run.

    Parameters
    ----------
    path : path, optional
        Where it will stand. Beside another plan its handover is named by it.
    """
    return "\n".join(_lines(draft, _folder(path))) + "\n"


def _folder(path: Path | None) -> str:
    """The folder for the handover: no other plan beside this one hands over into it."""
    usual = "handover"
    if path is None:
        return usual
    others = (other for other in path.parent.glob("*.toml") if other.name != path.name)
    if any("[handover]" in other.read_text("utf-8", "replace") for other in others):
        return name_own_handover(path)
    return usual


def _lines(draft: Draft, folder: str) -> Iterator[str]:
    yield "# A starter plan, drafted from the sources. Open decisions are comments."
    yield "# Preview it: plait check. Run it: plait run. Every key explained: plait help plan."
    yield ""
    yield f"title = {toml_string(draft.base.name.replace('-', ' ').capitalize())}"
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
        yield f"mend = {toml_string(name)}"
        yield f"split = {toml_array(splits)}"
    left = draft.base.name
    for number, join in enumerate(draft.joins):
        yield ""
        yield from _join(left, join, into=not number)
        left = "combined"
    yield from _not_sure(draft)
    yield ""
    yield from _expect(draft)
    yield ""
    yield "[handover]"
    yield f"result = {toml_string(draft.result)}"
    yield f"folder = {toml_string(folder)}"
    yield 'formats = ["csv"]  # also parquet, arrow, json, jsonl, xlsx, sqlite'


def _source(drafted_source: DraftedSource, labelled: bool = False) -> Iterator[str]:
    yield f"[source.{toml_key(drafted_source.name)}]"
    paths = (
        toml_literal_string(drafted_source.paths[0])
        if len(drafted_source.paths) == 1
        else _paths(drafted_source.paths)
    )
    yield f"path = {paths}"
    if labelled and drafted_source.extracts > 1:
        field = "{sheet}" if drafted_source.sheets else "{stem}"
        yield f"label = {{ {LABEL} = {toml_string(field)} }}  # which extract a row came from"
    for said in drafted_source.open:
        yield from _comment(said)


def _paths(paths: Iterable[str]) -> str:
    return f"[{', '.join(map(toml_literal_string, paths))}]"


def _stack(drafted_source: DraftedSource) -> Iterator[str]:
    yield "[[step]]"
    name = toml_string(drafted_source.name)
    yield f"stack = {name}  # {drafted_source.extracts} extracts, one below the other"
    if drafted_source.same:
        yield from _comment("Headings that look like one spelt differently:")
        pairs = ", ".join(
            f"{toml_key(new)} = {toml_string(olds[0]) if len(olds) == 1 else toml_array(olds)}"
            for new, olds in drafted_source.same.items()
        )
        yield f"same = {{ {pairs} }}"
    if drafted_source.repeats:
        yield f"distinct = true  # {drafted_source.repeats:,} rows identical to an earlier row"


def _join(left: str, drafted_join: DraftedJoin, into: bool) -> Iterator[str]:
    for said in drafted_join.evidence:
        yield from _comment(said)
    yield "[[step]]"
    yield f"join = {toml_array([left, drafted_join.right])}"
    if all(here == there for here, there in drafted_join.key):
        yield f"key = {toml_array([here for here, _ in drafted_join.key])}"
    else:
        yield f"key = {_table(dict(drafted_join.key))}"
    if drafted_join.ignore:
        yield f"ignore = {toml_array(drafted_join.ignore)}"
    yield f"cardinality = {toml_string('many-to-one')}"
    if into:
        yield 'into = "combined"'


def _not_sure(draft: Draft) -> Iterator[str]:
    told = {draft.reasons.get(u.name) for u in draft.unused}
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
        rows = [f"combined = {base.name}", *rows]
        yield f"rows = {toml_array(rows)}  # no join adds or loses a row"
        most = max(j.lost for j in draft.joins)
        yield f"unmatched = {{ combined = {most} }}  # in each join"
    else:
        yield f"rows = {toml_array(rows)}"
    keyed = {o.name: o.key for o in (base, *draft.others) if o.key}
    keyed |= {
        join.right: tuple(name for _, name in join.key) for join in draft.joins if join.no_repeats
    }
    if keyed:
        pairs = ", ".join(f"{toml_key(name)} = {toml_array(key)}" for name, key in keyed.items())
        yield f"unique = {{ {pairs} }}"


def _comment(text: str) -> Iterator[str]:
    words = " ".join(text.split())
    lines = textwrap.wrap(words, _WIDTH - 2, break_on_hyphens=False, break_long_words=False)
    return (f"# {line}" for line in lines or [""])


def _table(pairs: Mapping[str, str]) -> str:
    entries = (f"{toml_key(name)} = {toml_string(text)}" for name, text in pairs.items())
    return f"{{ {', '.join(entries)} }}"
