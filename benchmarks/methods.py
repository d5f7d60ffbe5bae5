"""What the methods without a gradient cost over the calls of the density that they need.

    python benchmarks/methods.py

300 walkers on 7 unknowns for 1000 steps of a vectorised NumPy function, against the time of the
function calls alone; a million random-walk steps on a compiled density of one unknown; and
parallel tempering of it, a density against one of that walk.
"""

from __future__ import annotations

import time

import numpy as np

import millwright as mw

GENERATOR = np.random.default_rng(0)
X = GENERATOR.standard_normal((7, 200))
Y = np.tanh(np.arange(7.0) @ X / 7) + 0.1 * GENERATOR.standard_normal(200)


def curve(*weights: np.ndarray) -> np.ndarray:
    """Log density of a curve's seven weights, for many points at once."""
    gap = Y - np.tanh(np.stack(weights, axis=1) @ X / 7)
    return -50.0 * np.sum(gap * gap, axis=1)


def main() -> None:
    target = mw.Target(
        curve, {f"w{at}": "real" for at in range(7)}, black_box=True, vectorised=True
    )
    settings = {"method": mw.Ensemble(steps=1), "chains": 300, "warmup": 100, "progress": False}
    target.fit(draws=10, **settings)
    halves = GENERATOR.standard_normal((150, 7))
    ratios = []
    for seed in range(3):
        began = time.perf_counter()
        fit = target.fit(draws=900, seed=seed, **settings)
        sampling = fit.record.seconds["sampling"]
        whole = time.perf_counter() - began
        began = time.perf_counter()
        for _ in range(2000):
            curve(*halves.T)
        alone = time.perf_counter() - began
        ratios.append(sampling / alone)
        print(
            f"ensemble: sampling {sampling:.2f} s, whole fit {whole:.2f} s, its 2000 calls alone "
            f"{alone:.2f} s, ratio {ratios[-1]:.2f}"
        )
    one = mw.Target(lambda x: -0.5 * x**2, {"x": "real"})
    walk = {"method": mw.RandomWalk(steps=100), "chains": 1, "warmup": 100, "progress": False}
    one.fit(draws=100, **walk)
    began = time.perf_counter()
    one.fit(draws=10_000, **walk)
    walking = time.perf_counter() - began
    print(f"a million random-walk steps, compiled before: {walking:.2f} s")
    ladder = {"method": mw.Tempering(steps=10), "chains": 1, "warmup": 100, "progress": False}
    one.fit(draws=100, **ladder)
    began = time.perf_counter()
    one.fit(draws=10_000, **ladder)
    tempering = time.perf_counter() - began
    print(
        f"tempering, 10,100 draws of 10 steps at 10 temperatures: {tempering:.2f} s, "
        f"{tempering / walking:.1f} times the walk's million densities"
    )


if __name__ == "__main__":
    main()
