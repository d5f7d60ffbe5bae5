"""Shapes of many rows, gathered at nodes: against every row.

    python benchmarks/gathered_shapes.py [ROWS ...]

A sine with noise at so many places (by default 100, 2000 and 100,000), whole answers with 4 chains
of 1000 draws. Up to 200 rows the study goes through every row too: how many times longer that
takes, and how far the means are apart.
"""

from __future__ import annotations

import sys
import time

import numpy as np

import millwright as mw

ROWS = (100, 2000, 100_000)


def data(rows: int) -> dict[str, np.ndarray]:
    make = np.random.default_rng(1)
    x = make.uniform(0, 10, rows)
    return {"x": x, "y": np.sin(x) + 0.3 * make.normal(size=rows)}


def answered(rows: int, kernel: str, nodes: int | None) -> tuple[float, mw.studies.Findings]:
    """Return seconds from the question to the answer, and the answer."""
    began = time.perf_counter()
    study = mw.studies.smooth(data(rows), "x", "y", kernel=kernel, nodes=nodes)
    found = study.fit(seed=1, progress=False)
    str(found)
    return time.perf_counter() - began, found


def main(sizes: tuple[int, ...]) -> None:
    for rows in sizes:
        for kernel in ("squared_exponential", "matern52"):
            seconds, found = answered(rows, kernel, None)
            count = len(found.study.readings.x)
            print(f"{rows} rows, {kernel}: {count} nodes, {seconds:.1f} s; lost {found.lost:.1g}")
            if rows > 200:
                continue
            slow, every = answered(rows, kernel, 0)
            one, other = (answer.posterior.table() for answer in (found, every))
            apart = (abs(one["mean"] - other["mean"]) / other["sd"]).max()
            print(
                f"  every row: {slow:.1f} s, {slow / seconds:.1f} x; means at most {apart:.2f} sd "
                "apart"
            )


if __name__ == "__main__":
    main(tuple(map(int, sys.argv[1:])) or ROWS)
