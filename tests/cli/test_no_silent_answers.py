"""What must never be answered in silence: orders by letters, lost tables, options not heeded."""

from __future__ import annotations

import gzip
import sqlite3

import pytest

from conftest import rows_of
from makers import workbook

V = "k,V,day\na,9,10/5/2023\na,10,9/5/2023\nb,tbc,1/6/2023\n"


@pytest.mark.parametrize(
    "words",
    [
        ("settle", "v.csv", "--key", "k", "--rule", "V=max", "--otherwise", "first"),
        ("settle", "v.csv", "--key", "k", "--rule", "V=min", "--otherwise", "first"),
        ("settle", "v.csv", "--key", "k", "--otherwise", "newest-by:V"),
        ("settle", "v.csv", "--key", "k", "--keep-rule", "oldest-by:V"),
        ("group", "v.csv", "--by", "k", "--take", "m=largest:V"),
        ("group", "v.csv", "--by", "k", "--take", "m=smallest:V"),
        ("widen", "v.csv", "--key", "k", "--heads", "day", "--cells", "V", "--rule", "max"),
        ("mend", "v.csv", "--sort", "V"),
        ("mend", "v.csv", "--where", "V > '5'"),
        ("mend", "v.csv", "--compute", "m=GREATEST(V, k)"),
        ("join", "v.csv", "v.csv", "--key", "k", "--nearest", "V:before"),
    ],
    ids=" ".join,
)
def test_what_orders_never_goes_by_letters_unasked(plait, put, words):
    put(v_csv=V)
    refused = plait(*words)
    assert refused.status == 2
    said = " ".join(refused.err.split())
    assert "2 of 3 cells are numbers, 1 is not: 'tbc' (line 4)" in said
    assert "--type V=decimal --unfit missing, or to compare them as text: --type V=text" in said
    if not {"--nearest", "--where", "--compute"} & set(words):
        assert plait(*words, "--type", "V=decimal", "--unfit", "missing").status == 0
        assert plait(*words, "--type", "V=text").status == 0


def test_an_open_form_of_dates_has_no_order(plait, put):
    put(v_csv=V)
    refused = plait("mend", "v.csv", "--sort", "day")
    assert refused.status == 2
    assert "may be written as date:%d/%m/%Y or date:%m/%d/%Y" in " ".join(refused.err.split())
    # 10/5, 9/5, 1/6: the first of them is the last by months first, the second by days first.
    for form, order in (("%m/%d/%Y", ["tbc", "10", "9"]), ("%d/%m/%Y", ["10", "9", "tbc"])):
        made = plait("mend", "v.csv", "--type", f"day=date:{form}", "--sort", "day", "--keep", "V")
        assert made.out.split()[1:] == order


def test_max_of_9_and_10_is_10(plait, put):
    put(v_csv=V)
    ended = plait(
        "settle", "v.csv", "--key", "k", "--rule", "V=max", "--otherwise", "first",
        "--type", "V=integer", "--unfit", "missing",
    )  # fmt: skip
    assert ended.out.splitlines()[1].startswith("a,10,")


def test_long_identifiers_go_through_every_command(plait, put, tmp_path):
    ids = "id,n\n9007199254740993,1\n9007199254740995,2\n-9223372036854775808,3\n"
    ids += "9223372036854775807,4\n"
    put(a_csv=ids, b_csv=ids.replace("n", "m"), long_csv="id\n1\n123456789012345678901234567890\n")
    for words in (
        ("survey", "a.csv", "b.csv", "long.csv"),
        ("keys", "a.csv", "b.csv", "--key", "id"),
        ("stack", "a.csv", "b.csv", "--out", "s.csv"),
        ("join", "a.csv", "b.csv", "--key", "id", "--out", "j.parquet"),
        ("group", "a.csv", "--take", "m=middle:id", "--take", "s=sum:id"),
        ("settle", "a.csv", "--key", "n", "--out", "s.xlsx"),
        ("draft", "a.csv", "b.csv", "--out", "p.toml"),
        ("check", "p.toml"),
        ("run", "p.toml"),
    ):
        ended = plait(*words)
        assert ended.status == 0, (words, ended.err)
    stacked = [row["id"] for row in rows_of(tmp_path / "s.csv")]
    assert stacked[:4] == [line.split(",")[0] for line in ids.split()[1:]]


