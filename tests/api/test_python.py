"""``import plait``: the same words and results as the command line."""

from __future__ import annotations

import inspect
import json
import re

import pyarrow as pa
import pytest

import plait as api


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "may.csv").write_text("hive,kg\n1,2.50\n2,\n")
    (tmp_path / "in" / "june.csv").write_text("hive,kg\n1,2.50\n3,1\n")
    (tmp_path / "hives.csv").write_text("Hive No,breed\n1,Carnica\n2,Buckfast\n9,none\n")
    return tmp_path


def test_from_files_to_a_file_as_the_program_does(folder, plait):
    visits = api.stack("in", label={"month": "{stem}"}, name="visits")
    season = api.join(visits.table, "hives.csv", key={"hive": "Hive No"}, origin="from")
    api.write(season.table, "api.csv")
    plait("stack", "in", "--label", "month={stem}", "--out", "visits.csv")
    plait(
        "join",
        "visits.csv",
        "hives.csv",
        "--key",
        "hive=Hive No",
        "--origin",
        "from",
        "--out",
        "program.csv",
    )
    from_api = (folder / "api.csv").read_text()
    assert "may+hives" in from_api and "june+hives" in from_api
    for month in ("may", "june"):  # what the program stacked into is a source of its own
        from_api = from_api.replace(f",{month}+hives", ",visits+hives")
        from_api = from_api.replace(f",{month}\n", ",visits\n")
    assert (folder / "program.csv").read_text() == from_api
    assert season.match.left_unmatched == 1
    assert [aside.rows for aside in season.aside] == [1, 1]


def test_places_lead_back_to_files_and_rows(folder):
    visits = api.stack(["in/may.csv", "in/june.csv"])
    season = api.join(visits.table, "hives.csv", key="hive=Hive No")
    assert [str(place) for place in season.table.source_rows(2)] == ["june line 2", "hives line 2"]


def test_several_tables_with_keys_of_their_own(folder):
    (folder / "breeds.csv").write_text("breed,origin\nCarnica,AT\n")
    joined = api.join("in/may.csv", "hives.csv", "breeds.csv", keys=["hive=Hive No", "breed"])
    assert joined.table.to_dict()["origin"] == ["AT", None]
    assert len(joined.entries) == len(joined.matches) == 2
    with pytest.raises(api.UsageError, match="3 keys for 2 joins"):
        api.join("in/may.csv", "hives.csv", "breeds.csv", keys=["a", "b", "c"])


def test_writing_over_things(folder):
    table = api.read("hives.csv")
    with pytest.raises(api.OutputError, match="never overwritten"):
        api.write(table, "hives.csv", replace=True)
    api.write(table, "copy.csv")
    with pytest.raises(api.OutputError, match="already exists"):
        api.write(table, "copy.csv")
    api.write(table, "copy.csv", replace=True)
    assert (folder / "copy.csv").read_bytes() == (folder / "hives.csv").read_bytes()


def test_errors_are_one_family_with_what_where_and_remedy(folder):
    with pytest.raises(api.PlaitError) as error:
        api.read("hive.csv")
    assert isinstance(error.value, api.SourceError)
    assert (error.value.where, error.value.remedy) == ("hive.csv", "did you mean hives.csv?")
    with pytest.raises(api.UsageError, match="did you mean hive"):
        api.join("in/may.csv", "hives.csv", key="hvie=Hive No")
    assert {
        kind.status
        for kind in (api.ExpectationError, api.UsageError, api.SourceError, api.OutputError)
    } == {1, 2, 3, 4}


def test_results_print_nothing_and_change_no_argument(folder, capsys):
    left, right = api.read("in/may.csv"), api.read("hives.csv", name="register")
    before = left.to_dict(), right.to_dict()
    api.join(left, right, key="hive=Hive No", kind="full")
    assert (left.to_dict(), right.to_dict()) == before
    assert right.name == "register"
    assert capsys.readouterr() == ("", "")


@pytest.mark.parametrize(
    "name", ["read", "survey", "keys", "mend", "stack", "join", "settle", "beside", "write"]
)
def test_every_call_is_documented_with_an_example(name):
    text = inspect.getdoc(getattr(api, name))
    for part in ("Parameters\n", "Raises\n", "Examples\n", ">>> "):
        assert part in text


def test_keys_settle_and_beside_take_files_and_tables(folder):
    found = api.keys(["in/may.csv", api.read("hives.csv")], keys=["hive", "Hive No"])
    assert [(pair.keys_in_both, pair.keys_only_right) for pair in found.pairs] == [(2, 1)]
    assert found.why is not None
    assert api.keys("in", "hive").pairs[0].keys_only_left == 1
    (folder / "pairs.csv").write_text("from,to\n3,9\n")
    crossed = api.keys(["in/june.csv", "hives.csv"], "hive=Hive No", pairs="pairs.csv")
    assert crossed.pairs[0].keys_only_left == 0
    both = api.stack(["in/may.csv", "in/june.csv"]).table
    settled = api.settle(both, "hive", rule={"kg": "max"})
    assert settled.table.to_dict() == {"hive": ["1", "2", "3"], "kg": ["2.50", "", "1"]}
    beside = api.beside("in/may.csv", "in/june.csv", name="both")
    assert beside.table.to_dict()["june.hive"] == ["1", "3"]
    with pytest.raises(api.ExpectationError, match="2 rows, hives 3"):
        api.beside("in/may.csv", "hives.csv")


