"""What an audit of keys says: the counts, who holds which keys, and why keys do not match."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from plait.core.base.findings import Finding, agreeing, pluralize
from plait.core.keys.key_sets import KeySetOverlap
from plait.core.operations.keys import KeyAudit
from plait.core.table.key_spec import quote_name
from plait.core.unmatched.causes import FailingKeyParts
from plait.core.unmatched.diagnosis import UnmatchedDiagnosis, format_keys
from plait.core.unmatched.normalization_gains import NormalizationGain
from plait.report.document import (
    Bar,
    Block,
    Document,
    Findings,
    Grid,
    GridColumn,
    Note,
)
from plait.report.evidence_document import evidence_answer, evidence_blocks

_MOST_NEAR_SHOWN = 6
_MOST_COMBINATIONS = 12
_MOST_EXTRACTS = 12
_MOST_COLUMNS = 3


def keys_document(
    key_audit: KeyAudit, findings: Sequence[Finding], written_to: str = "", whole: bool = False
) -> Document:
    """The answer, the counts, the key sets, why keys do not match, the findings.

    Parameters
    ----------
    written_to : str
        The file of keys or pairs, where one is written.
    whole : bool
        With every near key.
    """
    by_evidence = evidence_answer(key_audit, key_audit.linkage) if key_audit.linkage else ()
    answer = [
        *_answer(key_audit),
        *by_evidence,
        *([f"written to {written_to}"] if written_to else []),
    ]
    blocks: list[Block] = [_counts(key_audit), *_extracts(key_audit), *_conflict_columns(key_audit)]
    if key_audit.pairs:
        blocks += _key_sets(key_audit)
    if key_audit.why is not None:
        blocks += _reasons(key_audit, key_audit.why, whole)
    if key_audit.linkage is not None:
        blocks += evidence_blocks(key_audit, key_audit.linkage, whole)
    return Document(tuple(answer), (), (*blocks, Findings(tuple(findings))))


def _answer(key_audit: KeyAudit) -> Iterator[str]:
    if not key_audit.pairs:
        yield from _answer_of_one(key_audit)
    elif len(key_audit.pairs) == 1:
        yield from _answer_of_two(key_audit)
    else:
        everywhere = [
            holding
            for holding in key_audit.holdings
            if len(holding.sources) == len(key_audit.sources)
        ]
        total = sum(holding.keys for holding in key_audit.holdings)
        held = everywhere[0].keys if everywhere else 0
        every = f"all {len(key_audit.sources)} sources"
        yield f"{held:,} of {pluralize(total, 'key')} {agreeing(total, 'is', 'are')} in {every}"


def _answer_of_one(key_audit: KeyAudit) -> Iterator[str]:
    (table,), (key,) = key_audit.tables, key_audit.key
    name = ",".join(map(quote_name, key))
    if table.is_unique and not table.missing_key_rows:
        yield (
            f"{name} is unique in {table.name}: {pluralize(table.rows, 'row')}, each with "
            "its own key"
        )
        return
    texts = []
    if table.duplicate_keys:
        texts.append(
            f"{pluralize(table.duplicate_keys, 'key')} on {pluralize(table.duplicate_rows, 'row')}"
        )
    if table.missing_key_rows:
        texts.append(f"{pluralize(table.missing_key_rows, 'row')} with an incomplete key")
    yield f"{name} is not unique in {table.name}: {', '.join(texts)}"
    if key_audit.uniqueness is not None:
        for column, rows in key_audit.uniqueness.with_column:
            left = f"unique except for {pluralize(rows, 'row')}" if rows else "unique"
            yield f"with {column}: {left}   --key {name},{quote_name(column)}"
        yield f"rows that keep {name} from being unique: {key_audit.uniqueness.in_the_way:,}"


def _answer_of_two(key_audit: KeyAudit) -> Iterator[str]:
    (pair,), why = key_audit.pairs, key_audit.why
    left_keys = pair.keys_in_both + pair.keys_only_left
    right_keys = pair.keys_in_both + pair.keys_only_right
    if not (pair.keys_only_left or pair.keys_only_right):
        yield f"all {pluralize(left_keys, 'key')} of {pair.left} and {pair.right} match"
        return
    yield (
        f"not matched: {pair.keys_only_left:,} of {pluralize(left_keys, 'key')} in "
        f"{pair.left} ({pluralize(pair.rows_only_left, 'row')}), "
        f"{pair.keys_only_right:,} of {right_keys:,} in {pair.right} ("
        f"{pluralize(pair.rows_only_right, 'row')})"
    )
    if why is not None and why.best is not None:
        yield (
            f"{_gained_keys(why.best, pair)} would match with --ignore {','.join(why.best.ways)}"
            f", {_colliding(why.best, pair.right)}"
        )
    elif why is not None and why.words is None:
        yield "no looser comparison (--ignore) would match any of them"
    if why is not None and why.words is not None:
        words = ",".join(map(quote_name, why.words.words))
        yield f"{_gained_keys(why.words, pair)} would match with --ignore-words {words}"
    if why is not None and why.tried and key_audit.linkage is None:
        side = (pair.left, pair.right)[why.side]
        yield _near(why.near, why.tried, "other " if why.best else "", side)


def _gained_keys(gain: NormalizationGain, pair: KeySetOverlap) -> str:
    """Which keys would match: ``3 keys of visits and 2 keys of hives``."""
    sides = ((gain.keys, pair.left), (gain.right_keys, pair.right))
    return " and ".join(f"{pluralize(keys, 'key')} of {name}" for keys, name in sides if keys)


def _near(near: int, tried: int, other: str, side: str) -> str:
    """How many of the keys tried have a near one.

    >>> _near(0, 4, "other ", "visits")
    'none of the other 4 keys of visits has a close match'
    >>> _near(1, 4, "", "visits")
    '1 of the 4 keys of visits without a match has a close match'
    """
    lost = "" if other else " without a match"
    if tried == 1:
        has = "has" if near else "has no"
        return f"the {other}key of {side}{lost} {has} {'a ' if near else ''}close match"
    every = f"the {other}{tried:,} keys of {side}{lost}"
    if not near:
        return f"none of {every} has a close match"
    return f"{near:,} of {every} {agreeing(near, 'has', 'have')} a close match"


def _colliding(gain: NormalizationGain, right: str) -> str:
    if not gain.collisions:
        return "with no key collisions"
    return f"but {pluralize(gain.collisions, 'key')} of {right} would become the same as another"


def _counts(key_audit: KeyAudit) -> Grid:
    """The rows and keys of each table."""
    heads = ("rows", "keys", "no key", "repeated", "identical", "conflicting")
    return Grid(
        (GridColumn("source"), *(GridColumn(head, "right") for head in heads)),
        [
            (
                *(table.name, table.rows, table.distinct_keys, table.missing_key_rows),
                *(table.duplicate_keys, table.repeat_keys, table.conflict_keys),
            )
            for table in key_audit.tables
        ],
    )


def _extracts(key_audit: KeyAudit) -> Iterator[Block]:
    """Each extract of the sides that are several; those with most unmatched first."""
    if not key_audit.extracts:
        return
    of_two = key_audit.extracts[0].unmatched_keys is not None
    heads = ("rows", "keys", "no key", *(("not matched", "their rows") if of_two else ()))
    sides = list(dict.fromkeys(extract.side for extract in key_audit.extracts))
    extracts = sorted(
        key_audit.extracts, key=lambda one: (sides.index(one.side), -(one.unmatched_rows or 0))
    )
    shown = extracts[:_MOST_EXTRACTS]
    rest = len(extracts) - len(shown)
    yield Grid(
        (
            *([GridColumn("of")] if sides[1:] else []),
            GridColumn("extract"),
            *(GridColumn(head, "right") for head in heads),
        ),
        [
            (
                *([one.side] if sides[1:] else []),
                *(one.name, one.rows, one.distinct_keys, one.missing_key_rows),
                *((one.unmatched_keys or 0, one.unmatched_rows or 0) if of_two else ()),
            )
            for one in shown
        ],
    )
    if rest:
        lost = sum(one.unmatched_rows or 0 for one in extracts[_MOST_EXTRACTS:])
        text = f", {pluralize(lost, 'row')} of them not matched" if of_two else ""
        yield Note(f"and {pluralize(rest, 'more extract')}{text}: --json lists all")


def _conflict_columns(key_audit: KeyAudit) -> Iterator[Note]:
    """In which columns the rows of one key differ."""
    for table in key_audit.tables:
        if table.conflict_columns:
            shown = list(table.conflict_columns.items())[:_MOST_COLUMNS]
            text = ", ".join(f"{name} in {pluralize(keys, 'key')}" for name, keys in shown)
            more = len(table.conflict_columns) - len(shown)
            text += f", and {pluralize(more, 'more column')}" if more else ""
            yield Note(f"{table.name} differs: {text}")


def _key_sets(key_audit: KeyAudit) -> Iterator[Block]:
    """The grid of keys against sources: which combination holds how many."""
    names = [table.name for table in key_audit.tables]
    numbered = len(names) > 4
    most = max((holding.keys for holding in key_audit.holdings), default=0)
    yield Grid(
        (
            *(
                GridColumn(str(number) if numbered else name, "center", wraps=False, widest=16)
                for number, name in enumerate(names, 1)
            ),
            *(GridColumn("keys", "right"), GridColumn("rows", "right"), GridColumn()),
        ),
        [
            (
                *("●" if name in holding.sources else "○" for name in names),
                f"{holding.keys:,}",
                " + ".join(f"{rows:,}" for rows in holding.rows)
                if len(holding.rows) < 4
                else f"{sum(holding.rows):,}",
                Bar(holding.keys, most, "usual" if len(holding.sources) == len(names) else "odd"),
            )
            for holding in key_audit.holdings[:_MOST_COMBINATIONS]
        ],
    )
    if numbered:
        yield Note(", ".join(f"{number} {name}" for number, name in enumerate(names, 1)))
    if len(key_audit.pairs) == 1 and key_audit.pairs[0].keys_in_both:
        yield Note(f"{key_audit.pairs[0].cardinality}, judged by the matching keys")


def _reasons(key_audit: KeyAudit, why: UnmatchedDiagnosis, whole: bool) -> Iterator[Block]:
    """What looser comparisons would gain, which part fails, where else values are, near keys."""
    left, right = (table.name for table in key_audit.tables)
    if why.gains or why.best:
        yield _gains(why, left, right)
    if any(why.failing):
        yield Grid(
            (GridColumn(share=1), *(GridColumn("", "right", wraps=False) for _ in range(2))),
            [
                (
                    f"{name}: {_describe_failing_parts(parts, other)}",
                    pluralize(parts.keys, "key"),
                    pluralize(parts.rows, "row"),
                )
                for side, (name, other) in enumerate(((left, right), (right, left)))
                for parts in why.failing[side]
            ],
            "which part of the key does not match",
            has_heads=False,
        )
    for elsewhere in why.elsewhere:
        yield Note(
            f"{elsewhere.better_share:.0%} of {elsewhere.table}'s {elsewhere.column} are in "
            f"{elsewhere.other}'s {elsewhere.better}, {elsewhere.named_share:.0%} in "
            f"{elsewhere.named}",
            "odd",
        )
    if why.tried and key_audit.linkage is None:
        yield from _advised_evidence(key_audit)
    if why.near and key_audit.linkage is None:
        yield from _near_keys(key_audit, why, whole)


def _advised_evidence(key_audit: KeyAudit) -> Iterator[Block]:
    """What else may tell which keys mean the same: columns that both tables have beside the key."""
    left, right = key_audit.sources
    shared = [name for name in left.column_names if right.has_column(name)]
    beside = [name for name in shared if all(name not in key for key in key_audit.key)]
    if beside:
        named = ",".join(map(quote_name, beside[:_MOST_COLUMNS]))
        yield Note(f"to look for partners by other columns: --evidence {named}", "plain")


def _gains(why: UnmatchedDiagnosis, left: str, right: str) -> Grid:
    best = (why.best,) if why.best and len(why.best.ways) > 1 else ()
    gains = (*why.gains, *best)
    heads = (f"{left}: rows", "keys", f"{right}: keys", "would collide")
    return Grid(
        (GridColumn("--ignore"), *(GridColumn(head, "right") for head in heads)),
        [
            (",".join(gain.ways), gain.rows, gain.keys, gain.right_keys, gain.collisions)
            for gain in gains
        ],
        "gains from a looser comparison",
        strong=frozenset(
            number
            for number, gain in enumerate(gains)
            if gain is why.best or (why.best and gain.ways == why.best.ways)
        ),
    )


def _describe_failing_parts(failing_key_parts: FailingKeyParts, other: str) -> str:
    known, unknown = " and ".join(failing_key_parts.known), " and ".join(failing_key_parts.unknown)
    if not unknown:
        return f"{known} are in {other}, but not together"
    if not known:
        return f"{other} has neither {' nor '.join(failing_key_parts.unknown)}"
    known += agreeing(len(failing_key_parts.known), " is", " are")
    return (
        f"{known} in {other}, {unknown} {agreeing(len(failing_key_parts.unknown), 'is', 'are')} not"
    )


def _near_keys(key_audit: KeyAudit, why: UnmatchedDiagnosis, whole: bool) -> Iterator[Block]:
    """Keys without a match beside those of the other table that are spelt nearly so."""
    near = why.suggestions.of_near()
    shown = near if whole else near[:_MOST_NEAR_SHOWN]
    left = format_keys(key_audit.coding, why.suggestions.left[shown])
    right = format_keys(key_audit.coding, why.suggestions.right[shown])
    rows, before = [], ""
    for mine, other, row in zip(left, right, shown.tolist(), strict=True):
        sure = "yes" if why.suggestions.sure[row] else ""
        same = mine if why.side == 0 else other
        again = same == before and why.side == 0
        rows.append(
            ("" if again else mine, f"→ {other}", f"{why.suggestions.score[row]:.2f}", sure)
        )
        before = same
    bounded = ", not all candidates compared" if why.bounded else ""
    columns = tuple(GridColumn() for _ in range(4))
    yield Grid(columns, rows, f"similar keys{bounded}", has_heads=False)
    if len(near) > len(shown):
        yield Note(f"and {len(near) - len(shown):,} more: --verbose")
    yield Note("to use them: --out pairs.csv, edit it, then --pairs pairs.csv", "plain")
