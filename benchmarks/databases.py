"""Measure reading from PostgreSQL and writing into it against ``psql \\copy`` in the same run.

python benchmarks/databases.py postgresql://USER@HOST:PORT/DATABASE [--rows 10000000] [--rounds 3]

It makes tables called ``bench_…`` in the database, and files in benchmarks/data.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
from pathlib import Path

from measure import compare, machine

import data

PLAIT = str(Path(sys.executable).parent / "plait")
_MAKE = """
CREATE TABLE bench_visits AS
SELECT i AS id, 'hive ' || (i % 1000000) AS hive, (random() * 50)::numeric(8, 2) AS kg,
       date '2031-01-01' + (i % 365) AS day,
       CASE WHEN i % 7 = 0 THEN NULL ELSE 'calm, note ' || i % 977 END AS note
FROM generate_series(1, {rows}) AS i
"""
_LIKE = "CREATE TABLE bench_copied (LIKE bench_visits)"
_READ = "import sys, plait; assert plait.read(sys.argv[1]).rows == int(sys.argv[2])"


def psql(address: str, *statements: str) -> list[str]:
    """The words that have statements carried out."""
    return ["psql", "-qX", address, *(part for one in statements for part in ("-c", one))]


def main() -> None:
    """Read, then write, each in turn with the floor."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("address")
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    options = parser.parse_args()
    address, file = options.address, data.FOLDER / "bench.csv"
    data.FOLDER.mkdir(exist_ok=True)
    drop = "DROP TABLE IF EXISTS bench_visits, bench_copied, bench_written"
    make = (_MAKE.format(rows=options.rows), "ALTER TABLE bench_visits ADD PRIMARY KEY (id)")
    subprocess.run(psql(address, drop, *make), check=True)
    subprocess.run(psql(address, "VACUUM ANALYZE bench_visits"), check=True)
    print(machine())
    print("read:")
    source = f"{address}#bench_visits"
    compare(
        psql(address, f"\\copy bench_visits TO '{file}' CSV HEADER"),
        [sys.executable, "-c", _READ, source, str(options.rows)],
        [],
        options.rounds,
    )
    print("written:")
    compare(
        psql(
            address,
            "DROP TABLE IF EXISTS bench_copied",
            _LIKE,
            f"\\copy bench_copied FROM '{file}' CSV HEADER",
        ),
        [PLAIT, "mend", str(file), "--out", f"{address}#bench_written", "--replace", "--quiet"],
        [],
        options.rounds,
    )
    subprocess.run(psql(address, drop), check=True)


if __name__ == "__main__":
    main()
