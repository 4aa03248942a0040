"""Texts as words and codes, cells and numbers as text: against plain Python."""

from __future__ import annotations

import json
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.text.cells import empty_to_null, repeat_cell, slice_texts, to_text
from plait.core.text.decimals import (
    format_decimal,
    format_decimal_short,
    format_scaled_integer,
    smallest_decimal_type,
    to_arithmetic_type,
)
from plait.core.text.dictionary import TextDictionary, dictionary_encode
from plait.core.text.hash_table import WordHashTable
from plait.core.text.json_text import DuplicateMemberError, format_json, parse_json

# Dates, and what is a sign away from one: the signs beside the digits and the hyphen among them.
DATES = st.builds(
    lambda date, at, sign: date if at > 9 else date[:at] + sign + date[at + 1 :],
    st.dates().map(str),
    st.integers(0, 19),
    st.sampled_from("/:-.,;?*0p\x10\x1d\0"),
)
TEXTS = st.lists(
    st.one_of(
        st.none(),
        DATES,
        st.text("0123456789,-./:;+\x1c", min_size=6, max_size=16),
        st.text("ab\0é", max_size=30),
        st.text(max_size=9),
        st.builds(lambda text, times: text * times, st.text("aé", min_size=2), st.integers(60, 90)),
    ),
    max_size=60,
)


@settings(max_examples=cases(300), deadline=None)
@given(st.lists(TEXTS, max_size=4), st.booleans(), st.integers(0, 3))
def test_a_dictionary_gives_equal_codes_exactly_to_equal_texts(batches, wide, cut):
    dictionary = TextDictionary()
    known: dict[str, int] = {}
    for batch in batches:
        array = pa.array(batch, pa.large_string() if wide else pa.string()).slice(cut)
        for text, code in zip(array.to_pylist(), dictionary.encode(array).tolist(), strict=True):
            assert (code == -1) == (not text)
            if text:
                assert known.setdefault(text, code) == code
    assert sorted(known.values()) == list(range(len(dictionary)))
    texts = dictionary.texts().to_pylist()
    assert all(texts[code] == text for text, code in known.items())
    asked = [*known, *(f"{text}a" for text in known), "z" * 300]
    found = dictionary.find(pa.array(asked, pa.string())).tolist()
    assert found == [known.get(text, -2) for text in asked]


def test_a_word_table_keeps_its_codes_as_it_grows():
    rng = np.random.default_rng(5)
    table, known = WordHashTable(), {}
    for size in (10, 5000, 40_000, 100_000):
        words = rng.integers(1, 150_000, size).astype(np.uint64) << np.uint64(20)
        codes, new = table.encode(words)
        assert len(new) == table.size - len(known)
        for word, code in zip(words.tolist(), codes.tolist(), strict=True):
            assert known.setdefault(word, code) == code
    assert sorted(known.values()) == list(range(table.size))


NUMBERS = st.decimals(-(10**12), 10**12, places=4, allow_nan=False)


@settings(max_examples=cases(200), deadline=None)
@given(st.lists(st.one_of(st.none(), NUMBERS), max_size=20))
def test_decimals_are_written_with_all_their_places_and_short_without_zeros(values):
    array = pa.array(values, pa.decimal128(20, 4))
    assert format_decimal(array).to_pylist() == [
        None if one is None else f"{one:.4f}".replace("-0.0000", "0.0000") for one in values
    ]
    for text, value in zip(format_decimal_short(array).to_pylist(), values, strict=True):
        assert (text is None) == (value is None)
        if text is not None:
            assert Decimal(text) == value and "E" not in text
            assert not ("." in text and text.endswith(("0", ".")))


@pytest.mark.parametrize(
    ("precision", "scale", "bits"), [(1, 0, 128), (38, 10, 128), (39, 10, 256), (76, 0, 256)]
)
def test_the_narrowest_decimal_type_is_chosen(precision, scale, bits):
    made = smallest_decimal_type(precision, scale)
    assert (made.precision, made.scale, made.bit_width) == (precision, scale, bits)
    assert smallest_decimal_type(2, 5).precision == 5  # as many digits as there are places


@pytest.mark.parametrize(
    ("given_type", "made"),
    [
        (pa.int8(), pa.int64()),
        (pa.uint32(), pa.int64()),
        (pa.uint64(), pa.decimal128(20, 0)),
        (pa.float32(), pa.float64()),
        (pa.float64(), pa.float64()),
    ],
)
def test_numbers_are_reckoned_with_in_few_types(given_type, made):
    assert to_arithmetic_type(pa.array([1, None, 7], given_type)).type == made


