"""Simulation-based calibration of a family of small models.

    python benchmarks/calibration.py [FITS [MODEL ...]]

Talts, Betancourt, Simpson, Vehtari and Gelman (2018), "Validating Bayesian inference algorithms
with simulation-based calibration": truths drawn from the prior rank uniformly among the draws
of the posteriors of their own simulated data. For each unknown this prints the p-value of its
ranks being even, by `Model.calibration`; the models together use every distribution and feature
that has a prior draw. Small p-values are to be expected at the rate of chance: the last line
compares the smallest with what so many tests would give.
"""

from __future__ import annotations

import sys
import time
from typing import Any

import numpy as np

import millwright as mw

X = np.linspace(-1, 1, 12)
STONE = np.array(["Upper", "Lower", "Old", "New"] * 3)
WEEK = np.repeat([1, 2, 3], 4)

MODELS: dict[str, tuple[dict[str, Any], dict[str, Any], dict[str, Any]]] = {
    "line": (
        {"a": "normal(0, 1)", "b": "student_t(0, 1, df=4)", "s": "exponential(rate=1)"},
        {"y": "normal(a + b * x, s)"},
        {"x": X},
    ),
    "heavy": (
        {"a": "laplace(0, 1)", "s": "gamma(shape=3, rate=3)", "df": "gamma(shape=4, rate=0.5)"},
        {"y": "student_t(a, s, df=df)"},
        {"x": X},
    ),
    "cut": (
        {
            "a": "normal(0, 1, low=-0.5, high=2)",
            "s": "half_student_t(1, df=5)",
            "w": "uniform(low=-1, high=3)",
        },
        {"y": "normal(a + w * x, s, low=-2)"},
        {"x": X},
    ),
    "proportions": (
        {"p": "beta(alpha=2, beta=3)", "q": "beta(alpha=0.8, beta=0.8)"},
        {"y": "binomial(trials=n, probability=p)", "z": "bernoulli(probability=q)"},
        {"n": np.full(12, 7.0)},
    ),
    "counts": (
        {"a": "normal(1, 0.7)", "b": "logistic(0, 0.3)", "k": "lognormal(0, 0.7)"},
        {"y": "poisson(rate=exp(a + b * x))", "z": "negative_binomial(mean=exp(a), shape=k)"},
        {"x": X},
    ),
    "odd counts": (
        {"r": "weibull(shape=2, scale=4)", "z": "beta(alpha=2, beta=2)", "g": "gumbel(0, 1)"},
        {
            "y": "zero_inflated(poisson(rate=r), share=z)",
            "h": "hurdle(poisson(rate=r), share=z)",
            "w": "geometric(log_odds=g)",
        },
        {"x": X},
    ),
    "beta-binomial": (
        {"a": "gamma(shape=4, rate=1)", "b": "inverse_gamma(shape=4, scale=9)"},
        {"y": "beta_binomial(trials=n, alpha=a, beta=b)"},
        {"n": np.full(30, 12.0)},
    ),
    "waiting": (
        {"k": "lognormal(0.3, 0.3)", "t": "half_normal(2)", "m": "pareto(shape=3, scale=0.5)"},
        {"y": "weibull(shape=k, scale=t)", "z": "exponential(rate=m)"},
        {"x": X},
    ),
    "mixture": (
        {"a": "normal(-2, 0.7)", "gap": "half_normal(3)", "p": "beta(alpha=3, beta=3)"},
        {"y": "mixture(normal(a, 0.5), normal(a + gap, 1), share=p)"},
        {"x": np.linspace(0, 1, 40)},
    ),
    "censored": (
        {"a": "normal(0, 1)", "s": "half_cauchy(1, high=10)"},
        {"y": "censored(normal(a, s), low=-1, high=1.5)", "z": "rounded(normal(a, s), to=1)"},
        {"x": X},
    ),
    "groups": (
        {"m": "normal(0, 1)", "t": "half_normal(1)", "e": "normal(m, t) per stone"},
        {"y": "normal(e[stone], 0.7)"},
        {"stone": STONE},
    ),
    "two label sets": (
        {"t": "half_normal(1)", "c": "normal(0, t) per stone, week", "w": "normal(0, 1) per week"},
        {"y": "bernoulli(probability=expit(c[stone, week] + w[week]))"},
        {"stone": STONE, "week": WEEK},
    ),
    "grades": (
        {"b": "normal(0, 1)", "cuts": "ordered(normal(0, 2)) per cut", "d": "normal(0, 1)"},
        {
            "grade": "cumulative_logit(b * x, cuts=cuts)",
            "mark": "cumulative_probit(d * x, cuts=[-1, 1])",
        },
        {"x": np.linspace(-2, 2, 30)},
    ),
    "shares": (
        {
            "p": "dirichlet(concentration=[1, 2, 3]) per Y",
            "e": "normal(0, 1) per kind",
            "q": "dirichlet(concentration=2) per kind",
        },
        {
            "Y": "multinomial(trials=n, probabilities=p)",
            "kind": "categorical(log_odds=e)",
            "other": "categorical(probabilities=q)",
        },
        {"n": np.full(12, 4.0)},
    ),
    "vectors": (
        {
            "c": "normal(0, 1) per Y",
            "s": "half_normal(1) per Y",
            "r": "lkj(shape=2) per Y",
            "t": "skew_normal(0, 1, shape=3)",
        },
        {
            "Y": "multivariate_normal(c, scales=s, correlation=r)",
            "Z": "multivariate_student_t(t, covariance=[[1, 0.5], [0.5, 1]], df=4)",
        },
        {"x": X},
    ),
    "varying slopes": (
        {
            "m": "normal(0, 1) per term",
            "s": "half_normal(1) per term",
            "r": "lkj(shape=2) per term",
            "e": "multivariate_normal(m, scales=s, correlation=r) per stone, term",
        },
        {"y": "normal(e[stone, 'a'] + e[stone, 'b'] * x, 0.5)"},
        {"stone": STONE, "x": X},
    ),
    "mixture over labels": (
        {"c": "ordered(normal(0, 3)) per part", "w": "dirichlet(concentration=3) per part"},
        {"y": "mixture(normal(c, 0.7), weights=w)"},
        {"x": np.linspace(0, 1, 40)},
    ),
    "walk": (
        {
            "s": "lognormal(-1, 0.5)",
            "v": "random_walk(start=0, scale=s, drift=0.1) per day",
            "j": "random_walk(start=1, scale=0.5, df=5) per day",
        },
        {"y": "normal(v[day], 0.5)", "z": "poisson(rate=exp(0.3 * j[day]))"},
        {"day": np.arange(1, 16)},
    ),
    "autoregression": (
        {
            "l": "normal(0, 1)",
            "f": "uniform(low=-0.9, high=0.9)",
            "s": "lognormal(-1, 0.4)",
            "a": "autoregressive(l, s, coefficients=[f], start_scale=1) per day",
        },
        {
            "y": "normal(a[day], 0.4)",
            "z": "autoregressive(l, 0.5, coefficients=[f], start_scale=1)",
        },
        {"day": np.arange(1, 16)},
    ),
    "process": (
        {"a": "lognormal(0, 0.3)", "l": "lognormal(0, 0.3)", "s": "lognormal(-1, 0.3)"},
        {"y": "gaussian_process(0, kernel=matern32(x, scale=a, length=l), noise=s)"},
        {"x": np.linspace(0, 4, 20)},
    ),
    "latent process": (
        {
            "a": "lognormal(0, 0.3)",
            "f": "gaussian_process(0, kernel=squared_exponential(x, scale=a, length=1)"
            " + linear(x, scale=0.3)) per x",
        },
        {"y": "bernoulli(probability=expit(f[x]))"},
        {"x": np.linspace(-2, 2, 12)},
    ),
    "states": (
        {"q": "lognormal(-1, 0.4) per state", "s": "lognormal(-1, 0.4)"},
        {
            "y": "state_space(transition=[[1, 1], [0, 0.8]], loading=[1, 0], scale=q, noise=s, "
            "start=[0, 0], start_scale=[1, 0.3])"
        },
        {"x": np.arange(25.0)},
    ),
    "angles": (
        {"m": "von_mises(0.5, concentration=4)", "k": "gamma(shape=3, rate=0.5)"},
        {"y": "von_mises(m, concentration=k)"},
        {"x": X},
    ),
    "matrix": (
        {"w": "normal(0, 1) per X", "s": "exponential(rate=2)"},
        {"y": "cauchy(X @ w, s)"},
        {"X": np.stack([X, X**2], axis=1)},
    ),
}


