"""What the sampler costs over the gradients it needs, and how chains share cores.

    python benchmarks/overhead.py

For each model, from one run: the time of one log density with its gradient in a compiled loop,
the time of one leapfrog step inside the sampler (one chain, one thread), and their ratio; then
four chains on one worker against two.
"""

from __future__ import annotations

import time
from typing import Any

import jax
import numpy as np
from jax import lax

from millwright.fitting.target import target_of
from millwright.sampling.chains import sample
from millwright.sampling.compiling import compiled
from millwright.sampling.sampler import FitSettings
from millwright.sampling.target import TargetDensity
from models import curve, groups, line, logistic


def raw_loop(log_density: Any, position: Any, count: Any, arguments: Any) -> Any:
    """Evaluate value and gradient `count` times, each at a place that rests on the one before."""
    both = jax.value_and_grad(lambda q: log_density(q, arguments))

    def step(_: Any, q: Any) -> Any:
        value, gradient = both(q)
        return q + 1e-12 * gradient + 1e-30 * value

    return lax.fori_loop(0, count, step, position)


def raw_seconds(target: TargetDensity, position: np.ndarray) -> float:
    arguments = jax.device_put(target.arguments)
    run = compiled(raw_loop, target.key, (position, np.int64(1), arguments))
    count = np.int64(200)
    while True:
        times = []
        for _ in range(5):
            began = time.perf_counter()
            jax.block_until_ready(run(position, count, arguments))
            times.append(time.perf_counter() - began)
        if min(times) > 0.05:
            return min(times) / int(count)
        count = np.int64(4 * count)


def step_seconds(target: TargetDensity) -> tuple[float, np.ndarray]:
    best = np.inf
    for seed in range(3):
        sampled = sample(target, FitSettings(1000, 500), 1, seed, workers=1)
        chain = sampled.chains[0]
        seconds = sampled.reports[0]["seconds"][1]
        best = min(best, seconds / chain.statistics[:, 2].sum())
    return float(best), chain.positions[-1]


def main() -> None:
    print("model                     gradient      step   step / gradient")
    for name, make in (
        ("line, 3 unknowns", line),
        ("logistic, 3000 x 10", logistic),
        ("200 groups, 4000 rows", groups),
        ("Gaussian process, 100 rows", curve),
    ):
        model, data = make()
        target = target_of(model.bind(data))
        step, position = step_seconds(target)
        raw = raw_seconds(target, position)
        print(f"{name:24s} {1e6 * raw:6.1f} us  {1e6 * step:6.1f} us   {step / raw:6.2f}")
    for name, make, draws in (("200 groups", groups, 1000), ("Gaussian process", curve, 300)):
        model, data = make()
        target = target_of(model.bind(data))
        ratios = []
        for _ in range(6):
            # Side by side, since the machine's own speed drifts.
            one, two = (
                sample(target, FitSettings(draws, 500), 4, 1, workers=workers).sampling
                for workers in (1, 2)
            )
            ratios.append(one / two)
        ratios.sort()
        print(
            f"{name}: four chains, two workers against one, six pairs: {ratios[3]:.2f} times, "
            f"{ratios[0]:.2f} to {ratios[-1]:.2f}"
        )


if __name__ == "__main__":
    main()
