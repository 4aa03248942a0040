"""What is advised is done: it makes what was found smaller, and loses no row."""

from __future__ import annotations

import json
import re
import shlex

import pytest

from plait.cli.main import COMMANDS

FILES = {
    "v.csv": "yard,hive,kg\nash,1,5\nash ,2,6\nELM,3,7\n",
    "r.csv": "yard,hive,breed\nASH,1,x\nash,2,y\nelm,3,z\n",
    "zeros.csv": "code,n\n007,1\n008,2\n009,3\n",
    "plain.csv": "code,m\n7,a\n8,b\n9,c\n",
    "may.csv": "yard,kg\na,1\nb,2\n",
    "june.csv": "Yard,kg\na,3\nb,4\n",
    "july.csv": "yrad,kg\nc,5\nd,6\n",
    "total.csv": "yard,kg\na,1\nb,2\nc,3\nTotal,6\n",
    "other.csv": "yard,kg\na,10\nb,20\nc,30\nd,40\n",
    "titled.csv": "Report of the season;;\n;;\nyard;hive;kg\na;1;5\nb;2;6\n",
    "twice.csv": "k,v\n1,a\n1,b\n2,c\n",
    "once.csv": "k,w\n1,x\n2,y\n",
    "many.csv": "k,u\n1,x\n1,y\n2,z\n",
    "sides.csv": "k,v\n1,q\n2,c\n",
    "signs.csv": "k,note\n1,=1+1\n2,fine\n",
    "open.csv": "k,day\n1,3/4/2031\n2,5/6/2031\n",
    "marks.csv": "k,kg\n1,5\n2,NA\n3,-\n",
    "names.csv": "k,who\n1,NA\n2,Ada\n3,Ines\n",
    "ragged.csv": "k,v\n1,a\n2\n3,c,d\n4,e\n",
    "near.csv": "k,kg\n" + "".join(f"{n},{n}.5\n" for n in range(1, 20)) + "20,soon\n",
    "repeat.csv": "k,v\n1,a\n1,a\n2,b\n",
}
SCENES = [
    "join v.csv r.csv --key yard,hive",
    "join zeros.csv plain.csv --key code",
    "join twice.csv once.csv --key k --cardinality many-to-one",
    "join once.csv twice.csv --key k",
    "join twice.csv sides.csv --key k",
    "stack may.csv june.csv",
    "stack may.csv june.csv july.csv",
    "stack total.csv other.csv",
    "mend total.csv",
    "mend titled.csv",
    "mend signs.csv",
    "stack ragged.csv --ragged set-aside",
    "settle twice.csv --key k",
    "keys v.csv r.csv --key yard,hive",
    "keys repeat.csv --key k",
    "join repeat.csv once.csv",
    "group marks.csv --take m=mean:kg",
    "survey open.csv",
    "survey near.csv",
    "survey names.csv",
]
_FLAGS = ("--guard-formulas", "--fold-headers", "--distinct")
_VALUE = r"(?: (?:'[^']*'|[^\s;:()-][^\s;()]*[^\s;:(),.]|[^\s;:(),.-]))"
_OPTION = re.compile(rf"(?:--[a-z]+(?:-[a-z]+)*{_VALUE}? ?)+")
_INFORMS = {"group-values-missing"}  # what is advised shows more, and mends nothing
_HOLES = {"N", "NEW=OLD", "COLUMN", "says", "has"}


def _options(remedy: str) -> list[list[str]]:
    """The ways out that a remedy names, each the words of one option or of several."""
    ways = []
    for found in _OPTION.findall(remedy):
        words = shlex.split(found)
        if words[0] in _FLAGS:
            words = words[:1]
        if len(words) > 1 or words[0] in _FLAGS:
            ways.append(words)
    return [words for words in ways if not set(words) & _HOLES]


def _told(plait, words: list[str]) -> dict | None:
    """What a line says, as data; ``None`` if it is refused."""
    out = [] if words[0] in ("survey", "keys") else ["--out", "made.csv", "--replace"]
    ended = plait(*words, *out, "--json")
    return json.loads(ended.out) if ended.out else None


def _weight(said: dict, code: str, where: str) -> tuple[int, int]:
    """How bad a finding is, and how many."""
    found = [one for one in said["findings"] if one["code"] == code]
    mine = [one for one in found if one["where"] == where or len(found) == 1]
    worst = max((("note", "warning", "error").index(one["severity"]) for one in mine), default=-1)
    return worst, sum(one["count"] for one in mine)


def _accounted(said: dict) -> bool:
    """Whether every row that came in is in the result, or left out with a reason."""
    return all(
        sum(line["rows"] for line in one["lines"]) == one["rows_out"] for one in said["ledger"]
    )


