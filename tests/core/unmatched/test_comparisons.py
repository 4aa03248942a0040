"""Looser comparisons, what they gain, key specifications, labels and findings."""

from __future__ import annotations

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import UsageError
from plait.core.base.findings import Finding, by_severity, matching_findings
from plait.core.codes.key_codes import encode_keys
from plait.core.codes.normalize import SPELLING_WAYS, normalize_texts
from plait.core.keys.match import match_keys
from plait.core.lineage.source_labels import fill_label
from plait.core.operations.join import join
from plait.core.table.fragment import SourceOrigin
from plait.core.table.key_spec import format_key_option, parse_key_columns
from plait.core.table.table import table_from_columns
from plait.core.unmatched.normalization_gains import best_normalization_gain

KEYS = st.lists(
    st.sampled_from(
        ["ab1", "AB1", "ab-1", " ab1", "äb1", "0ab1", "zz", "00", "0", "", "c 2", "C2"]
    ),
    max_size=6,
)


@pytest.mark.parametrize(
    ("way", "one", "other"),
    [
        ("case", "Straße", "STRASSE"),
        ("space", " a b\u00a0", "ab"),
        ("punctuation", "O'Neil-2", "ONeil2"),
        ("accents", "Zoë", "Zoe"),
        ("leading-zeros", "0070", "70"),
    ],
)
def test_each_way_takes_out_what_it_names(way, one, other):
    forms = normalize_texts(pa.array([one, other]), [way]).to_pylist()
    assert forms[0] == forms[1]
    assert len(set(normalize_texts(pa.array([one, other]), []).to_pylist())) == 2


def test_leading_zeros_leave_one_zero_and_inner_ones():
    assert normalize_texts(pa.array(["000", "0", "1001"]), ["leading-zeros"]).to_pylist() == [
        "0",
        "0",
        "1001",
    ]


def matched(left, right, ways):
    """Left keys that match under looser comparison, the slow way."""

    def form(cell):
        return normalize_texts(pa.array([cell]), ways)[0].as_py()

    forms = {form(cell) for cell in right if cell} - {""}
    return [cell for cell in left if cell and form(cell) in forms]


@settings(max_examples=cases(150), deadline=None)
@given(KEYS, KEYS)
def test_the_best_gain_matches_as_many_as_all_ways_together(left, right):
    tables = [table_from_columns("l", {"k": left}), table_from_columns("r", {"k": right})]
    gain = best_normalization_gain(match_keys(encode_keys(tables, [["k"], ["k"]])))
    now = len(matched(left, right, []))
    most = len(matched(left, right, list(SPELLING_WAYS)))
    if gain is None or now == len([cell for cell in left if cell]):
        assert most == now
        return
    assert gain.rows == most - now > 0
    assert len(matched(left, right, gain.ways)) == most
    for way in gain.ways:
        fewer = [one for one in gain.ways if one != way]
        assert len(matched(left, right, fewer)) < most


@settings(max_examples=cases(100), deadline=None)
@given(KEYS, KEYS, st.lists(st.sampled_from(sorted(SPELLING_WAYS)), max_size=3))
def test_joining_with_ignore_matches_what_the_slow_way_matches(left, right, ways):
    joined = join(
        table_from_columns("l", {"k": left}),
        table_from_columns("r", {"k": right, "w": ["w"] * len(right)}),
        "k",
        ignore=ways,
        cardinality="many-to-many",
    )
    assert joined.match.left_matched == len(matched(left, right, ways))
    names = joined.table.column_names
    ours = [joined.table.to_dict()[names[0]][row] for row in range(joined.table.rows)]
    assert set(ours) <= set(left)


@pytest.mark.parametrize(
    ("spec", "pairs"),
    [
        ("a", (("a", "a"),)),
        ("a, b", (("a", "a"), ("b", "b"))),
        ("a=b,c", (("a", "b"), ("c", "c"))),
        ('"a,b"="c=d"', (("a,b", "c=d"),)),
        ('"say ""hi"""', (('say "hi"', 'say "hi"'),)),
        (["a", "b=c"], (("a", "a"), ("b", "c"))),
        ({"a": "b"}, (("a", "b"),)),
    ],
)
def test_keys_are_read_and_spelt_alike(spec, pairs):
    assert parse_key_columns(spec) == pairs
    assert parse_key_columns(format_key_option(pairs)) == pairs


@pytest.mark.parametrize("spec", ["", ",", "=b", "a="])
def test_a_key_without_a_name_is_refused(spec):
    with pytest.raises(UsageError):
        parse_key_columns(spec)


def test_labels():
    origin = SourceOrigin("may", "in/2031/may.v2.csv#Sheet 1", 3)
    assert fill_label("{file}|{stem}|{folder}|{sheet}|x", origin) == (
        "may.v2.csv|may.v2|2031|Sheet 1|x"
    )


def test_findings_are_ordered_and_chosen_by_code_and_severity():
    findings = [
        Finding("a", "note", 5, ""),
        Finding("b", "error", 1, ""),
        Finding("c", "warning", 2, ""),
        Finding("d", "warning", 9, ""),
    ]
    assert [finding.code for finding in by_severity(findings)] == ["b", "d", "c", "a"]
    assert [finding.code for finding in matching_findings(findings, ["warning"])] == ["b", "c", "d"]
    assert [finding.code for finding in matching_findings(findings, ["a"])] == ["a"]
    assert matching_findings(findings, []) == []