@pytest.mark.parametrize(
    ("text", "places", "made"),
    [("5", 2, "0.05"), ("-5", 1, "-0.5"), ("120", 0, "120"), ("12", -2, "1200"), ("0", -2, "0")],
)
def test_a_point_is_put_where_it_belongs(text, places, made):
    assert format_scaled_integer(pa.array([text]), places).to_pylist() == [made]


@settings(max_examples=cases(300), deadline=None)
@given(
    st.lists(st.one_of(st.none(), st.text(max_size=12)), max_size=20),
    st.integers(0, 9),
    st.integers(0, 9),
)
def test_slices_of_texts_are_those_of_python(texts, start, stop):
    made = slice_texts(pa.array(texts, pa.string()), start, stop).to_pylist()
    assert made == [None if text is None else text[start : max(stop, start)] for text in texts]


def test_a_column_of_few_texts_is_coded_and_one_of_many_is_not():
    few = pa.chunked_array([pa.array(["calm", "busy", None] * 40_000)])
    codes = dictionary_encode(few)
    assert codes is not None and codes.type.value_type == pa.string()
    assert codes.to_pylist()[:6] == ["calm", "busy", None] * 2
    many = pa.chunked_array([pa.array([f"t{number}" for number in range(120_000)])])
    assert dictionary_encode(many) is None


def test_cells_are_written_as_a_text_file_has_them():
    assert to_text(pa.array([True, None, False])).to_pylist() == ["true", None, "false"]
    moments = pa.array([0, 1_500_000, 86_399_000_000], pa.timestamp("us"))
    assert to_text(moments).to_pylist() == [
        "1970-01-01 00:00:00", "1970-01-01 00:00:01.5", "1970-01-01 23:59:59",
    ]  # fmt: skip
    assert empty_to_null(pa.array(["", "a", None, " "])).to_pylist() == [None, "a", None, " "]
    assert [len(one) for one in repeat_cell("x", 200_000)] == [65536, 65536, 65536, 3392]
    assert repeat_cell(None, 0) == []


VALUES = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(-(10**30), 10**30), st.text(max_size=6)),
    lambda inner: st.one_of(
        st.lists(inner, max_size=4), st.dictionaries(st.text(max_size=4), inner, max_size=4)
    ),
    max_leaves=12,
)


@settings(max_examples=cases(300), deadline=None)
@given(VALUES)
def test_json_keeps_every_value_and_every_digit(value):
    text = format_json(value)
    assert json.loads(text) == value
    assert format_json(parse_json(text)) == text


def test_numbers_of_json_keep_their_digits_and_names_come_once():
    assert format_json(parse_json('{"a": [1.50, 1e3, -0]}')) == '{"a":[1.50,1e3,-0]}'
    with pytest.raises(DuplicateMemberError, match="'a' occurs twice"):
        parse_json('{"a": 1, "a": 2}')


def test_the_library_chooses_among_slices_of_texts_without_losing_where_they_begin():
    """Arrow before 24 gave cells that lie outside their buffer: its bound stands on this."""
    whole = pa.array(["calm", "", "two\nlines", "a, b", "ü"] * 3000)
    for begin in (0, 1, 999, 7000):
        part = whole.slice(begin, 5000)
        made = empty_to_null(part)
        made.validate(full=True)
        assert made.to_pylist() == [text or None for text in whole.to_pylist()[begin:][:5000]]


def test_texts_that_are_numbered_already_get_the_codes_of_plain_ones():
    plain_texts = pa.chunked_array([["b", "a", None, "b", "", "c"], ["c", "a"]], pa.string())
    with_spare = [
        pa.DictionaryArray.from_arrays([2, 1, None, 2, 0, 3], ["", "a", "b", "c", "spare"]),
        pa.DictionaryArray.from_arrays([1, 0], ["a", "c", "spare"]),
    ]
    texts = [text or None for text in plain_texts.to_pylist()]
    alike = [one == other for one in texts for other in texts]
    for column in (plain_texts, plain_texts.dictionary_encode(), pa.chunked_array(with_spare)):
        dictionary = TextDictionary()
        codes = dictionary.encode_all(column).tolist()
        assert [one == other for one in codes for other in codes] == alike
        assert len(dictionary) == 3
