"""A crosswalk: a table that says which key of the left counts as which key of the right."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.base.wording import Command, Setting, wording
from plait.core.codes.dense_codes import gather_by_code
from plait.core.codes.key_codes import KeyCodes, encode_keys
from plait.core.codes.normalize import Ignored
from plait.core.table.key_spec import Key
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.text.hash_table import Codes

LEFT, RIGHT, USE, DECIDED = "left ", "right ", "use", "decided"
ODDS, EVIDENCE = "odds", "evidence"
_YES = ("yes", "y", "true", "1", "x")
_DECISIONS = ("accepted", "rejected")
_NO = ("no", "n", "false", "0", "")


@dataclass(frozen=True, eq=False)
class Crosswalk:
    """Pairs of keys, and the columns of the table in which they stand."""

    table: Table
    left: tuple[str, ...]
    right: tuple[str, ...]

    def with_odds(self) -> npt.NDArray[np.bool_]:
        """Which pairs stand there by their odds, and not as a person decided so."""
        if not self.table.has_column(ODDS):
            return np.zeros(self.table.rows, bool)
        with_odds = _filled(self.table, ODDS)
        if self.table.has_column(DECIDED):
            with_odds &= ~_filled(self.table, DECIDED)
        return with_odds

    def reason(self, row: int) -> str:
        """How sure a pair is, and by what."""
        cells = [
            self.table.cells(self.table.column(name), row, row + 1)[0].as_py()
            for name in (ODDS, EVIDENCE)
            if self.table.has_column(name)
        ]
        return "; ".join(str(cell) for cell in cells if cell)


def parse_crosswalk(table: Table, parts: int) -> Crosswalk:
    """Find the columns of a crosswalk.

    Parameters
    ----------
    table : Table
        With columns ``left …`` and ``right …`` as ``plait keys --out`` writes
        them; or the left key's columns first, then the right key's. Where there
        is a column ``use``, only rows that say yes there count.
    parts : int
        Columns of the key.

    Raises
    ------
    UsageError
        When there are too few columns.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> pairs = table_from_columns("pairs", {"ours": ["Elm Rd"], "theirs": ["Elm Road"]})
    >>> found = parse_crosswalk(pairs, 1)
    >>> found.left, found.right
    (('ours',), ('theirs',))
    """
    left, right = _key_columns(table, parts)
    return Crosswalk(_used(table), left, right)


def _key_columns(table: Table, parts: int) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The columns of the left and of the right key."""
    names = table.column_names
    left = tuple(name for name in names if name.startswith(LEFT))
    right = tuple(name for name in names if name.startswith(RIGHT))
    if len(left) != parts or len(right) != parts:
        left, right = names[:parts], names[parts : 2 * parts]
    if len(right) != parts:
        raise UsageError(
            f"a crosswalk for a key of {parts} columns needs at least {2 * parts} "
            f"columns; {table.name} has {len(names)}",
            remedy=wording(
                "start from a generated one: ",
                Command(
                    "keys", ("LEFT", "RIGHT"), (Setting("key", "…"), Setting("out", "pairs.csv"))
                ),
            ),
        )
    return left, right


@dataclass(frozen=True, eq=False)
class Decisions:
    """Pairs of keys that a person accepted or rejected.

    Parameters
    ----------
    accepted : array of bool
        For each row of the crosswalk's table.
    """

    crosswalk: Crosswalk
    accepted: npt.NDArray[np.bool_]


def parse_decisions(table: Table, parts: int) -> Decisions:
    """What a person decided in a crosswalk.

    Parameters
    ----------
    table : Table
        As for ``parse_crosswalk``. Where it has a column ``decided``, only rows that say
        ``accepted`` or ``rejected`` there are; else every row is, as its column ``use`` says.

    Raises
    ------
    UsageError
        As ``parse_crosswalk``.
    """
    if table.has_column(DECIDED):
        words = pc.utf8_lower(pc.utf8_trim_whitespace(_texts(table, DECIDED)))
        decided = pc.is_in(words, pa.array(_DECISIONS, words.type))
        accepted = np.asarray(pc.equal(words.filter(decided), _DECISIONS[0]))
        table = table.take(np.flatnonzero(decided))
    else:
        accepted = _use_flags(table)
    left, right = _key_columns(table, parts)
    return Decisions(Crosswalk(table, left, right), accepted)


def _texts(table: Table, name: str) -> pa.Array:
    return pc.fill_null(to_text(table.cells(table.column(name), 0, table.rows)), "")


def _filled(table: Table, name: str) -> npt.NDArray[np.bool_]:
    """On which rows a column has more than spaces."""
    filled = pc.not_equal(pc.utf8_trim_whitespace(_texts(table, name)), "")
    flags: npt.NDArray[np.bool_] = filled.to_numpy(zero_copy_only=False)
    return flags


def _used(table: Table) -> Table:
    if not table.has_column(USE):
        return table
    return table.take(np.flatnonzero(_use_flags(table)))


def _use_flags(table: Table) -> npt.NDArray[np.bool_]:
    """Which pairs are to be used: all where nothing says otherwise."""
    if not table.has_column(USE):
        return np.ones(table.rows, bool)
    cells = pa.chunked_array([to_text(c) for c in table.chunks(USE).chunks], pa.string())
    words = pc.fill_null(pc.utf8_lower(pc.utf8_trim_whitespace(cells)), "")
    unknown = pc.index(pc.is_in(words, pa.array(_YES + _NO, words.type)), pa.scalar(False)).as_py()
    if unknown >= 0:
        raise UsageError(
            f"whether to use a pair is yes or no, and not {cells[unknown].as_py()!r}",
            "; ".join(map(str, table.source_rows(unknown))),
            f"write yes or no in its column {USE!r}",
        )
    flags: npt.NDArray[np.bool_] = pc.is_in(words, pa.array(_YES, words.type)).to_numpy()
    return flags