def test_not_like_is_not_like(plait, put):
    put(t_csv="s\nab\nxy\n")
    assert plait("mend", "t.csv", "--where", "s NOT LIKE 'a%'").out.split() == ["s", "xy"]
    assert plait("mend", "t.csv", "--where", "s NOT ILIKE 'A%'").out.split() == ["s", "xy"]
    assert plait("mend", "t.csv", "--where", "NOT s LIKE 'x%'").out.split() == ["s", "ab"]


def test_widen_loses_no_cell_to_another_spelling(plait, put):
    """Two spellings of one value are one head: what falls into one cell is told, and set aside."""
    put(
        t_csv="k,h,v\na,true,1\na,TRUE,2\n",
        d_csv="k,h,v\na,5.4.2031,1\na,05.04.2031,2\n",
        m_csv="k,h,v\na,m10,1\na,m9,2\na,m1,3\n",
    )
    for name, rows in (("t", ["k,true", "a,2"]), ("d", ["k,5.4.2031", "a,2"])):
        words = ("widen", f"{name}.csv", "--key", "k", "--heads", "h", "--cells", "v")
        made = plait(*words, "--rule", "last")
        assert made.out.split() == rows and "different values" in " ".join(made.err.split())
        agreeing = plait(*words)
        assert "2 rows" in agreeing.err and "set aside" in agreeing.err
    made = plait("widen", "m.csv", "--key", "k", "--heads", "h", "--cells", "v")
    assert made.out.split() == ["k,m10,m9,m1", "a,1,2,3"]


def test_markers_among_numbers_are_missing_to_every_rule(plait, put):
    put(t_csv="k,v\na,NA\na,7\nb,-\nb,8\nb,8.0\n")
    made = plait("settle", "t.csv", "--key", "k")
    assert made.status == 0 and made.out.split() == ["k,v", "a,7", "b,8"]
    assert plait("settle", "t.csv", "--key", "k", "--otherwise", "first").out == made.out
    made = plait("group", "t.csv", "--by", "k", "--take", "n=count:v", "--take", "f=first:v")
    assert made.out.split() == ["k,n,f", "a,1,7", "b,2,8"]
    filled = plait("mend", "t.csv", "--fill", "v=0", "--keep", "v")
    assert filled.out.split() == ["v", "0", "7", "0", "8", "8.0"]
    long = plait(
        "lengthen", "t.csv", "--key", "k", "--heads", "h", "--cells", "c", "--without-missing"
    )
    assert long.out.count("\n") == 4
    put(l_csv="k,v\na,NA\nb,3\n", r_csv="k,v\na,7\nb,NA\n")
    joined = plait("join", "l.csv", "r.csv", "--key", "k", "--prefer", "left")
    assert joined.out.split() == ["k,v", "a,7", "b,3"]


@pytest.mark.parametrize("first", ["7", "7.0"])
def test_ignoring_punctuation_leaves_numbers_alone(plait, put, first):
    put(l_csv=f"k\n{first}\n7.5\n", r_csv="k,v\n7,a\n75,b\n7.50,c\n")
    made = plait("join", "l.csv", "r.csv", "--key", "k", "--ignore", "punctuation")
    assert [line.split(",")[-1] for line in made.out.split()[1:]] == ["a", "c"]


def test_origin_names_the_sources_of_a_stack(plait, put):
    put(may_csv="k\n1\n", june_csv="k\n2\n")
    made = plait("stack", "may.csv", "june.csv", "--origin", "from")
    assert made.out.split() == ["k,from", "1,may", "2,june"]


def test_a_table_is_added_to_a_database_and_the_rest_stays(plait, put, tmp_path):
    base = sqlite3.connect(tmp_path / "office.db")
    base.execute("CREATE TABLE staff (name TEXT)")
    base.execute("INSERT INTO staff VALUES ('Ada')")
    base.execute("CREATE VIEW names AS SELECT name FROM staff")
    base.commit()
    put(t_csv="k,v\na,1\n", u_csv="k,v\nb,2\n")
    assert plait("mend", "t.csv", "--out", "office.db#season").status == 0
    again = plait("mend", "u.csv", "--out", "office.db#season")
    assert again.status == 4 and "the table season already exists" in " ".join(again.err.split())
    base.execute("CREATE INDEX of_k ON season (k)")
    base.commit()
    assert plait("mend", "u.csv", "--out", "office.db#season", "--replace").status == 0
    assert base.execute("SELECT * FROM season").fetchall() == [("b", 2)]
    assert base.execute("SELECT * FROM names").fetchall() == [("Ada",)]
    found = base.execute("SELECT name FROM sqlite_master ORDER BY name").fetchall()
    assert [name for (name,) in found] == ["names", "of_k", "season", "staff"]
    refused = plait("mend", "t.csv", "--out", "office.db#names", "--replace")
    assert refused.status == 4 and "names is a view there" in " ".join(refused.err.split())
    failing = plait(
        "mend", "t.csv", "--out", "office.db#more", "--fail-on", "note", "--type", "v=x"
    )
    assert failing.status == 2
    assert not base.execute("SELECT 1 FROM sqlite_master WHERE name = 'more'").fetchall()


