"""Many small fits: in one call, in a loop, and with data sets of other lengths.

python benchmarks/many_fits.py [DATA SETS]
"""

from __future__ import annotations

import sys
import time

import numpy as np

import millwright as mw

LINE = mw.Model(
    priors={"start": "normal(20, 5)", "slope": "normal(0, 1)", "noise": "half_normal(2)"},
    likelihood={"moisture": "normal(start + slope * hours, noise)"},
)


def data(rows: int, seed: int) -> dict[str, np.ndarray]:
    random = np.random.default_rng([seed, rows])
    hours = random.uniform(0, 10, rows)
    return {"hours": hours, "moisture": 20 - 0.5 * hours + random.normal(0, 1, rows)}


def timed(sets: list[dict[str, np.ndarray]]) -> float:
    """Return seconds of one call with its verdicts and its table."""
    began = time.perf_counter()
    fits = LINE.fit_each(sets, seed=3, progress=False)
    fits.table("slope")
    str(fits)
    return time.perf_counter() - began


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    equal = [data(20, seed) for seed in range(count)]
    LINE.fit_each(equal[:64], seed=1, progress=False)
    whole = min(timed(equal) for _ in range(2))
    some = equal[:10]
    LINE.fit(some[0], seed=1, progress=False)
    began = time.perf_counter()
    for at, one in enumerate(some):
        str(LINE.fit(one, seed=at, progress=False).verdict)
    each = (time.perf_counter() - began) / len(some)
    print(f"{count} fits of 20 rows: {whole:.1f} s; a loop {each * count:.0f} s")
    print(f"one call / loop: {whole / (each * count):.3f}")
    lengths = [10 + 2 * (at % 20) for at in range(20)]
    other = [data(rows, rows) for rows in lengths]
    timed(other)
    timed(equal[:20])
    ratio = min(timed(other) for _ in range(3)) / min(timed(equal[:20]) for _ in range(3))
    print(f"20 data sets of 10 to 48 rows / 20 of 20 rows: {ratio:.2f}")
    began = time.perf_counter()
    LINE.calibration(equal[0], replications=200, progress=False)
    print(f"calibration, 200 replications: {time.perf_counter() - began:.1f} s")


if __name__ == "__main__":
    main()