def encode_keys_with_crosswalk(
    tables: Sequence[Table],
    keys: Sequence[Sequence[str]],
    pairs: Table | None,
    ignore: Iterable[Ignored] = (),
    missing_match: bool = False,
) -> KeyCodes:
    """The keys of two tables, or of one, coded with a crosswalk between two spellings.

    Parameters
    ----------
    keys : sequence of sequence of str
        For each table its key columns.
    pairs : Table or None
        A crosswalk: left keys that count as right ones; in one table, spellings
        that count as others.
    ignore, missing_match
        As for ``encode_keys``.

    Raises
    ------
    UsageError
        When a left key is in the crosswalk with several right ones, it has too few columns,
        or, of one table, pairs lead in a circle.

    Notes
    -----
    Of one table pairs are followed: where ``a`` counts as ``b`` and ``b`` as ``c``, all are ``c``.
    Pairs of a key that is in no table are a finding of the coding.
    """
    if pairs is None:
        return encode_keys(tables, keys, ignore, missing_match)
    across = parse_crosswalk(pairs, len(keys[0]))
    every = [*tables, across.table, across.table]
    coding = encode_keys(
        every, [*keys, across.left, across.right], ignore, missing_match, followers=2
    )
    ours, theirs = coding.codes[-2:]
    _check_once(across, coding)
    to = np.arange(coding.code_count + 1, dtype=np.int32)
    to[-1] = -1
    there = (ours >= 0) & (theirs >= 0)
    to[ours[there]] = theirs[there]
    if len(tables) == 1:
        to = _followed(to, across, ours)
    pair_of = np.full(coding.code_count, -1, np.int32)
    pair_of[ours[there]] = np.flatnonzero(there)
    pair_rows = gather_by_code(pair_of, coding.codes[0], -1)
    codes = (to[coding.codes[0]], *coding.codes[1:-2])
    findings = tuple(_unused(across, coding, tables))
    columns = tuple(
        replace(column, codes=column.codes[:-2], types=column.types[:-2])
        for column in coding.key_columns
    )
    return KeyCodes(codes, coding.code_count, columns, findings, pair_rows)


def _followed(to: Codes, across: Crosswalk, ours: Codes) -> Codes:
    """Where each key leads to in the end.

    Raises
    ------
    UsageError
        For a circle, in which no key is the last.
    """
    pair = to
    for _ in range(len(to).bit_length()):  # each round follows twice as many pairs
        to = to[to]
    circling = np.flatnonzero(pair[to] != to)
    if not len(circling):
        return to
    row = int(np.flatnonzero(np.isin(ours, circling))[0])
    raise UsageError(
        f"{_key_text(across, row)} leads back to itself through other pairs of the crosswalk",
        "; ".join(map(str, across.table.source_rows(row))),
        f"keep one spelling as the last: delete a row, or write no in its column {USE!r}",
    )


def _unused(across: Crosswalk, coding: KeyCodes, tables: Sequence[Table]) -> Iterator[Finding]:
    """A finding for pairs of which a key is not where it should be."""
    ours, theirs = coding.codes[-2:]
    known = [np.append(coding.counts(number) > 0, False) for number in range(len(tables))]
    rows = np.flatnonzero(~known[0][ours] | ~known[-1][theirs])
    if len(tables) == 1:  # the spelling to be kept need not be there yet
        rows = np.flatnonzero(~known[0][ours])
    if not len(rows):
        return
    where = tables[0].name if len(tables) == 1 else f"{tables[0].name} and {tables[1].name}"
    few = rows[:MOST_EXAMPLES].tolist()
    yield Finding(
        "pairs-unused",
        "warning",
        len(rows),
        f"{pluralize(len(rows), 'pair')} of {across.table.name} not used: a key is not in {where}",
        wording(
            "to write pairs of keys that are there: ",
            Command("keys", ("…",), (Setting("out", "pairs.csv"),)),
        ),
        Location(across.table.name),
        tuple(
            FindingExample(_key_text(across, row), across.table.source_rows(row)[:1]) for row in few
        ),
    )


def _key_text(across: Crosswalk, row: int) -> str:
    table = across.table.take(np.array([row]))
    return ", ".join(str(table.chunks(name)[0].as_py()) for name in across.left)


def _check_once(across: Crosswalk, coding: KeyCodes) -> None:
    """See that no left key has two right ones."""
    ours, theirs = coding.codes[-2:]
    whole = np.flatnonzero((ours >= 0) & (theirs >= 0))  # the others are told as not used
    first = np.full(coding.code_count + 1, -1, np.int32)
    first[ours[whole[::-1]]] = theirs[whole[::-1]]
    other = whole[first[ours[whole]] != theirs[whole]]
    if len(other):
        row = int(other[0])
        where = "; ".join(map(str, across.table.source_rows(row)))
        raise UsageError(
            f"{_key_text(across, row)} is in the crosswalk for two different keys",
            where,
            f"keep one of them: delete the other row, or write no in its column {USE!r}",
        )


def crosswalk_column_names(key: Key) -> tuple[list[str], list[str]]:
    """The names of a crosswalk's columns.

    >>> crosswalk_column_names((("yard", "Yard"),))
    (['left yard'], ['right Yard'])
    """
    return [LEFT + left for left, _ in key], [RIGHT + right for _, right in key]