def test_a_workbook_of_somebody_else_is_not_replaced(plait, put, tmp_path):
    workbook(tmp_path / "office.xlsx", {"Staff": [["name"], ["Ada"]], "office": [["k"], ["a"]]})
    put(t_csv="k\na\n")
    before = (tmp_path / "office.xlsx").read_bytes()
    refused = plait("mend", "t.csv", "--out", "office.xlsx", "--replace")
    said = " ".join(refused.err.split())
    assert refused.status == 4 and "1 sheet of it would be lost: Staff" in said
    assert (tmp_path / "office.xlsx").read_bytes() == before
    assert plait("mend", "t.csv", "--out", "own.xlsx").status == 0
    assert plait("mend", "t.csv", "--out", "own.xlsx", "--replace").status == 0


def test_numbers_keep_their_digits_in_every_format(plait, put, tmp_path):
    put(t_csv="k,v\n1,0.00000001\n2,99999999999999.000001\n")
    made = plait("mend", "t.csv", "--compute", "w=v * 10", "--out", "t.db")
    assert made.status == 0, made.err
    cells = sqlite3.connect(tmp_path / "t.db").execute("SELECT v, w FROM t").fetchall()
    assert cells == [
        ("0.00000001", "0.00000010"),
        ("99999999999999.000001", "999999999999990.00001000"),
    ]


def test_a_column_that_plainly_means_something_else_is_one_finding(plait, put, tmp_path):
    rows = range(50)
    put(
        l_csv="k,note,kg\n" + "".join(f"{n},l{n},{n}\n" for n in rows),
        r_csv="k,note,kg\n" + "".join(f"{n},r{n},{n + n % 2}\n" for n in rows),
    )
    made = plait("join", "l.csv", "r.csv", "--key", "k", "--out", "o.csv", "--json")
    found = {one["where"]: one for one in made.json["findings"] if one["code"] == "source-conflict"}
    assert "seems to mean different things" in found["r, column note"]["message"]
    assert found["r, column note"]["count"] == 50 and found["r, column kg"]["count"] == 25
    listed = rows_of(tmp_path / "o-aside" / "l+r-conflicts.csv")
    assert {row["column"] for row in listed} == {"kg"} and len(listed) == 25
    words = ("join", "l.csv", "r.csv", "--key", "k", "--out", "o.csv", "--replace", "--json")
    cut = plait(*words, "--aside-limit", "10")
    assert cut.finding("list-cut")["count"] == 15
    assert len(rows_of(tmp_path / "o-aside" / "l+r-conflicts.csv")) == 10


def test_the_words_of_the_trade_are_figures(plait, put):
    put(t_csv="g,v\na,1\na,2\na,9\nb,4\nb,4\n")
    takes = [f"{name}={name}:v" for name in ("median", "stdev", "min", "max", "average")]
    made = plait("group", "t.csv", "--by", "g", *(w for t in takes for w in ("--take", t)))
    assert made.out.split() == ["g,median,stdev,min,max,average", "a,2,4.358898943540674,1,9,4",
                                "b,4,0,4,4,4"]  # fmt: skip
    ranked = plait("group", "t.csv", "--by", "g", "--take", "r=rank:v", "--onto-rows")
    assert [line.rsplit(",", 1)[1] for line in ranked.out.split()[1:]] == ["1", "2", "3", "1", "1"]
    assert "rank needs every row kept" in plait("group", "t.csv", "--take", "r=rank:v").err
    assert "did you mean median?" in plait("group", "t.csv", "--take", "r=medain:v").err


def test_a_line_computes_before_or_after_types_as_it_says(plait, put):
    put(t_csv="day\n3/4/2031\n")
    typed, year = ("--type", "day=date:%d/%m/%Y"), ("--compute", "y=YEAR(day)")
    assert plait("mend", "t.csv", *typed, *year).out.split() == ["day,y", "2031-04-03,2031"]
    part = ("--compute", "y=RIGHT(day, 4)")
    assert plait("mend", "t.csv", *part, *typed).out.split() == ["day,y", "2031-04-03,2031"]
    assert "expected text, found a date" in plait("mend", "t.csv", *typed, *part).err


