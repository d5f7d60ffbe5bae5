"""The models that the benchmarks share; all data are made up."""

from __future__ import annotations

from typing import Any

import numpy as np

import millwright as mw

__all__ = ["curve", "groups", "line", "logistic"]


def line() -> tuple[mw.Model, dict[str, Any]]:
    """A straight line through ten rows: 3 unknowns."""
    generator = np.random.default_rng(1)
    hours = np.arange(10.0)
    model = mw.Model(
        priors={
            "start": "normal(18, 3)",
            "drying": "normal(0, 1)",
            "noise": "exponential(rate=1)",
        },
        likelihood={"moisture": "normal(start + drying * hours, noise)"},
    )
    moisture = 18.4 - 0.55 * hours + 0.35 * generator.standard_normal(10)
    return model, {"hours": hours, "moisture": moisture}


def logistic() -> tuple[mw.Model, dict[str, Any]]:
    """A logistic regression of 3000 rows on 10 columns."""
    generator = np.random.default_rng(2)
    x = generator.standard_normal((3000, 10))
    chance = 1 / (1 + np.exp(-x @ generator.standard_normal(10)))
    model = mw.Model(
        priors={"weights": "normal(0, 1) per X"},
        likelihood={"sprouted": "bernoulli(probability=expit(X @ weights))"},
    )
    return model, {"X": x, "sprouted": (generator.random(3000) < chance).astype(float)}


def groups() -> tuple[mw.Model, dict[str, Any]]:
    """A hierarchy of 200 groups with 20 rows each: 203 unknowns."""
    generator = np.random.default_rng(3)
    stone = np.repeat(np.arange(200), 20)
    effect = generator.standard_normal(200)
    model = mw.Model(
        priors={
            "base": "normal(0, 2)",
            "spread": "half_normal(2)",
            "noise": "half_normal(2)",
            "effect": "normal(base, spread) per stone",
        },
        likelihood={"load": "normal(effect[stone], noise)"},
    )
    return model, {"stone": stone, "load": effect[stone] + generator.standard_normal(4000)}


def curve() -> tuple[mw.Model, dict[str, Any]]:
    """A Gaussian process through 100 rows: one factorisation a gradient."""
    generator = np.random.default_rng(4)
    flow = np.sort(generator.uniform(0, 10, 100))
    model = mw.Model(
        priors={
            "height": "half_normal(2)",
            "reach": "lognormal(0.5, 0.5)",
            "noise": "half_normal(1)",
        },
        likelihood={
            "power": "gaussian_process(0, noise=noise, "
            "kernel=squared_exponential(flow, scale=height, length=reach))"
        },
    )
    return model, {"flow": flow, "power": np.sin(flow) + 0.3 * generator.standard_normal(100)}
