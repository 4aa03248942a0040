"""What each option of each verb makes and says, on one small season, word for word.

``tests/cli/shown/options.txt`` is to be read. After a change that is meant,
``SHOWN=write python -m pytest tests/cli/test_options_shown.py`` writes it anew.
"""

from __future__ import annotations

import re
from pathlib import Path

from test_shown import shown

import plait as library
from kept import check_kept
from scenes import PLAN, ordinary

SHOWN = Path(__file__).parent / "shown"
# Each writes to standard output, so that the rows are read with what is said of them.
COMMANDS = [
    "group visits.csv --by yard --take n=count --take honey=sum:kg --take best=max:kg",
    "group visits.csv --by yard --ignore case --take mean=mean:kg --take first=min:seen",
    "group visits.csv --by yard,hive --take days=distinct:seen --take mid=middle:kg",
    "group visits.csv --by yard --take honey=sum:kg --onto-rows",
    "group visits.csv --by seen:month --take honey=sum:kg --take n=count:kg",
    "widen visits.csv --heads hive --cells kg --key yard --rule agree",
    "widen visits.csv --heads hive --cells kg --key yard --rule sum",
    "widen visits.csv --heads yard --cells kg,seen --key hive --rule last",
    "lengthen visits.csv --heads what --cells value --columns kg,seen --without-missing",
    "stack visits.csv more.csv --distinct --label from={stem} --number n",
    "stack visits.csv more.csv --by name",
    "stack visits.csv later.csv --by position --type later=kg=text",
    "stack visits.csv more.csv --same remark=note --fold-headers --origin came_from",
    "join visits.csv hives.csv --key yard,hive --kind inner --cardinality many-to-many",
    "join visits.csv hives.csv --key yard,hive --kind semi",
    "join visits.csv hives.csv --key yard,hive --kind anti",
    "join visits.csv hives.csv --key yard,hive --kind right --cardinality many-to-many",
    "join visits.csv hives.csv --key yard,hive --ignore case,leading-zeros "
    "--cardinality many-to-many --take breed --origin came_from",
    "join hives.csv visits.csv --key yard,hive --max-rows 3 --cardinality many-to-many",
    "join visits.csv later.csv --key yard,hive,seen --prefer right",
    "join visits.csv later.csv --key yard,hive,seen --rename kg=later_kg",
    "join visits.csv later.csv --key yard,hive --nearest seen:before --within 40d",
    "join visits.csv hives.csv --key yard,hive --missing-keys match --kind left "
    "--cardinality many-to-many",
    "settle visits.csv --key yard,hive --rule kg=sum --otherwise last",
    "settle visits.csv --key yard,hive --ignore case --rule kg=mean --rule seen=newest-by:seen",
    "settle visits.csv --key yard,hive --keep-rule fullest",
    "settle visits.csv --key yard,hive --missing-keys match --otherwise commonest",
    "mend visits.csv --type kg=decimal --unfit missing --compute 'half=kg / 2' --sort kg",
    "mend visits.csv --type kg=integer --unfit set-aside --drop seen",
    "mend more.csv --type note=integer --unfit set-aside",
    "mend more.csv --type note=integer --unfit missing",
    "mend visits.csv --split 'seen:- into year,month,day' --keep yard,year,month",
    "mend visits.csv --fill kg=down --replace-value kg:n/a=0 --order seen,kg",
    "mend visits.csv --header a,b,c,d --trim a --missing 0",
    "mend visits.csv --sort 'yard,kg desc' --where 'kg > 2 OR kg IS NULL'",
    "beside hives.csv later.csv",
    "compare visits.csv later.csv --key yard,hive --ignore case,leading-zeros",
    "compare visits.csv later.csv --key yard,hive --columns kg --within kg=5",
    "compare visits.csv later.csv",
    "keys visits.csv more.csv hives.csv --key yard,hive",
    "keys visits.csv hives.csv --key yard",
    "keys visits.csv --key yard",
]


def test_every_option_makes_and_says_what_was_read_and_found_good(plait, put, tmp_path):
    ordinary(put)
    text = "".join(f"$ plait {words}\n{shown(plait, words, tmp_path)}\n" for words in COMMANDS)
    check_kept(SHOWN / "options.txt", text)


def test_two_handovers_are_compared_as_was_read_and_found_good(plait, put, tmp_path):
    ordinary(put)
    (tmp_path / "p.toml").write_text(PLAN)
    assert plait("run", "p.toml", "--quiet").status == 0
    (tmp_path / "handover").rename(tmp_path / "earlier")
    (tmp_path / "visits.csv").write_text((tmp_path / "later.csv").read_text())
    (tmp_path / "p.toml").write_text(PLAN.replace("season >= 1", "season >= 2"))
    assert plait("run", "p.toml", "--quiet").status == 0
    commands = [
        "compare earlier handover --key yard,hive",
        "compare earlier handover --key yard,hive --verbose",
        "trace handover --where 'breed IS NULL'",
        "trace handover --row 2 --columns kg,breed --verbose",
        "history p.toml --last 1",
    ]
    text = "".join(f"$ plait {words}\n{shown(plait, words, tmp_path)}\n" for words in commands)
    text = re.sub(
        r"\d{4}-\d\d-\d\d \d\d:\d\d",
        "DAY",
        re.sub(r"in \d+\.\d s|\d\.\d (?=█)|\d\.\d +█*$", "", text, flags=re.M),
    )
    check_kept(SHOWN / "handovers.txt", text)


def test_every_call_shows_in_python_what_was_read_and_found_good(put, tmp_path, monkeypatch):
    ordinary(put)
    monkeypatch.chdir(tmp_path)
    visits, hives = library.read("visits.csv"), library.read("hives.csv")
    calls = {
        "read": visits,
        "stack": library.stack([visits, library.read("more.csv")]),
        "settle": library.settle(hives, key="yard,hive", otherwise="first"),
        "join": library.join(visits, hives, key="yard,hive", cardinality="many-to-many"),
        "group": library.group(visits, by="yard", take={"honey": "sum:kg"}),
        "keys of one": library.keys([visits], key="yard,hive"),
        "keys": library.keys([visits, hives], key="yard,hive"),
        "compare": library.compare(visits, library.read("later.csv"), key="yard,hive"),
    }
    text = "".join(f">>> {name}\n{value!r}\n\n" for name, value in calls.items())
    check_kept(SHOWN / "python.txt", text)