def test_what_is_packed_on_standard_input_is_named(plait, put):
    refused = plait("mend", "-", feed=gzip.compress(b"k\n1\n"))
    assert refused.status == 3 and "standard input is compressed with gzip" in refused.err


def test_nothing_named_is_left_out_without_a_line(plait, put, tmp_path):
    put(f__v_csv="k,v\na,1\n", f__x_csv="other,thing\nq,2\n")
    (tmp_path / "f" / "notes.docx").write_text("notes")
    drafted = plait("draft", "f")
    assert "left out: 1 of 2 sources" in " ".join(drafted.err.split())
    assert "is not used in any step" in drafted.out
    assert str(tmp_path) not in drafted.out
    assert "notes.docx" in plait("survey", "f").out


def test_a_list_of_a_refused_join_is_guarded_too(plait, put, tmp_path):
    put(l_csv="k,v\n1,=1+1\n1,b\n", r_csv="k,w\n1,x\n")
    refused = plait(
        "join", "r.csv", "l.csv", "--key", "k", "--cardinality", "one-to-one",
        "--aside", "there", "--guard-formulas",
    )  # fmt: skip
    assert refused.status == 1
    listed = "".join(path.read_text() for path in (tmp_path / "there").iterdir())
    assert "'=1+1" in listed


def test_a_heading_with_a_colon_makes_no_marker_of_itself(plait, put):
    put(t_csv="kg: net,kg: tare\n1,2\nNA,NA\n3,4\n")
    ended = plait("survey", "t.csv")
    assert "NA counts as missing in 2 columns of t: 2 cells" in " ".join(ended.out.split())


def test_a_column_that_is_kept_once_is_named(plait, put):
    put(a_csv="k,v\n1,a\n2,b\n", b_csv="k,w\n1,c\n2,d\n")
    ended = plait("beside", "a.csv", "b.csv", "--out", "o.csv", "--json")
    assert ended.finding("column-equal")["message"].endswith("kept once: k")


BORROWED = {
    "numbers": ("k;v\n1;2.890\n2;1.200\n", "k,v\n3,1500.25\n", "sum:v"),
    "dates": ("k,v\n1,04/05/2025\n2,05/06/2025\n", "k,v\n3,13/05/2025\n", "largest:v"),
    "commas": ('k,v\n1,"1,234"\n', 'k,v\n3,"1,234.5"\n', "sum:v"),
}


@pytest.mark.parametrize("what", BORROWED)
def test_a_form_is_not_borrowed_from_another_source(plait, put, tmp_path, what):
    """What one extract leaves open is said, and refused where it would decide an order or a sum."""
    first, second, figure = BORROWED[what]
    put(b_csv=first, a_csv=second)
    (tmp_path / "p.toml").write_text(
        '[source.b]\npath = "b.csv"\n[source.a]\npath = "a.csv"\n[[step]]\nstack = ["b", "a"]\n'
        f'into = "both"\n[[step]]\ngroup = "both"\ntake = {{ x = "{figure}" }}\ninto = "all"\n'
        '[handover]\nresult = "all"\n'
    )
    ended = plait("run", "p.toml")
    assert ended.status == 2, ended.err
    stacked = plait("stack", "b.csv", "a.csv", "--out", "o.parquet", "--json")
    found = stacked.finding("form-borrowed")
    assert found["count"] == first.count("\n") - 1 and "--type b=v=" in found["remedy"]


def test_a_form_that_all_leave_open_in_the_same_way_is_no_finding(plait, put):
    put(a_csv="k,v\n1,2.890\n", b_csv="k,v\n2,0.512\n3,1.200\n", c_csv="k,v\n4,12.345\n")
    ended = plait("stack", "a.csv", "b.csv", "c.csv", "--out", "o.csv", "--json")
    assert "form-borrowed" not in {one["code"] for one in ended.json["findings"]}


@pytest.mark.parametrize(
    "twice",
    [
        ["--where", "id > 1", "--where", "id < 4"],
        ["--keep=id", "--keep", "name"],
        ["--missing", "-", "--missing", "Ann"],
    ],
)
def test_an_option_of_one_value_is_not_given_twice(plait, put, twice):
    put(a_csv="id,name\n1,Ann\n2,-\n5,Cleo\n")
    ended = plait("mend", "a.csv", *twice)
    assert ended.status == 2 and "is given 2 times" in ended.err and not ended.out
