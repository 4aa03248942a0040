"""Every notice word for word: ``messages.txt``, to be read; ``SHOWN=write`` writes it anew."""

from __future__ import annotations

import re
from datetime import datetime, timedelta, timezone
from pathlib import Path

from kept import check_kept
from makers import Quiet
from plait.core.base.errors import OutputError, PlaitError
from plait.plan.file.load import load_plan
from plait.plan.notices.message import compose_notice
from plait.plan.run import run_plan
from plait.plan.runs.history import read_history

KEPT = Path(__file__).parent / "messages.txt"
PLAN = """title = "Season"
[source.visits]
path = "visits.csv"
[source.hives]
path = "hives.csv"
[[step]]
join = ["visits", "hives"]
key = "hive"
into = "season"
[expect]
unique = {{ visits = ["hive"] }}
unmatched = {{ season = {most} }}
values = {{ hives = {{ breed = ["Carnica", "Buckfast"] }} }}
[handover]
result = "season"
key = ["hive"]
"""


def test_every_notice_says_what_was_read_and_found_good(put, tmp_path):
    path = tmp_path / "p.toml"
    moment = datetime(2031, 5, 3, 6, 0, tzinfo=timezone(timedelta(hours=2)))
    told = []

    def tell(
        name: str, most: int, fail_on: tuple[str, ...] = (), again: bool = True, **files: str
    ) -> None:
        put(**files)
        path.write_text(PLAN.format(most=most))
        clock = iter(moment + timedelta(seconds=90 * n) for n in range(100))
        try:
            ended = run_plan(
                path, (), Quiet(), True, fail_on, again=again, clock=lambda: next(clock)
            )
            ended = ended.story if again else ended.standing
        except PlaitError as error:
            ended = error
        add(name, ended)

    def add(name: str, ended: object) -> None:
        loaded, record = load_plan(path), read_history(path)[-1]
        for examples in (False, True):
            message = compose_notice(loaded, record, ended, examples)
            told.append(f"== {name}{', with examples' * examples}\n{message.subject}\n")
            told.append(message.text())

    visits, hives = "hive,kg\n1,2\n3,4\n", "hive,breed\n1,Carnica\n2,Buckfast\n"
    tell("the first run", 1, visits_csv=visits, hives_csv=hives)
    tell("the same once more", 1)
    # The clock of this test stands years later than the files, and these long before.
    tell("nothing new", 1, again=False)
    tell("another row", 2, visits_csv=f"{visits}4,5\n")
    tell("expectations that do not hold", 0, visits_csv=f"{visits}3,5\n",
         hives_csv=f"{hives}5,Ligustica\n")  # fmt: skip
    tell("findings named by --fail-on", 9, ("key-unmatched",), visits_csv=visits, hives_csv=hives)
    tell("a source that cannot be read", 1, visits_csv="")
    add(
        "an output that cannot be written", OutputError("the disk is full", "handover", "make room")
    )
    add("a fault", RuntimeError("3 is no hive"))
    add("an interrupt", KeyboardInterrupt())
    text = re.sub(r"by .+ on .+", "by SOMEBODY", "\n".join(told).replace(str(tmp_path), "FOLDER"))
    check_kept(KEPT, text)
