"""Files of every format, mutated: each must end in a table or a clear error, and in time.

``python tests/fuzz_readers.py --seconds 600`` runs for as long as asked; the tests run a little.
"""

from __future__ import annotations

import argparse
import random
import tempfile
import time
from pathlib import Path

from makers import PACKERS, every_format, open_sheet
from plait.core.account.errors import PlaitError
from plait.core.verbs.survey import survey
from plait.formats.reading import read_source
from plait.formats.sources import Given, find_sources

LONGEST = 20.0
TEXTS = {
    "a.csv": b'hive,kg,note\n1,12.50,"calm, busy"\n2,9,"two\nlines"\n3,,x\n',
    "b.csv": "jour;ruche;poids\n1;Érable;12,5\n2;Chêne;3,1\n".encode("cp1252"),
    "c.tsv": "a\tb\n1\t2\n".encode("utf-16"),
    "d.jsonl": b'{"a": 1.50, "b": {"c": [1, "x"]}}\n{"a": null}\n',
}


def seeds(folder: Path) -> list[Path]:
    """Whole files to begin with."""
    for name, content in TEXTS.items():
        (folder / name).write_bytes(content)
    for packer, pack in PACKERS.items():
        (folder / f"p.csv.{packer}").write_bytes(pack(TEXTS["a.csv"]))
    open_sheet(folder / "s.ods")
    every_format(folder)
    (folder / "x.xls").write_bytes((Path(__file__).parent / "data" / "hives.xls").read_bytes())
    return sorted(folder.iterdir())


def mutated(data: bytes, rng: random.Random) -> bytes:
    """The bytes with a few of them changed, taken out, doubled or cut off."""
    made = bytearray(data)
    for _ in range(rng.randint(1, 6)):
        place = rng.randrange(len(made) + 1)
        kind = rng.randrange(5)
        if kind == 0 and place < len(made):
            made[place] = rng.randrange(256)
        elif kind == 1:
            del made[place : place + rng.randint(1, 20)]
        elif kind == 2:
            made[place:place] = rng.choice([b'"', b"\n", b"\0", b",", b"\xff", b"'", b";", b"{"])
        elif kind == 3:
            made[place:place] = made[max(0, place - 30) : place]
        elif rng.random() < 0.2:
            del made[place:]
    return bytes(made)


def fuzz(seconds: float, seed: int, folder: Path) -> int:
    """Read mutated files for so long; how many there were.

    Anything but a ``PlaitError`` goes up, with the file left where it is.
    """
    rng, files = random.Random(seed), seeds(folder)
    contents = {file: file.read_bytes() for file in files}
    begin, count = time.monotonic(), 0
    while time.monotonic() - begin < seconds:
        file = rng.choice(files)
        target = folder / f"fuzzed-{file.name}"
        target.write_bytes(mutated(contents[file], rng))
        started = time.monotonic()
        try:
            given = Given(ragged=rng.choice(["error", "set-aside"]))
            tables = [read_source(source) for source in find_sources([str(target)], given)]
            survey([table for table in tables if table.columns])
        except PlaitError as error:
            assert str(error)
        took = time.monotonic() - started
        assert took < LONGEST, f"{target} took {took:.0f} s"
        target.unlink()
        count += 1
    return count


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    options = parser.parse_args()
    print("seed", options.seed)
    print(fuzz(options.seconds, options.seed, Path(tempfile.mkdtemp())), "files")
