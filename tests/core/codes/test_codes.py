"""Codes and dictionaries: equal codes exactly for equal texts, however long or odd."""

from __future__ import annotations

from itertools import islice

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.codes.dense_codes import (
    combine_codes,
    count_codes,
    order_of_codes,
    rows_grouped_by_code,
)
from plait.core.codes.key_codes import encode_key_column
from plait.core.codes.partition import hash_partitioner, partition_words
from plait.core.keys.duplicates import find_duplicate_keys
from plait.core.table.table import table_from_columns
from plait.core.text.dictionary import dictionary_encode
from plait.core.text.hash_table import WordHashTable

TEXTS = st.lists(
    st.one_of(st.none(), st.text("ab\0é", max_size=30), st.text(max_size=9)), max_size=60
)


CODES = st.lists(st.integers(-1, 5), max_size=40)


@settings(max_examples=cases(200), deadline=None)
@given(st.lists(st.tuples(st.integers(-1, 5), st.integers(-1, 70_000)), max_size=40))
def test_mixing_pairs_is_dense_and_exact_both_ways(pairs):
    left = np.array([a for a, _ in pairs], np.int32)
    right = np.array([b for _, b in pairs], np.int32)
    for right_size in (70_001, 2**31 - 1):  # through the direct table, and by hash
        (codes,), size = combine_codes([left], 6, [right], right_size)
        known: dict[tuple[int, int], int] = {}
        for pair, code in zip(pairs, codes.tolist(), strict=True):
            assert (code == -1) == (-1 in pair)
            if code >= 0:
                assert known.setdefault(pair, code) == code
        assert sorted(known.values()) == list(range(size))


@given(CODES)
def test_counting_and_sorting_by_code(codes):
    array = np.array(codes, np.int32)
    counts = count_codes(array, 6)
    assert counts.tolist() == [codes.count(code) for code in range(6)]
    rows, offsets = rows_grouped_by_code(array, counts)
    for code in range(6):
        expected = [row for row, other in enumerate(codes) if other == code]
        assert rows[offsets[code] : offsets[code + 1]].tolist() == expected


@given(st.lists(st.integers(0, 2**40), max_size=50))
def test_the_order_of_codes_is_stable(values):
    order = order_of_codes(np.array(values, np.int64), 2**40 + 1)
    assert order.tolist() == sorted(range(len(values)), key=values.__getitem__)


@settings(deadline=None)
@given(st.lists(st.sampled_from(["", "a", "b", None, "a longer text"]), min_size=1, max_size=200))
def test_coding_a_column_changes_no_cell(cells):
    column = pa.chunked_array([pa.array(cells, pa.string())])
    codes = dictionary_encode(column)
    if codes is not None:
        assert codes.to_pylist() == cells


def test_numbers_share_a_code_only_where_all_tables_have_numbers():
    def codes(*tables):
        coded_ = encode_key_column([pa.chunked_array([pa.array(cells)]) for cells in tables])
        return [one.tolist() for one in coded_.codes], tuple(map(str, coded_.types))

    assert codes(["7", "8"], ["7.0", "8.00"]) == ([[0, 1], [0, 1]], ("integer", "decimal"))
    assert codes(["7", "x"], ["7.0"])[0] == [[0, 1], [2]]
    assert codes(["007"], ["7"])[1] == ("text", "integer")


@settings(max_examples=cases(200), deadline=None)
@given(
    st.lists(
        st.tuples(
            st.sampled_from(["k1", "k2", "", "k3"]),
            st.sampled_from(["a", "", None, "a text of some length", "a text of same length"]),
            st.sampled_from(["1", "2"]),
        ),
        max_size=25,
    )
)
def test_duplicates_are_repeats_or_conflicts(rows):
    columns = list(zip(*rows, strict=True)) or [(), (), ()]
    table = table_from_columns("t", dict(zip("kab", map(list, columns), strict=True)))
    codes = encode_key_column([table.chunks("k")])
    found = find_duplicate_keys(
        table, ["k"], codes.codes[0], count_codes(codes.codes[0], codes.size)
    )
    groups: dict[str, list[tuple[str, str]]] = {}
    for key, a, b in rows:
        if key:
            groups.setdefault(key, []).append((a or "", b))
    several = {key: cells for key, cells in groups.items() if len(cells) > 1}
    conflicts = {key for key, cells in several.items() if len(set(cells)) > 1}
    assert (found.keys, found.conflicts) == (len(several), len(conflicts))
    assert found.repeats == found.keys - found.conflicts
    assert found.rows == sum(map(len, several.values()))
    assert {example.text.split(":")[0] for example in found.conflict_examples} == {
        f"k {key}" for key in conflicts
    }


def test_words_of_one_class_want_slots_all_over_their_table():
    """Else every look-up goes through all that came before: minutes for a million rows."""
    words = np.arange(1, 1 << 20, dtype=np.uint64)
    dealt = partition_words(
        lambda span: (np.arange(*span), words[slice(*span)]),
        [(0, len(words))],
        *hash_partitioner(len(words), 1 << 14),
    )
    for _, of_class in islice(dealt.classes(), 8):
        table = WordHashTable()
        table.encode(of_class)
        slots = np.bincount(table._slots(of_class), minlength=len(table._words))
        assert slots.max() < 20
        assert np.count_nonzero(slots) > len(of_class) / 2
