"""All judges: the verbs set against SQLite, ``fractions``, ``decimal`` and plain Python.

As a script it runs as many cases as asked, of every judge in turn:

    python tests/judges.py --cases 100000 --seed 7
"""

from __future__ import annotations

import argparse
import os
import random
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor

from judging import changes, choices, joins, lineage, numbers, parts, texts, typed, verbs

Judge = Callable[[random.Random], bool]

JUDGES: dict[str, Judge] = {
    **numbers.JUDGES,
    **verbs.JUDGES,
    **texts.JUDGES,
    **joins.JUDGES,
    **lineage.JUDGES,
    **changes.JUDGES,
    **choices.JUDGES,
    **typed.JUDGES,
    **parts.JUDGES,
}
# How many of a hundred cases are of each; the others share what is left.
SLOW = {
    "lineage": 2,
    "figures and rules": 4,
    "beside and keys": 3,
    "compare": 3,
    "crosswalks": 3,
    "ignored": 2,
    "tolerances": 2,
    "labels": 2,
    "rare types": 2,
    "key sets": 2,
    "small parts": 3,
}
# Half of all cases are of typed sources and results.
TYPED = {"typed sources": 30, "typed results": 20}
_STEP = 10


def run(name: str, cases: int, seed: str) -> tuple[int, list[str]]:
    """Run so many cases of a judge: how many could be judged, and what was wrong."""
    judged, wrong = 0, []
    for case in range(cases):
        try:
            judged += JUDGES[name](random.Random(f"{name} {seed} {case}"))
        except Exception as error:
            wrong.append(f"{name} {seed} {case}: {type(error).__name__}: {str(error)[:500]}")
    return judged, wrong


def shares(cases: int) -> dict[str, int]:
    """How many cases each judge has."""
    slow = {name: cases * share // 100 for name, share in {**SLOW, **TYPED}.items()}
    others = [name for name in JUDGES if name not in slow]
    each = (cases - sum(slow.values())) // len(others)
    return slow | dict.fromkeys(others, each)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cases", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--first", action="store_true", help="stop at the first that is wrong")
    asked = parser.parse_args()
    work = [
        (name, min(_STEP, cases - begin), f"{asked.seed}.{begin}")
        for begin in range(0, asked.cases, _STEP)  # each judge a little, in turn
        for name, cases in shares(asked.cases).items()
        if begin < cases
    ]
    tried, judged, wrong = Counter[str](), Counter[str](), []
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for (name, cases, _), (found, bad) in zip(
            work, pool.map(run, *zip(*work, strict=True)), strict=True
        ):
            tried[name] += cases
            judged[name] += found
            wrong += bad
            if wrong and asked.first:
                pool.shutdown(cancel_futures=True)
                break
    for name in JUDGES:
        print(f"{name:28}{tried[name]:9,} cases, {judged[name]:9,} judged")
    print(f"seed {asked.seed}: {tried.total():,} cases, {len(wrong)} wrong")
    for one in wrong[:20]:
        print(one)
    raise SystemExit(bool(wrong))


if __name__ == "__main__":
    main()
