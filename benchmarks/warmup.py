"""How many gradients the warm-up takes where there are many unknowns.

    python benchmarks/warmup.py [SEEDS]

For each target, chains of the usual lengths: gradients a chain in warm-up and afterwards,
divergences, the metric that the chains came to, and effective draws for 1000 gradients of all (the
smallest of any unknown). The first is a normal density of 100 unknowns whose covariance has a
condition number of 10^4.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

import numpy as np
from reference_targets import ill_conditioned

import millwright as mw

Problem = tuple[mw.Model, Any]


def normal() -> Problem:
    reference = ill_conditioned()
    return reference.model, reference.data


def groups() -> Problem:
    make = np.random.default_rng(2)
    mill = np.repeat(np.arange(60), 5)
    flour = make.normal(make.normal(0, 1, 60)[mill], 1)
    model = mw.Model(
        priors={
            "centre": "normal(0, 2)",
            "spread": "half_normal(1)",
            "noise": "half_normal(1)",
            "effect": "normal(centre, spread) per mill",
        },
        likelihood={"flour": "normal(effect[mill], noise)"},
    )
    return model, {"mill": mill, "flour": flour}


def walk() -> Problem:
    make = np.random.default_rng(3)
    day = np.arange(80)
    sacks = make.poisson(np.exp(2 + np.cumsum(make.normal(0, 0.1, 80))))
    model = mw.Model(
        priors={
            "step": "half_normal(0.3)",
            "level": "random_walk(start=2, scale=step) per day",
        },
        likelihood={"sacks": "poisson(rate=exp(level[day]))"},
    )
    return model, {"day": day, "sacks": sacks}


def process() -> Problem:
    make = np.random.default_rng(4)
    place = np.linspace(0, 10, 40)
    trips = make.poisson(np.exp(1 + np.sin(place)))
    kernel = "squared_exponential(place, scale=height, length=length)"
    model = mw.Model(
        priors={
            "height": "half_normal(1)",
            "length": "inverse_gamma(shape=4, scale=8)",
            "shape": f"gaussian_process(1, kernel={kernel}) per place",
        },
        likelihood={"trips": "poisson(rate=exp(shape[place]))"},
    )
    return model, {"place": place, "trips": trips}


def columns() -> Problem:
    make = np.random.default_rng(5)
    common = make.normal(size=(150, 1))
    x = 0.98 * common + 0.2 * make.normal(size=(150, 40))
    wet = (make.random(150) < 1 / (1 + np.exp(-x @ make.normal(0, 0.3, 40)))).astype(int)
    model = mw.Model(
        priors={"slope": "normal(0, 1) per x"},
        likelihood={"wet": "bernoulli(log_odds=x @ slope)"},
    )
    return model, {"wet": wet, "x": x}


def tails() -> Problem:
    model = mw.Target(
        lambda x: 0.0 * x.sum(),
        {"x": "student_t(df=3, location=0, scale=1) per at"},
        labels={"at": list(range(50))},
    )
    return model, None


PROBLEMS: dict[str, Callable[[], Problem]] = {
    "normal, condition 10^4, 100 unknowns": normal,
    "60 groups of 5 rows": groups,
    "counts on a walk of 80 days": walk,
    "counts along a process of 40 places": process,
    "yes or no, 40 columns that go together": columns,
    "50 Student-t, 3 degrees of freedom": tails,
}


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 2
    print(f"{'target':40s} warm-up  afterwards  divergences  metric    effective/1000 gradients")
    for name, make in PROBLEMS.items():
        model, data = make()
        fits = [model.fit(data, seed=seed, progress=False) for seed in range(seeds)]
        chains = [chain for fit in fits for chain in fit.record.chains]
        warm = np.mean([chain["warmup_steps"] for chain in chains])
        whole = np.mean([chain["steps"] for chain in chains])
        diverged = sum(int(fit.sampling.statistics()["diverged"].sum()) for fit in fits)
        metrics = "/".join(sorted({chain["metric"] for chain in chains}))
        worth = np.mean([fit.table()["effective draws"].min() for fit in fits]) / 4 / whole * 1000
        print(
            f"{name:40s} {warm:7.0f}  {whole - warm:10.0f}  {diverged:11d}  {metrics:8s}  "
            f"{worth:6.2f}"
        )


main()
