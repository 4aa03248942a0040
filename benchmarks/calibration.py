"""Whether pairs that are said to be so sure are as often true, on made-up registers with the truth.

python benchmarks/calibration.py --seeds 20 --rows 10000 --figure docs/calibration.svg
"""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Iterator, Sequence
from itertools import pairwise
from pathlib import Path

import numpy as np
import numpy.typing as npt

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from plait.core.operations.keys import audit_keys
from plait.core.table.table import table_from_columns
from registers import registers

EVIDENCE = ("name", "born", "town", "phone")
EDGES = (0.01, 0.1, 0.3, 0.5, 0.7, 0.9, 0.99, 0.999, 1.0)

Floats = npt.NDArray[np.float64]


def judged(seed: int, rows: int, share: float) -> tuple[Floats, npt.NDArray[np.bool_], int, float]:
    """The probability of each pair, whether it is true, how many true ones there are, seconds."""
    left, right, truth = registers(seed, rows, share)
    tables = [table_from_columns("people", left), table_from_columns("payers", right)]
    begin = time.process_time()
    found = audit_keys(tables, ["n"], evidence=EVIDENCE, accept="99%")
    seconds = time.process_time() - begin
    linkage, texts = found.linkage, found.coding.key_columns[0].texts.to_pylist()
    assert linkage is not None
    true = np.array(
        [
            truth.get(texts[mine]) == texts[theirs]
            for mine, theirs in zip(linkage.left, linkage.right, strict=True)
        ]
    )
    return linkage.probability, true, len(truth), seconds


def lines(
    probability: Floats, true: npt.NDArray[np.bool_]
) -> Iterator[tuple[str, int, float, float]]:
    """For each stretch of probability: how many pairs, what was said of them, and what was true."""
    for low, high in pairwise(EDGES):
        some = (probability >= low) & (probability < high if high < 1 else probability <= 1)
        if some.any():
            name = f"{low * 100:g}–{high * 100:g}%"
            yield name, int(some.sum()), float(probability[some].mean()), float(true[some].mean())


def draw(path: Path, rows: Sequence[tuple[str, int, float, float]]) -> None:
    """What was said against what was true, a point for each stretch."""
    import matplotlib as mpl

    mpl.use("svg")
    mpl.rcParams["svg.hashsalt"] = "plait"
    from matplotlib import pyplot as plt

    figure, axes = plt.subplots(figsize=(5, 5))
    axes.plot([0, 100], [0, 100], color="#8a94a0", linewidth=1, linestyle="--")
    said, true = [row[2] * 100 for row in rows], [row[3] * 100 for row in rows]
    axes.plot(said, true, "o-", color="#2563b0")
    axes.set(xlabel="said, %", ylabel="true, %", xlim=(0, 101), ylim=(0, 101), aspect="equal")
    axes.spines[["top", "right"]].set_visible(False)
    figure.savefig(path, metadata={"Date": None}, bbox_inches="tight")


def main() -> None:
    """Judge all seeds, and tell it as a table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=20)
    parser.add_argument("--rows", type=int, default=10_000)
    parser.add_argument("--share", type=float, default=0.5, help="of people who are in both")
    parser.add_argument("--figure", type=Path)
    options = parser.parse_args()
    said, true, recalls, precisions, seconds = [], [], [], [], []
    for seed in range(1, options.seeds + 1):
        probability, right, every, took = judged(seed, options.rows, options.share)
        used = probability >= 0.99
        said.append(probability)
        true.append(right)
        precisions.append(right[used].mean())
        recalls.append(right[used].sum() / every)
        seconds.append(took)
    rows = list(lines(np.concatenate(said), np.concatenate(true)))
    print("| said | pairs | said on average | true |\n|---|---|---|---|")
    for name, number, mean, share in rows:
        print(f"| {name} | {number:,} | {mean:.2%} | {share:.2%} |")
    print(f"at 99%: precision {min(precisions):.4f} to {max(precisions):.4f}, "
          f"recall {min(recalls):.4f} to {max(recalls):.4f}, "
          f"processor time {np.median(seconds):.1f} s in the median")  # fmt: skip
    if options.figure:
        draw(options.figure, rows)


if __name__ == "__main__":
    main()
