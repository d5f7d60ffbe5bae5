"""What a black-box curve costs beside its function, and how long its default fit takes.

    python benchmarks/curves.py

Two bumps over a background: seven unknowns, 120 rows, a function in NumPy. Prints microseconds of
one call; of one evaluation within the sampler's batches, as the study takes many draws in one call
and as it would call one by one; and seconds of fits with default settings.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

import millwright as mw
from millwright.fitting.target import target_of

UNKNOWNS = {
    "first": (0, 10),
    "at_first": (1, 5),
    "width_first": (0.1, 2),
    "second": (0, 10),
    "at_second": (5, 9),
    "width_second": (0.1, 2),
    "base": (0, 3),
}
TRUTH = dict(zip(UNKNOWNS, (5.0, 3.0, 0.5, 3.0, 6.5, 0.8, 1.0), strict=True))


def bumps(
    x: Any,
    first: Any,
    at_first: Any,
    width_first: Any,
    second: Any,
    at_second: Any,
    width_second: Any,
    base: Any,
) -> Any:
    """Two bumps over a background."""
    one = first * np.exp(-0.5 * ((x - at_first) / width_first) ** 2)
    two = second * np.exp(-0.5 * ((x - at_second) / width_second) ** 2)
    return base + one + two


def microseconds(call: Callable[[], Any], times: int) -> float:
    """Return the time of one call, the fastest of five rounds."""
    found = []
    for _ in range(5):
        began = time.perf_counter()
        for _ in range(times):
            call()
        found.append((time.perf_counter() - began) / times)
    return 1e6 * min(found)


def evaluation(study: Any, points: int) -> float:
    """Return microseconds of the log density at one of so many points together."""
    target = target_of(study.model.bind(study.data))
    positions = target.starts(np.random.default_rng(1), points)
    return microseconds(lambda: target.plain(positions), 50) / points


def main() -> None:
    x = np.linspace(0, 10, 120)
    y = bumps(x, **TRUTH) + 0.3 * np.random.default_rng(6).normal(size=120)
    study = mw.studies.curve(bumps, {"x": x, "y": y}, "x", "y", 0.3, UNKNOWNS)
    parts = study.parts["curve"]
    alone = replace(parts, formula=replace(parts.formula, together=False))
    single = replace(study, models={"curve": alone.model})
    raw = microseconds(lambda: bumps(x, **TRUTH), 500)
    print(f"one call of the function: {raw:.1f} us")
    for points in (14, 50):
        many, each = evaluation(study, points), evaluation(single, points)
        print(
            f"{points} points together: {many:.1f} us each in one call ({many / raw:.2f} x the "
            f"function), {each:.1f} us called one by one ({each / raw:.2f} x; beside the function "
            f"{each - raw:.1f} us)"
        )
    for walkers in (None, 100):
        began = time.perf_counter()
        found = study.fit(seed=1, chains=walkers, progress=False)
        took = time.perf_counter() - began
        print(f"{walkers or 'default'} walkers: {took:.1f} s; {found.verdict.headline}")


if __name__ == "__main__":
    main()
