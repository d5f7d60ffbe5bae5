"""What rows cost: fits whose rows are gathered, and gradients that go through all of them.

    python benchmarks/many_rows.py

First, seconds of a whole fit (compiled before, four chains of 1000 and 1000 draws) of a straight
line and of a yes/no outcome with one predictor of twenty values, for more and more rows, and how
many times those of a hundred rows that is. Then one gradient of models whose rows cannot be
gathered, against the time to read their columns once from memory.
"""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

import millwright as mw
from millwright.fitting.target import target_of
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.mode import value_and_gradient

PRIORS = {"level": "normal(0, 5)", "slope": "normal(0, 5)"}
NOISE = {"noise": "half_normal(3)"}


def line(rows: int) -> tuple[mw.Model, dict[str, np.ndarray]]:
    generator = np.random.default_rng(1)
    hours = generator.normal(5, 2, rows)
    data = {"hours": hours, "moisture": 2 + 0.5 * hours + generator.normal(size=rows)}
    text = "normal(level + slope * hours, noise)"
    return mw.Model(priors=PRIORS | NOISE, likelihood={"moisture": text}), data


def torn(rows: int, kinds: int = 20) -> tuple[mw.Model, dict[str, np.ndarray]]:
    generator = np.random.default_rng(2)
    hours = generator.integers(0, kinds, rows) * 20.0 / kinds
    chance = 1 / (1 + np.exp(2 - 0.1 * hours))
    data = {"hours": hours, "torn": (generator.random(rows) < chance).astype(float)}
    text = "bernoulli(log_odds=level + slope * hours)"
    return mw.Model(priors=PRIORS, likelihood={"torn": text}), data


def uneven(rows: int) -> tuple[mw.Model, dict[str, np.ndarray]]:
    _, data = line(rows)
    text = "normal(level + slope * hours, noise * exp(0.1 * hours))"
    return mw.Model(priors=PRIORS | NOISE, likelihood={"moisture": text}), data


def fit_seconds(make: Callable[[int], tuple[mw.Model, dict[str, np.ndarray]]], rows: int) -> float:
    model, data = make(rows)
    model.fit(data, seed=1, progress=False)
    began = time.perf_counter()
    model.fit(data, seed=2, progress=False)
    return time.perf_counter() - began


def best(work: Callable[[], object], times: int = 7) -> float:
    found = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)


def gradient_seconds(model: mw.Model, data: dict[str, np.ndarray]) -> float:
    target = target_of(model.bind(data))
    arguments = on_device(target.arguments)
    place = target.starts(np.random.default_rng(0), 1)[0]
    evaluate = compiled(value_and_gradient, target.key, (place, arguments))
    return best(lambda: np.asarray(evaluate(place, arguments)[1]))


def main() -> None:
    for name, make in (("straight line", line), ("yes or no", torn)):
        first = fit_seconds(make, 100)
        print(f"{name:16s} {100:>10,} rows  {first:6.2f} s a fit")
        for rows in (10_000, 1_000_000, 10_000_000):
            seconds = fit_seconds(make, rows)
            print(f"{name:16s} {rows:>10,} rows  {seconds:6.2f} s  {seconds / first:5.1f} times")
    rows = 2_000_000
    for name, model, data in (
        ("scale by row", *uneven(rows)),
        ("yes or no, all rows different", *torn(rows, kinds=10**9)),
    ):
        columns = np.stack([data[column] for column in data])
        reading = best(lambda columns=columns: columns.sum())
        gradient = gradient_seconds(model, data)
        print(
            f"{name:30s} {rows:,} rows: gradient {1e3 * gradient:6.1f} ms, reading "
            f"{1e3 * reading:5.1f} ms, {gradient / reading:5.1f} times"
        )


if __name__ == "__main__":
    main()
