"""``join`` against a slow, obvious reference: nested loops over lists."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import ExpectationError
from plait.core.operations.join import join
from plait.core.table.table import table_from_columns

PAIRED = ("inner", "left", "right", "full")
CELLS = st.one_of(
    st.sampled_from(["a", "b", "A", "7", "007", "", None, "é", "eight-by", "a longer key cell"]),
    st.text(max_size=18),
)


@st.composite
def tables(draw, columns):  # every column a list of cells
    rows = draw(st.lists(st.tuples(*[CELLS] * len(columns)), max_size=12))
    cells = list(zip(*rows, strict=True)) or [()] * len(columns)
    return {name: list(values) for name, values in zip(columns, cells, strict=True)}


def is_number(text):
    whole, _, part = text.removeprefix("-").partition(".")
    plain = whole.isascii() and whole.isdigit() and (whole == "0" or whole[0] != "0")
    return plain and ("." not in text or (part.isascii() and part.isdigit()))


MARKERS = {"NA", "N/A", "n/a", "#N/A", "NULL", "null", "None", "NaN", "nan", "-", "--", "?"}


def without_markers(table, names):
    """The table, with markers for missing empty in key columns of numbers."""
    made = dict(table)
    for name in names:
        cells = [cell for cell in table[name] if cell and cell not in MARKERS]
        if cells and all(map(is_number, cells)):
            made[name] = [None if cell in MARKERS else cell for cell in table[name]]
    return made


def comparable(left, right, pairs):
    """Key tuples of both sides, ``None`` where a part is missing; numbers where all are."""
    left = without_markers(left, [here for here, _ in pairs])
    right = without_markers(right, [there for _, there in pairs])
    forms = []
    for here, there in pairs:
        cells = [cell for cell in left[here] + right[there] if cell]
        numeric = bool(cells) and all(map(is_number, cells))
        forms.append(lambda cell, numeric=numeric: float(cell) if numeric else cell)
    keys = []
    for table, names in ((left, [a for a, _ in pairs]), (right, [b for _, b in pairs])):
        rows = zip(*[table[name] for name in names], strict=True)
        keys.append(
            [
                tuple(form(cell) for form, cell in zip(forms, row, strict=True))
                if all(row)
                else None
                for row in rows
            ]
        )
    return keys


def reference(left, right, pairs, kind):
    """Pairs of row numbers, ``None`` for no row, in the promised order."""
    here, there = comparable(left, right, pairs)
    result = []
    for i, key in enumerate(here):
        partners = [j for j, other in enumerate(there) if key is not None and key == other]
        result += [(i, j) for j in partners]
        if not partners and kind in ("left", "full"):
            result.append((i, None))
    if kind in ("right", "full"):
        result += [(None, j) for j, other in enumerate(there) if other is None or other not in here]
    return result


def row_numbers(joined):
    """Which source rows each result row shows, from its lineage."""
    table = joined.table
    rows = []
    for row in range(table.rows):
        by_source = {place.source: place.row - 1 for place in table.source_rows(row)}
        rows.append((by_source.get("left"), by_source.get("right")))
    return rows


def check(left, right, pairs, kind):
    key = [f"{a}={b}" if a != b else a for a, b in pairs]
    joined = join(
        table_from_columns("left", left),
        table_from_columns("right", right),
        key=key,
        kind=kind,
        cardinality="many-to-many",
    )
    expected = reference(left, right, pairs, kind)
    assert row_numbers(joined) == expected
    assert joined.table.rows == joined.match.output_rows == len(expected)
    (entry,) = joined.entries
    assert sum(line.rows for line in entry.lines) == entry.rows_out == len(expected)
    assert entry.rows_in == {"left": len(left["p"]), "right": len(right["q"])}
    cells = joined.table.to_dict()
    for name in left:
        wanted = [left[name][i] if i is not None else None for i, _ in expected]
        if name not in dict(pairs):
            assert cells[name] == wanted
    wanted = [right["q"][j] if j is not None else None for _, j in expected]
    assert cells["q"] == wanted
    return joined


@pytest.mark.parametrize("kind", PAIRED)
@settings(max_examples=cases(150), deadline=None)
@given(left=tables(["k", "p"]), right=tables(["k", "q"]))
def test_single_key(kind, left, right):
    joined = check(left, right, [("k", "k")], kind)
    wanted = [
        left["k"][i] if i is not None else right["k"][j]
        for i, j in reference(left, right, [("k", "k")], kind)
    ]
    assert joined.table.to_dict()["k"] == wanted


@pytest.mark.slow
@pytest.mark.parametrize("kind", PAIRED)
@settings(max_examples=cases(150), deadline=None)
@given(left=tables(["k", "m", "p"]), right=tables(["k", "n", "q"]))
def test_composite_key_with_differing_names(kind, left, right):
    check(left, right, [("k", "k"), ("m", "n")], kind)


@settings(max_examples=cases(200), deadline=None)
@given(left=tables(["k", "p"]), right=tables(["k", "q"]))
def test_match_adds_up_and_cardinality_is_as_counted(left, right):
    match = check(left, right, [("k", "k")], "left").match
    assert match.left_rows == match.left_matched + match.left_unmatched + match.left_missing_key
    assert match.right_rows == match.right_matched + match.right_unmatched + match.right_missing_key
    here, there = comparable(left, right, [("k", "k")])
    both = {key for key in here if key is not None and key in there}
    many = ["many" if any(side.count(key) > 1 for key in both) else "one" for side in (here, there)]
    assert match.cardinality == "-to-".join(many)
    duplicates = {key for key in here if key is not None and here.count(key) > 1}
    assert match.left_duplicate_keys == len(duplicates)


@settings(max_examples=cases(150), deadline=None)
@given(left=tables(["k", "p"]), right=tables(["k", "q"]))
def test_many_to_many_is_refused_unless_it_is_said(left, right):
    asked = check(left, right, [("k", "k")], "inner").match
    tables_ = table_from_columns("left", left), table_from_columns("right", right)
    if asked.cardinality == "many-to-many":
        with pytest.raises(ExpectationError) as refused:
            join(*tables_, key="k", kind="inner")
        assert refused.value.match == asked
        assert f"{asked.output_rows:,}" in str(refused.value)
    else:
        assert join(*tables_, key="k", kind="inner").match == asked


@pytest.mark.slow
@settings(max_examples=cases(150), deadline=None)
@given(left=tables(["k", "p"]), right=tables(["k", "q"]))
def test_what_the_result_leaves_out_is_set_aside(left, right):
    for kind in PAIRED:
        joined = check(left, right, [("k", "k")], kind)
        shown = row_numbers(joined)
        for side, rows in (("left", len(left["k"])), ("right", len(right["k"]))):
            number = 0 if side == "left" else 1
            kept = {pair[number] for pair in shown}
            listed = set()
            for aside in joined.aside:
                if aside.name == f"{side}-unmatched" and not aside.in_result:
                    listed = {int(place[4:]) - 1 for place in aside.listed().to_dict()["place"]}
            assert kept - {None} | listed == set(range(rows))
            assert not kept & listed


@pytest.mark.slow
@settings(max_examples=cases(100), deadline=None)
@given(left=tables(["k", "p"]), right=tables(["k", "q"]))
def test_swapping_sides_mirrors_the_match(left, right):
    one = join(
        table_from_columns("left", left),
        table_from_columns("right", right),
        "k",
        cardinality="many-to-many",
        kind="full",
    ).match
    two = join(
        table_from_columns("right", right),
        table_from_columns("left", left),
        "k",
        cardinality="many-to-many",
        kind="full",
    ).match
    assert one.output_rows == two.output_rows
    assert one.left_unmatched == two.right_unmatched
    assert one.cardinality.split("-to-") == two.cardinality.split("-to-")[::-1]