LABELS = {
    "kind": ["oat", "rye", "wheat"],
    "other": ["oat", "rye", "wheat"],
    "grade": ["low", "middle", "high"],
    "mark": ["low", "middle", "high"],
    "cut": ["low | middle", "middle | high"],
    "term": ["a", "b"],
    "part": ["a", "b"],
    "state": ["level", "slope"],
}
COLUMNS = {"Y": ["one", "two", "three"], "Z": ["first", "second"]}


def main() -> None:
    fits = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    values: list[float] = []
    for name in sys.argv[2:] or MODELS:
        priors, likelihood, data = MODELS[name]
        model = mw.Model(priors=priors, likelihood=likelihood, labels=LABELS, columns=COLUMNS)
        rows = None if any(np.ndim(v) for v in data.values()) else 12
        began = time.perf_counter()
        found = model.calibration(data, replications=fits, seed=1, rows=rows, progress=False)
        seconds = time.perf_counter() - began
        shown = ", ".join(f"{key} {p:.3f}" for key, p in found.p_values.items())
        values += found.p_values.values()
        print(f"{name:20s} {seconds:6.1f} s  {found.good} of {fits} clean  {shown}", flush=True)
    smallest = min(values)
    chance = 1 - (1 - smallest) ** len(values)
    print(
        f"{len(values)} tests, smallest p {smallest:.4f}: by chance with probability {chance:.2f}"
    )


if __name__ == "__main__":
    main()
