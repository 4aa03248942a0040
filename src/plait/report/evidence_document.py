"""What an audit of keys says of partners by evidence: how many, how sure, and the doubtful ones."""

from __future__ import annotations

from collections.abc import Iterator

from plait.core.base.findings import agreeing, pluralize
from plait.core.codes.dense_codes import dense_rank
from plait.core.linkage.evidence import Level
from plait.core.linkage.linkage import Linkage
from plait.core.linkage.odds import PieceModel
from plait.core.linkage.pairs_table import (
    format_expected,
    format_odds,
    format_share,
    sides_of_evidence,
)
from plait.core.operations.keys import KeyAudit
from plait.core.unmatched.diagnosis import format_keys
from plait.report.document import Block, Grid, GridColumn, Note

_MOST_DOUBTFUL = 6
_LIKELY = 0.5


def evidence_answer(key_audit: KeyAudit, linkage: Linkage) -> Iterator[str]:
    """How many keys have a partner, and how many of those that are used may be wrong."""
    left = key_audit.tables[0].name
    if linkage.refused:
        yield f"by evidence: no odds, since {linkage.refused}"
        return
    likely = int((linkage.probability > _LIKELY).sum())
    if len(key_audit.tables) == 1:
        groups = pluralize(len(dense_rank(linkage.right)[0]), "group")
        same = f"{agreeing(len(linkage.left), 'means', 'mean')} the same as another"
        yield f"by evidence: {pluralize(len(linkage.left), 'key')} of {left} {same}, in {groups}"
    else:
        right = key_audit.tables[1].name
        keys = pluralize(linkage.records[0], "key")
        yield (
            f"by evidence: {likely:,} of {keys} of {left} without a match "
            f"{agreeing(likely, 'has', 'have')} a likely partner in {right}"
        )
    if linkage.accept is None:
        yield "none is used: --accept 99% uses those that are so sure"
        return
    accepted = int(linkage.accepted.sum())
    reach = f"{agreeing(accepted, 'reaches', 'reach')} {linkage.accept * 100:.6g}%"
    yield (
        f"{accepted:,} of them {reach} and {agreeing(accepted, 'is', 'are')} used; "
        f"expected to be wrong: {format_expected(linkage.expected_wrong)}"
    )


def evidence_blocks(key_audit: KeyAudit, linkage: Linkage, whole: bool) -> Iterator[Block]:
    """What each piece tells, the pairs that are most in doubt, and what was compared."""
    if linkage.refused:
        return
    yield Grid(
        (
            GridColumn("evidence"),
            *(
                GridColumn(head, "right")
                for head in (
                    "equal in partners",
                    "in any two",
                    "different in partners",
                    "in any two",
                )
            ),
        ),
        [_piece_row(piece) for piece in linkage.model.pieces],
        "what the evidence tells",
    )
    yield from _doubtful(key_audit, linkage, whole)
    compared = pluralize(linkage.compared, "pair")
    yield Note(f"{compared} of keys compared, of {linkage.possible:,} that there are")
    if linkage.cut:
        shown = ", ".join(linkage.cut[:3])
        more = len(linkage.cut) - 3
        rest = f", and {more:,} more" if more > 0 else ""
        yield Note(
            f"values of {shown}{rest} that very many keys share were compared only where a third "
            "piece is equal too"
        )


def _piece_row(piece: PieceModel) -> tuple[str, ...]:
    cells = [
        format_share(float(shares[level])) if shares[level] else "·"
        for level in (Level.EQUAL, Level.DIFFERENT)
        for shares in (piece.true, piece.chance)
    ]
    return (piece.name, *cells)


def _doubtful(key_audit: KeyAudit, linkage: Linkage, whole: bool) -> Iterator[Block]:
    """The pairs next to even odds first: those that a person should look at."""
    order = linkage.rank_by_doubt()
    shown = order if whole else order[:_MOST_DOUBTFUL]
    if not len(shown):
        return
    names = [piece.short_name for piece in linkage.model.pieces]
    left = format_keys(key_audit.coding, linkage.left[shown])
    right = format_keys(key_audit.coding, linkage.right[shown])
    yield Grid(
        (
            *(GridColumn("key"), GridColumn("partner"), GridColumn("odds", "right", wraps=False)),
            *(
                GridColumn(""),
                GridColumn("for, to 1", share=1),
                GridColumn("against, to 1", share=1),
            ),
        ),
        [
            (
                *(mine, f"→ {other}", format_odds(float(linkage.log_odds[row]))),
                "use" if linkage.accepted[row] else "",
                *(", ".join(side) for side in sides_of_evidence(linkage, row, names)),
            )
            for mine, other, row in zip(left, right, shown.tolist(), strict=True)
        ],
        "partners by evidence, the doubtful first",
    )
    if len(order) > len(shown):
        yield Note(f"and {len(order) - len(shown):,} more: --verbose")
    yield Note("to use them: --out pairs.csv, then --pairs pairs.csv", "plain")
