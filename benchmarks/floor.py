"""The floors: what the Arrow library alone needs to read and write the same data, and no more.

``floor.py join LEFT RIGHT JOINED OUT`` reads both sources with types and writes
a ready-made result; ``floor.py stack OUT EXTRACT…`` reads the extracts with
types and writes Parquet; ``floor.py survey SOURCE…`` reads them with types;
``floor.py write OUT READY SOURCE…`` reads them with types and writes a ready result.
"""

from __future__ import annotations

import subprocess
import sys

import pyarrow as pa
import pyarrow.csv
import pyarrow.feather
import pyarrow.parquet


def join(left: str, right: str, joined: str, out: str) -> None:
    """Read both with types; write the joined result, which is only mapped, not computed."""
    pa.csv.read_csv(left)
    pa.csv.read_csv(right)
    result = pa.feather.read_table(joined, memory_map=True)
    pa.csv.write_csv(result, out)


def stack(out: str, *extracts: str) -> None:
    """Read each extract with types and write it to one Parquet file."""
    tables = [pa.csv.read_csv(extract) for extract in extracts]
    with pa.parquet.ParquetWriter(out, tables[0].schema) as writer:
        for table in tables:
            writer.write_table(table)


def survey(*sources: str) -> None:
    """Read them with types."""
    for source in sources:
        pa.csv.read_csv(source)


def write(out: str, ready_result: str, *sources: str) -> None:
    """Read the sources with types; write a ready result, which is only mapped, not computed."""
    for source in sources:
        pa.csv.read_csv(source)
    pa.csv.write_csv(pa.feather.read_table(ready_result, memory_map=True), out)


def each(*words: str) -> None:
    """Run a command on each of the sources behind ``--``, one after another."""
    place = words.index("--")
    for source in words[place + 1 :]:
        subprocess.run([*words[:place], source], check=True, stdout=subprocess.DEVNULL)


def ready(result: str, made: str) -> None:
    """Turn a joined CSV file into an Arrow file that can be mapped."""
    pa.feather.write_feather(pa.csv.read_csv(result), made, compression="uncompressed")


if __name__ == "__main__":
    commands = {
        "join": join,
        "stack": stack,
        "survey": survey,
        "write": write,
        "each": each,
        "ready": ready,
    }
    commands[sys.argv[1]](*sys.argv[2:])
