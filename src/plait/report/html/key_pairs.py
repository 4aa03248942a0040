"""Keys without a match as a page's script has them settled by hand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from hashlib import sha256
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.codes.dense_codes import dense_rank, first_row_of_each_code
from plait.core.keys.crosswalk import crosswalk_column_names, parse_crosswalk
from plait.core.linkage.evidence import Level
from plait.core.linkage.linkage import Linkage
from plait.core.linkage.pairs_table import (
    LEAST_WEIGHT,
    LEVEL_WORDS,
    describe_weights,
    format_odds,
    format_times,
)
from plait.core.operations.keys import KeyAudit
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.unmatched.diagnosis import UnmatchedDiagnosis

Numbers = npt.NDArray[np.int64]

USUAL_ACCEPT = 0.99  # what a page offers to accept at once, where nobody names another
MOST_KEYS, MOST_OTHERS, _MOST_COLUMNS, _LONGEST = 2000, 4000, 12, 2000


@dataclass(frozen=True)
class NextCommands:
    """What is to be run after the pairs of a page were settled.

    Parameters
    ----------
    join : str
        The command that joins the two tables with them.
    audit : str
        With evidence: the one that estimates the odds anew from them.
    """

    join: str = ""
    audit: str = ""


def pack_unmatched_keys(
    key_audit: KeyAudit, why: UnmatchedDiagnosis, again: NextCommands, pairs: Table | None
) -> dict[str, Any]:
    """What the script needs.

    Parameters
    ----------
    key_audit : KeyAudit
        Of two tables.
    again : NextCommands
        What is to be run with the pairs.
    pairs : Table or None
        A crosswalk that was used already: its pairs are saved with the others.

    Returns
    -------
    dict
        ``side``: whose keys are without a match, 0 left, 1 right; ``keys``: those, the likeliest
        first, each with its nearest; ``others``: keys of the other side, those that are near,
        then those that match nothing; each with the columns beside the key on its first row.
    """
    linkage = key_audit.linkage
    partners = linkage.alternatives if linkage is not None else None
    suggestions = why.suggestions if partners is None else partners
    side = why.side if partners is None else 0
    mine, theirs = suggestions.left, suggestions.right
    if side:
        mine, theirs = theirs, mine
    counts = [key_audit.coding.counts(number) for number in (0, 1)]
    alone = np.flatnonzero((counts[side] > 0) & (counts[1 - side] == 0))
    free = np.flatnonzero((counts[1 - side] > 0) & (counts[side] == 0))
    rank = np.full(key_audit.coding.code_count, np.inf)
    if partners is None:  # the likeliest first
        np.minimum.at(rank, mine, -why.suggestions.score)
    else:  # those first on which a person's word tells most
        np.minimum.at(rank, mine, np.where(partners.decided < 0, np.abs(partners.log_odds), 1e9))
    lost = alone[np.argsort(rank[alone], kind="stable")][:MOST_KEYS]
    named = dense_rank(theirs[np.isin(mine, lost)])[0]
    matched = np.flatnonzero((counts[1 - side] > 0) & (counts[side] > 0))
    rest = np.concatenate([free, matched])[: MOST_OTHERS + len(named)]
    others = np.concatenate([named, rest[~np.isin(rest, named)]])[: max(MOST_OTHERS, len(named))]
    theirs = np.where(np.isin(mine, lost), theirs, -1)
    place = np.full(key_audit.coding.code_count + 1, -1)  # the last is that of -1
    place[others] = np.arange(len(others))
    near: dict[int, list[dict[str, Any]]] = {}
    for at in np.flatnonzero(place[theirs] >= 0).tolist():
        payload = _likeness(why, at) if linkage is None or partners is None else _odds(linkage, at)
        near.setdefault(int(mine[at]), []).append({"other": int(place[theirs[at]]), **payload})
    names = crosswalk_column_names(tuple(zip(*key_audit.key, strict=True)))
    return {
        "side": side,
        "sources": [table.name for table in key_audit.sources],
        "names": names,
        "columns": [_beside(key_audit, number) for number in (0, 1)],
        "keys": [
            {**key, "near": near.get(code, [])}
            for key, code in zip(_keys(key_audit, side, lost), lost.tolist(), strict=True)
        ],
        "unmatched": len(alone),
        "others": [
            {**other, "matched": bool(counts[side][code])}
            for other, code in zip(_keys(key_audit, 1 - side, others), others.tolist(), strict=True)
        ],
        "carried": _carried(pairs, len(names[0])),
        "again": again.join,
        "anew": again.audit,
        "evidence": partners is not None,
        "remembered": _digest(key_audit),
    }


def _likeness(why: UnmatchedDiagnosis, at: int) -> dict[str, Any]:
    """How alike two keys are spelt."""
    return {
        "score": round(float(why.suggestions.score[at]), 2),
        "why": _why(why) if why.suggestions.ignoring[at] else "near",
        "sure": bool(why.suggestions.sure[at]),
    }


def _odds(linkage: Linkage, at: int) -> dict[str, Any]:
    """How sure a partner is, and what each piece of evidence says of it."""
    partners = linkage.alternatives
    assert partners is not None
    names = [piece.short_name for piece in linkage.model.pieces]
    probability = float(partners.probability[at])
    decided = int(partners.decided[at])
    return {
        "score": round(probability, 6),
        "why": "evidence",
        "sure": probability >= (linkage.accept or USUAL_ACCEPT),
        "odds": format_odds(float(partners.log_odds[at])),
        "text": describe_weights(partners, at, names),
        "parts": [
            {
                "name": name,
                "level": LEVEL_WORDS[Level(int(level))],
                "weight": round(float(weight), 3),
                "times": format_times(float(weight)),
                "tells": bool(abs(weight) >= LEAST_WEIGHT),
            }
            for name, level, weight in zip(
                names, partners.levels[at], partners.weights[at], strict=True
            )
        ],
        **({"decided": "accepted" if decided else "rejected"} if decided >= 0 else {}),
    }


def _why(why: UnmatchedDiagnosis) -> str:
    return f"ignoring {','.join(why.best.ways)}" if why.best else "near"


def _beside(key_audit: KeyAudit, number: int) -> list[str]:
    """The columns beside the key."""
    names = key_audit.sources[number].column_names
    return [name for name in names if name not in key_audit.key[number]][:_MOST_COLUMNS]


def _keys(key_audit: KeyAudit, number: int, codes: Numbers) -> list[dict[str, Any]]:
    """Keys of a table: their parts, how many rows they are on, and the cells beside them."""
    table, coding = key_audit.sources[number], key_audit.coding
    counts, first = (
        coding.counts(number),
        first_row_of_each_code(coding.codes[number], coding.code_count),
    )
    parts = [
        column.texts.take(pa.array(part[codes])).to_pylist()
        for part, column in zip(coding.distinct, coding.key_columns, strict=True)
    ]
    result = table.take(first[codes])
    cells = [
        to_text(result.cells(result.column(name), 0, result.rows)).to_pylist()
        for name in _beside(key_audit, number)
    ]
    return [
        {
            "parts": [part[at] or "" for part in parts],
            "rows": int(counts[code]),
            "cells": [_cut(column[at]) for column in cells],
        }
        for at, code in enumerate(codes.tolist())
    ]


def _cut(cell: str | None) -> str | None:
    return cell if cell is None or len(cell) <= _LONGEST else f"{cell[:_LONGEST]}…"


def _carried(pairs: Table | None, parts: int) -> list[list[Sequence[str]]]:
    """The pairs of a crosswalk that was used."""
    if pairs is None:
        return []
    across = parse_crosswalk(pairs, parts)
    sides = [
        [
            to_text(across.table.cells(across.table.column(name), 0, across.table.rows)).to_pylist()
            for name in names
        ]
        for names in (across.left, across.right)
    ]
    return [
        [[column[row] or "" for column in side] for side in sides]
        for row in range(across.table.rows)
    ]


def _digest(key_audit: KeyAudit) -> str:
    """What decisions are remembered under: the same for the same files and key."""
    text = repr(([table.path or table.name for table in key_audit.sources], key_audit.key))
    return sha256(text.encode()).hexdigest()[:16]