@pytest.mark.parametrize("scene", SCENES)
def test_what_is_advised_makes_the_finding_smaller(plait, tmp_path, scene):
    for name, text in FILES.items():
        (tmp_path / name).write_text(text)
    words = scene.split()
    before = _told(plait, words)
    assert before is not None, scene
    tried = 0
    for finding in before["findings"]:
        remedy = finding["remedy"]
        if remedy.startswith("plait ") or " plait " in remedy:
            tried += _carried_out(plait, remedy)
            continue
        for option in _options(remedy) if finding["code"] not in _INFORMS else ():
            after = _told(plait, [*_without_key(words, option), *option])
            if option[0] == "--cardinality" and not after["outputs"]:
                tried += 1  # what is declared does not hold: the join is refused, as is said
                continue
            assert after is not None, (scene, option)
            about = finding["code"], finding["where"]
            assert _weight(after, *about) < _weight(before, *about), (scene, option)
            assert _accounted(after)
            tried += 1
    mending = [one for one in before["findings"] if one["code"] not in _INFORMS]
    assert tried or not [one for one in mending if _options(one["remedy"])]


def _without_key(words: list[str], option: list[str]) -> list[str]:
    """The line without its key, where another is advised."""
    if option[0] != "--key" or "--key" not in words:
        return words
    place = words.index("--key")
    return [*words[:place], *words[place + 2 :]]


def _carried_out(plait, remedy: str) -> int:
    """Carry out a command that a remedy names whole; one with dots or words to fill in is not."""
    found = re.search(r"plait (\w+)[^;]*", remedy)
    words = shlex.split(found[0].split(" brings ")[0].split(" tells")[0])[1:]
    if found[1] not in COMMANDS or "…" in words:
        return 1
    assert plait(*words).status == 0, remedy
    return 1


def test_a_total_in_one_file_costs_no_row_of_another(plait, tmp_path):
    for name in ("total.csv", "other.csv"):
        (tmp_path / name).write_text(FILES[name])
    said = _told(plait, ["stack", "total.csv", "other.csv"])
    (remedy,) = [one["remedy"] for one in said["findings"] if one["code"] == "total-row"]
    assert remedy == "to set it aside: --footer total=1"
    rows = sum(FILES[name].count("\n") - 1 for name in ("total.csv", "other.csv"))
    mended = _told(plait, ["stack", "total.csv", "other.csv", "--footer", "total=1"])
    assert mended["ledger"][-1]["rows_out"] == rows - 1
    assert not [one for one in mended["findings"] if one["code"] == "total-row"]


def test_same_brings_several_old_names_to_one(plait, tmp_path):
    for name in ("may.csv", "june.csv", "july.csv"):
        (tmp_path / name).write_text(FILES[name])
    words = ("stack", "may.csv", "june.csv", "july.csv")
    for given in (["--same", "yard=Yard", "--same", "yard=yrad"], ["--same", "yard=Yard,yrad"]):
        made = plait(*words, *given)
        assert made.out.splitlines()[0] == "yard,kg" and made.out.count("\n") == 7
    twice = plait("settle", "twice.csv", "--key", "k", "--rule", "v=first", "--rule", "v=last")
    assert twice.status in (2, 3)
    (tmp_path / "twice.csv").write_text(FILES["twice.csv"])
    twice = plait("settle", "twice.csv", "--key", "k", "--rule", "v=first", "--rule", "v=last")
    assert twice.status == 2 and "--rule names v twice" in twice.err


def test_columns_written_in_several_ways_are_settled_by_what_is_advised(plait, tmp_path):
    """The way of each, by its own heading: no difference is left, nor a wrong cell."""
    (tmp_path / "may.csv").write_text("Honey (kg);n\n1.250,5;1\n0,75;2\n")
    (tmp_path / "june.csv").write_text("Honey kg;n\n2.500,5;3\n9,25;4\n")
    (tmp_path / "july.csv").write_text("Honey (kg),n\n1250.5,5\n0.75,6\n")
    words = ["stack", "may.csv", "june.csv", "july.csv", "--fold-headers"]
    (finding,) = [f for f in _told(plait, words)["findings"] if f["code"] == "type-differs"]
    (options,) = _options(finding["remedy"])
    after = _told(plait, [*words, *options])
    assert "type-differs" not in {f["code"] for f in after["findings"]}
    lines = (tmp_path / "made.csv").read_text().split()
    assert lines == [
        "Honey",
        "(kg),n",
        "1250.5,1",
        "0.75,2",
        "2500.5,3",
        "9.25,4",
        "1250.5,5",
        "0.75,6",
    ]