def test_the_join_takes_all_that_the_program_does(folder):
    joined = api.join(
        "in/may.csv",
        "hives.csv",
        key="hive=Hive No",
        take=["breed"],
        rename={"breed": "race"},
        prefer="left",
        max_rows=2,
        missing_keys="match",
    )
    assert joined.table.to_dict()["race"] == ["Carnica", "Buckfast"]
    with pytest.raises(api.ExpectationError, match="the limit is 1"):
        api.join("in/may.csv", "hives.csv", key="hive=Hive No", max_rows=1)
    with pytest.raises(api.UsageError, match="no column 'bread'"):
        api.join("in/may.csv", "hives.csv", key="hive=Hive No", take=["bread"])


def test_an_unknown_name_is_an_attribute_error():
    with pytest.raises(AttributeError, match="stakc"):
        _ = api.stakc


def test_every_call_says_what_it_takes():
    for name in ("beside", "group", "join", "keys", "lengthen", "mend", "settle", "stack", "widen"):
        taken = inspect.signature(getattr(api, name)).parameters.values()
        assert not [one for one in taken if one.kind is one.VAR_KEYWORD], name
    with pytest.raises(TypeError, match="nonsense"):
        api.settle({"k": ["a"]}, "k", nonsense=True)


def test_tables_are_taken_as_programs_have_them(folder):
    columns = {"k": ["a", "b", "a"], "n": [1, None, 2.5]}
    arrow = pa.table(columns)
    for given in (columns, arrow, arrow.to_batches()[0]):
        made = api.group(given, "k", {"n": "sum:n"}).table.to_dict()
        assert made["k"] == ["a", "b"] and [one and float(one) for one in made["n"]] == [3.5, None]
    joined = api.join(arrow, {"k": ["b"], "w": ["x"]}, key="k").table.to_dict()
    assert joined["w"] == [None, "x", None]
    with pytest.raises(api.UsageError, match="not a table: int"):
        api.mend(7)
    with pytest.raises(api.UsageError, match="of one length"):
        api.mend({"a": [1], "b": [1, 2]})


def test_a_table_shows_itself_in_a_few_lines(folder):
    table = api.read("in/may.csv", name="may")
    assert repr(table) == "may: 2 rows, 2 columns\nhive  kg\n1     2.50\n2     (missing)"
    assert len(table) == 2 and table.column_names == ("hive", "kg")
    many = api.Table.from_arrow(
        pa.table({f"column {n}": list(range(1000)) for n in range(40)}), "many"
    )
    lines = repr(many).splitlines()
    assert lines[0] == "many: 1,000 rows, 40 columns"
    assert lines[-1].startswith("… 995 more rows, ") and lines[-1].endswith(" more columns")
    assert len(lines) == 8 and max(map(len, lines)) <= 80
    nothing = api.Table.from_arrow(pa.table({"a": pa.array([], pa.string())}), "nothing")
    assert repr(nothing) == "nothing: 0 rows, 1 column\na" and len(nothing) == 0
    assert nothing, "a table without rows is a table"


def test_what_a_table_shows_cannot_break_a_page_or_a_terminal():
    table = api.Table.from_arrow(
        pa.table({"<b>": ["<script>", "two\nlines", "x" * 200, " "]}), "a<b"
    )
    page = table._repr_html_()
    assert "<script>" not in page and "&lt;script&gt;" in page and "&lt;b&gt;" in page
    assert len(repr(table).splitlines()) == 6 and max(map(len, repr(table).splitlines())) <= 80


def test_tables_go_to_arrow_and_back_without_a_copy(folder):
    columns = pa.table({"hive": ["007", "1"], "kg": pa.array([12.5, None])})
    table = api.Table.from_arrow(columns, "visits")
    assert table.to_arrow().equals(columns)
    one, other = columns["hive"].chunk(0), table.to_arrow()["hive"].chunk(0)
    assert one.buffers()[2].address == other.buffers()[2].address
    assert pa.table(table).equals(columns)  # by the stream interface, as any library takes it
    reader = pa.RecordBatchReader.from_stream(table)
    assert reader.read_all().equals(columns)
    joined = api.join(table, {"hive": ["007"], "breed": ["Carnica"]}, key="hive").table
    assert pa.table(joined).to_pydict()["breed"] == ["Carnica", None]


