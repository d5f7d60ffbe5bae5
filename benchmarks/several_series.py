"""Time of Gibbs sweeps of several series with drifting coefficients.

    python benchmarks/several_series.py

One chain on one core, once before it is timed, so that nothing compiles. The result is recorded in
`benchmarks/README.md`.
"""

from __future__ import annotations

import time

import numpy as np
import pandas as pd

import millwright as mw
from millwright.sweeps.run import Plan, swept

SWEEPS = 21_000


def series(count: int, times: int) -> pd.DataFrame:
    """Return series that lean on their own past."""
    generator = np.random.default_rng(4)
    values = np.zeros((times, count))
    for at in range(1, times):
        values[at] = 0.5 * values[at - 1] + generator.normal(size=count)
    return pd.DataFrame(values, columns=[f"series {n}" for n in range(1, count + 1)])


def seconds(count: int, times: int, lags: int, sweeps: int) -> float:
    """Return the time of one chain."""
    study = mw.studies.vector_autoregression(series(count, times), lags=lags)
    problem = study.parts.problem
    draws = sweeps // 20
    swept(problem, Plan(chains=1, warmup=0, draws=5, thin=1, seed=1), 1, lambda event: None)
    began = time.perf_counter()
    plan = Plan(chains=1, warmup=draws, draws=draws, thin=10, seed=1)
    swept(problem, plan, 1, lambda event: None)
    return (time.perf_counter() - began) * SWEEPS / (plan.warmup + plan.draws) / plan.thin


def main() -> None:
    print(f"Seconds for {SWEEPS:,} sweeps of one chain")
    base = seconds(4, 211, 1, SWEEPS)
    print(f"4 series, 210 times, 1 lag:  {base:6.1f} s")
    for count, times, lags in ((4, 421, 1), (4, 212, 2), (8, 211, 1), (2, 211, 1)):
        found = seconds(count, times, lags, SWEEPS // 4)
        print(
            f"{count} series, {times - lags} times, {lags} lag: {found:6.1f} s, "
            f"{found / base:.1f} times the first"
        )


if __name__ == "__main__":
    main()
