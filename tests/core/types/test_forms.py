"""Values written otherwise than plainly: what proves a form, and what they are read as."""

from __future__ import annotations

import random
import re
import unicodedata
from datetime import date, datetime, time, timedelta
from decimal import Decimal

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plait.core.base.errors import UsageError
from plait.core.types.date_formats import parse_dates
from plait.core.types.inference import (
    infer_column_type,
    matching_formats,
    parse_column,
    to_arrow_type,
)
from plait.core.types.missing_markers import MARKERS, count_missing_markers, marker_mask
from plait.core.types.value_formats import FORMS, declarable_type, formats_matching_sample


def read(cells):
    """The kind found for some cells, and the cells in its type."""
    column = pa.chunked_array([cells])
    kind = infer_column_type(column)
    return str(kind), parse_column(column.chunk(0), kind, to_arrow_type(kind, column)).to_pylist()


@pytest.mark.parametrize(
    ("cells", "kind", "values"),
    [
        (["1,234,567", "12", "-3"], "integer:1,234", [1234567, 12, -3]),
        (["1,234.5", "12"], "decimal:1,234.5", [1234.5, 12.0]),
        (["1.234,5", "", "12"], "decimal:1.234,5", [1234.5, None, 12.0]),
        (["0,5", "NA", "1,25"], "decimal:1.234,5", [0.5, None, 1.25]),
        (["Yes", "no", "NO"], "boolean:yes/no", [True, False, False]),
        (["5.4.2031", "30.12.2031"], "date:%d.%m.%Y", [date(2031, 4, 5), date(2031, 12, 30)]),
        (["3/4/2031", "13/4/2031"], "date:%d/%m/%Y", [date(2031, 4, 3), date(2031, 4, 13)]),
        (["3/4/2031", "4/13/2031"], "date:%m/%d/%Y", [date(2031, 3, 4), date(2031, 4, 13)]),
        (["5 April 2031", "6 May 2031"], "date:%d %B %Y", [date(2031, 4, 5), date(2031, 5, 6)]),
        (["7:05", "23:59"], "time:%H:%M", [time(7, 5), time(23, 59)]),
        (["1/2/2031 1:30 pm", "13/2/2031 12:00 AM"], "datetime:%d/%m/%Y %I:%M %p",
         [datetime(2031, 2, 1, 13, 30), datetime(2031, 2, 13)]),
        (["7", "N/A", "-"], "integer", [7, None, None]),
    ],
)  # fmt: skip
def test_a_form_that_every_cell_proves(cells, kind, values):
    assert read(cells) == (kind, values)


@pytest.mark.parametrize(
    ("cells", "forms"),
    [
        (["3/4/2031", "5/6/2031"], ["date:%d/%m/%Y", "date:%m/%d/%Y"]),
        (["1,234", "5,678"], ["integer:1,234", "decimal:1.234,5"]),
        (["13/13/2031"], []),
        (["31.2.2031"], []),
        (["1,234", "1.234"], ["decimal:1,234.5", "decimal:1.234,5"]),
        (["y", "y"], []),
        (["NA", "-"], []),
    ],
)
def test_what_nothing_proves_stays_text(cells, forms):
    column = pa.chunked_array([cells])
    assert str(infer_column_type(column)) == "text"
    assert [str(form.type) for form in matching_formats(column)] == forms


def test_one_cell_far_down_proves_the_order():
    cells = ["3/4/2031"] * 30_000
    assert (
        str(infer_column_type(pa.chunked_array([cells, [*cells, "25/4/2031"]]))) == "date:%d/%m/%Y"
    )
    assert str(infer_column_type(pa.chunked_array([cells, [*cells, "4.4.2031"]]))) == "text"


@given(st.datetimes(min_value=datetime(1, 1, 1), max_value=datetime(9999, 12, 31)))
def test_dates_and_times_are_read_as_the_standard_library_writes_them(moment):
    moment = moment.replace(microsecond=0)
    for form in ("%d.%m.%Y %H:%M:%S", "%m/%d/%Y %I:%M:%S %p", "%d %b %Y, %H:%M:%S"):
        text = moment.strftime(form).replace(f"{moment.year}", f"{moment.year:04}")
        text = (
            text if moment.year > 999 else moment.strftime(form.replace("%Y", f"{moment.year:04}"))
        )
        assert parse_dates(pa.array([text]), form, "datetime").to_pylist() == [moment]


def test_zones_count():
    cells = pa.array(["2031-04-05T10:00:00+02:00", "2031-04-05T10:00:00Z", "x"])
    made = parse_dates(cells, "%Y-%m-%dT%H:%M:%S%z", "datetime").to_pylist()
    assert [value and value.hour for value in made] == [8, 10, None]


@pytest.mark.parametrize("seed", range(40))
def test_markers_stand_where_they_are_written_and_nowhere_else(seed):
    rng = random.Random(seed)
    cells = [*MARKERS, "", "7", "-7", "12.5", "-.", "2031-04-05", "--5", "---", "n", " -", None]
    some = rng.sample(cells, rng.randint(1, 5))
    texts = [rng.choice(some) for _ in range(rng.randint(1, 9))]
    array = pa.array(["x", *texts], rng.choice([pa.string(), pa.large_string()])).slice(1)
    mask = marker_mask(array)
    wanted = [cell in MARKERS for cell in texts]
    assert (mask.to_pylist() if mask is not None else [False] * len(texts)) == wanted