class Columns:
    """What another library's table is to us: something with the stream interface."""

    def __init__(self, table):
        self.table = table

    def __arrow_c_stream__(self, requested_schema=None):
        return self.table.__arrow_c_stream__(requested_schema)


@pytest.mark.parametrize("verb", ["stack", "mend", "settle", "group", "keys", "survey", "beside"])
def test_every_verb_takes_whatever_has_columns(folder, verb):
    given = Columns(pa.table({"k": ["a", "b"], "n": [1, 2]}))
    more = {"settle": ("k",), "keys": ("k",), "beside": ({"m": [3, 4]},), "group": ("k",)}
    made = getattr(api, verb)(given, *more.get(verb, ()))
    if verb not in ("keys", "survey"):
        assert made.table.to_dict()["k"] == ["a", "b"]
    with pytest.raises(api.UsageError, match="not a table: object"):
        getattr(api, verb)(object(), *more.get(verb, ()))


def test_a_result_is_its_answer_in_a_few_lines(folder):
    joined = api.join("in/may.csv", "hives.csv", key="hive=Hive No")
    assert repr(joined).splitlines() == [
        "join: 2 rows, 3 columns",
        "not matched: 0 of the left, 1 of the right",
        "set aside: 1 row",
        "findings: 1 note",
    ]
    assert repr(api.stack("in")).startswith("stack: 4 rows, 2 columns\nset aside: 0 rows")
    assert isinstance(joined, api.Result)


def test_a_plan_is_drafted_checked_and_run(folder):
    text = api.draft(["in", "hives.csv"])
    (folder / "plan.toml").write_text(text)
    foreseen = api.check("plan.toml")
    assert foreseen.steps and foreseen.ledger and not (folder / "handover").exists()
    assert api.run("plan.toml").rows == foreseen.ledger[-1].rows_out
    assert (folder / "handover" / "report.html").exists()
    with pytest.raises(api.PlaitError, match="plan not found"):
        api.check("nowhere.toml")


def test_the_package_shows_its_verbs_and_types_and_nothing_else():
    assert set(dir(api)) == set(api.__all__)
    assert {"Table", "Result", "PlaitError", "stack", "run", "trace"} <= set(dir(api))
    assert not [name for name in dir(api) if name.startswith("_") and name != "__version__"]


def test_a_type_for_a_column_that_is_not_there_is_an_error(tmp_path):
    (tmp_path / "a.csv").write_text("hive,kg\n1,2\n")
    with pytest.raises(api.PlaitError, match="'kgs'"):
        api.read(tmp_path / "a.csv", type={"kgs": "decimal"})


def test_what_reading_left_out_is_told_with_what_is_done(folder):
    (folder / "torn.csv").write_text("hive,kg\n1,2\n3\n5,6\n")
    torn = api.read("torn.csv", ragged="set-aside")
    done = [
        api.mend(torn, rename={"kg": "honey"}),
        api.stack([torn, torn]),
        api.join({"hive": ["1"], "breed": ["Carnica"]}, torn, key="hive"),
        api.settle(torn, key="hive"),
        api.group(torn, by="hive", take={"n": "count"}),
    ]
    for result in done:
        assert "row-ragged" in [one.code for one in result.findings]
        assert "torn-ragged" in [one.name for one in result.aside]


def test_results_are_called_after_what_they_are_made_of_or_as_one_likes():
    visits, hives = {"hive": ["1", "2"], "kg": ["3", "4"], "h": ["a", "b"]}, {"hive": ["1"]}
    calls = {
        "stack": lambda **name: api.stack([visits, visits], **name),
        "table": lambda **name: api.mend(visits, drop="kg", **name),
        "left+right": lambda **name: api.join(visits, hives, key="hive", **name),
        "table-settled": lambda **name: api.settle(visits, key="hive", **name),
        "left+right+more": lambda **name: api.beside(visits, {"z": ["1", "2"]}, **name),
        "table-grouped": lambda **name: api.group(visits, by="hive", take={"n": "count"}, **name),
        "table-wide": lambda **name: api.widen(visits, heads="h", cells="kg", key="hive", **name),
        "table-long": lambda **name: api.lengthen(visits, heads="a", cells="b", key="hive", **name),
    }
    for usual, call in calls.items():
        assert call().table.name == usual.removesuffix("+more")
        assert call(name="season").table.name == "season"
    every = api.group(visits, take={"n": "count"}, name="season").table
    assert every.name == "season" and every.rows == 1


def test_a_notebook_shows_the_beginning_of_long_cells_and_spells_blank_ones_out(folder):
    cells = ["x" * 24, "x" * 25, "  ", "two\nlines", ""]
    (folder / "odd.jsonl").write_text("".join(json.dumps({"a": cell}) + "\n" for cell in cells))
    page = api.read("odd.jsonl")._repr_html_()
    told = re.findall("<td>(.*?)</td>", page)
    assert told == ["x" * 24, "x" * 23 + "…", "&#x27;  &#x27;", "two lines", "(missing)"]
