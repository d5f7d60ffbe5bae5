"""Time of weighing subsets of candidates: walks, all subsets, many candidates.

    python benchmarks/subsets.py

Each once before it is timed, so that nothing compiles. One core. The result is recorded in
`benchmarks/README.md`.
"""

from __future__ import annotations

import time

import numpy as np
import pandas as pd

import millwright as mw


def table(rows: int, candidates: int) -> pd.DataFrame:
    """Return an outcome of five of many candidates that go together."""
    generator = np.random.default_rng(5)
    values = generator.normal(size=(rows, candidates)) + 0.6 * generator.normal(size=(rows, 1))
    outcome = values[:, :5].sum(axis=1) + 2 * generator.normal(size=rows)
    frame = pd.DataFrame(values, columns=[f"x{n}" for n in range(candidates)])
    return frame.assign(outcome=outcome)


def timed(name: str, study: mw.studies.Study) -> None:
    """Print how long the search takes, and what it met."""
    study.explored(1)
    began = time.perf_counter()
    found = study.explored(2)
    seconds = time.perf_counter() - began
    again = time.perf_counter()
    study.fit(seed=2, progress=False)
    whole = time.perf_counter() - again
    print(f"{name}: {seconds:.2f} s, {found.met:,} subsets met; with draws {whole:.2f} s")


def main() -> None:
    select = mw.studies.variable_selection
    timed("41 candidates, 72 rows, 300,000 steps", select(table(72, 41), "outcome", steps=300_000))
    timed(
        "82 candidates, 144 rows, 300,000 steps", select(table(144, 82), "outcome", steps=300_000)
    )
    timed("20 candidates, all 2^20 subsets", select(table(72, 20), "outcome", search="all"))
    wide = select(table(200, 1000), "outcome", steps=100_000, expected_size=10)
    timed("1000 candidates, 200 rows, 100,000 steps", wide)
    hyper = select(table(72, 41), "outcome", steps=300_000, g="hyper-g/n")
    timed("41 candidates, hyper-g/n, 300,000 steps", hyper)


if __name__ == "__main__":
    main()