def test_markers_are_counted():
    assert count_missing_markers(pa.chunked_array([["NA", "x"], ["-", "NA", None]])) == {
        "NA": 2,
        "-": 1,
    }


@pytest.mark.parametrize(
    ("name", "says"),
    [
        ("dat", "did you mean date?"),
        ("date:%Q", "no code %Q"),
        ("date:%d%d", "is not a date format"),
    ],
)
def test_a_mistyped_type_is_told(name, says):
    with pytest.raises(UsageError, match=says.replace("?", r"\?")):
        declarable_type(name)


@pytest.mark.parametrize("form", list(FORMS.values()), ids=lambda form: str(form.type))
def test_no_form_is_passed_over_by_its_outline(form):
    """What the glance leaves out must be what its pattern would have left out."""
    written = form.type.written
    moment = datetime(2031, 4, 5, 13, 7, 9, 250)
    text = (
        moment.strftime(written.replace("%z", "+0100").replace("%q", "2"))
        if "%" in written
        else written
    )
    for cell in (text, text.upper(), text.replace("Apr", "Apr."), text.replace("PM", "p.m.")):
        expected = [one.type for one in FORMS.values() if re.match(one.pattern, cell)]
        assert [one.type for one in formats_matching_sample(pa.chunked_array([[cell]]))] == expected
    assert "%" not in written or form in formats_matching_sample(pa.chunked_array([[text]]))


MONTHS = {
    "English": "January Feb March Apr May June July August Sept. October Nov. December",
    "French": "janvier févr. mars avril mai juin juil. août septembre octobre nov. décembre",
    "German": "Januar Feb. März April Mai Juni Juli August September Okt. November Dezember",
    "Spanish": "enero feb. marzo abril mayo junio julio agosto septiembre oct. noviembre diciembre",
    "Italian": "gennaio febbraio marzo apr. maggio giugno lug. agosto settembre ott. novembre dic.",
    "Portuguese": "janeiro fev. março abril maio junho julho agosto setembro out. novembro dez.",
    "Dutch": "januari februari maart april mei juni juli augustus september okt. november december",
}


@pytest.mark.parametrize("language", MONTHS)
def test_months_are_read_by_their_names(language):
    names = MONTHS[language].split()
    cells = [f"{number} {name} 2031" for number, name in enumerate(names, 1)]
    kind, dates = read(cells)
    assert kind == "date:%d %B %Y"
    assert [(one.month, one.day) for one in dates] == [(n, n) for n in range(1, 13)]
    # Some systems write an accent as a mark of its own, after its letter.
    assert read([unicodedata.normalize("NFD", cell) for cell in cells]) == (kind, dates)
    first = [f"{name} {number}, 2031" for number, name in enumerate(names, 1)]
    assert read([unicodedata.normalize("NFD", cell) for cell in first])[1] == dates
    if language in ("Spanish", "Portuguese"):
        kind, dates = read([f"1 de {name} de 2031" for name in names])
        assert [one.month for one in dates] == list(range(1, 13))


@pytest.mark.parametrize(
    ("cells", "forms"),
    [
        (["05.04.31", "30.12.99"], ["date:%d.%m.%y"]),
        (["3/4/31", "5/6/31"], ["date:%d/%m/%y", "date:%m/%d/%y"]),
        (["05-APR-31"], ["date:%d-%b-%y"]),
        (["30.12.31 10:30"], ["datetime:%d.%m.%y %H:%M"]),
        (["Q3 2031", "Q1 2032"], ["date:Q%q %Y"]),
        (["2031-W14", "2032-W53"], ["date:%G-W%V"]),
    ],
)
def test_what_has_to_be_assumed_is_open_until_somebody_asks(cells, forms):
    column = pa.chunked_array([cells])
    assert str(infer_column_type(column)) == "text"
    assert [str(form.type) for form in matching_formats(column)] == forms


def test_codes_with_hyphens_are_no_dates():
    assert matching_formats(pa.chunked_array([["12-05-31", "10-11-12"]])) == []


@given(st.lists(st.dates(date(1969, 1, 1), date(2068, 12, 31)), min_size=1))
def test_short_years_weeks_and_quarters_are_those_of_the_calendar(days):
    def read_as(cells, written):
        form = declarable_type(f"date:{written}")
        return parse_column(pa.array(cells), form, pa.date32()).to_pylist()

    assert read_as([day.strftime("%d.%m.%y") for day in days], "%d.%m.%y") == days
    weeks = ["{:04}-W{:02}".format(*day.isocalendar()[:2]) for day in days]
    mondays = [day - timedelta(days=day.weekday()) for day in days]
    assert read_as(weeks, "%G-W%V") == mondays
    quarters = [f"Q{(day.month + 2) // 3} {day.year}" for day in days]
    first = [date(day.year, (day.month - 1) // 3 * 3 + 1, 1) for day in days]
    assert read_as(quarters, "Q%q %Y") == first


def test_a_week_that_a_year_has_not_is_no_date():
    with pytest.raises(pa.ArrowInvalid):
        parse_column(pa.array(["2031-W53"]), declarable_type("date:%G-W%V"), pa.date32())


def test_numbers_that_begin_with_the_point():
    kind, numbers = read([".078", "-.5", "12.25", "7"])
    assert kind == "decimal:.5"
    assert numbers == [Decimal("0.078"), Decimal("-0.500"), Decimal("12.250"), Decimal("7.000")]
