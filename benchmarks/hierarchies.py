"""Three forms of group effects over weak, strong and mixed designs.

    python benchmarks/hierarchies.py [more]

For normal, Bernoulli and Poisson rows: divergences, effective draws of the worst quantity for a
thousand gradients (warm-up not counted), and the error of the mean of log(spread) against
quadrature, in Monte Carlo standard errors. With `more` only the second table: two correlated
effects a group, and crossed groups.
"""

from __future__ import annotations

import sys
from typing import Any

import numpy as np
from scipy import special, stats

import millwright as mw
from millwright.diagnostics.convergence import mean_error

PRIORS = {
    "base": "normal(0, 2)",
    "spread": "half_normal(2)",
    "effect": "normal(base, spread) per stone",
}
ROWS = {
    "normal": "normal(effect[stone], 1)",
    "bernoulli": "bernoulli(probability=expit(effect[stone]))",
    "poisson": "poisson(rate=exp(effect[stone]))",
}
DESIGNS = {
    "weak": np.full(8, 1),
    "strong": np.full(40, 50),
    "mixed": np.r_[np.full(20, 1), np.full(10, 200)],
}


def data(rows: str, sizes: np.ndarray) -> dict[str, Any]:
    generator = np.random.default_rng(11)
    stone = np.repeat(np.arange(len(sizes)), sizes)
    effect = generator.normal(0.3, 1.0, len(sizes))[stone]
    y = {
        "normal": lambda: generator.normal(effect, 1.0),
        "bernoulli": lambda: (generator.random(len(effect)) < special.expit(effect)).astype(float),
        "poisson": lambda: generator.poisson(np.exp(effect)).astype(float),
    }[rows]()
    return {"stone": stone, "y": y}


def exact_mean_log_spread(rows: str, table: dict[str, Any]) -> float:
    """Mean of log(spread) on a grid of base and spread, each group integrated out.

    Each group's integral over its effect is Gauss-Hermite quadrature around the mode of its
    likelihood times prior, found by Newton's method.
    """
    stone, y = table["stone"], table["y"]
    total, count = np.bincount(stone, y), np.bincount(stone)
    mu = np.linspace(-3, 3.5, 61)[:, None, None]
    log_tau = np.linspace(-7, 2.2, 161)[None, :, None]
    tau = np.exp(log_tau)

    def log_lik(theta: np.ndarray) -> np.ndarray:
        if rows == "normal":
            return total * theta - count * theta**2 / 2
        if rows == "bernoulli":
            return total * theta - count * np.logaddexp(0, theta)
        return total * theta - count * np.exp(theta)

    def curvature(theta: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        if rows == "normal":
            return total - count * theta, count + 0 * theta
        p = special.expit(theta) if rows == "bernoulli" else np.exp(theta)
        return total - count * p, count * (p * (1 - p) if rows == "bernoulli" else p)

    theta = mu + 0 * tau + 0.0 * total
    for _ in range(60):
        slope, bend = curvature(theta)
        step = (slope - (theta - mu) / tau**2) / (bend + 1 / tau**2)
        theta = theta + np.clip(step, -0.7, 0.7)
    sd = 1 / np.sqrt(curvature(theta)[1] + 1 / tau**2)
    nodes, weights = np.polynomial.hermite_e.hermegauss(25)
    pieces = []
    for node, weight in zip(nodes, weights, strict=True):
        at = theta + sd * node
        log_f = log_lik(at) - 0.5 * ((at - mu) / tau) ** 2 - np.log(tau)
        pieces.append(log_f + 0.5 * node**2 + np.log(weight) + np.log(sd))
    log_group = special.logsumexp(pieces, axis=0).sum(axis=-1)
    log_p = log_group + stats.norm.logpdf(mu[..., 0], 0, 2)
    log_p = log_p + stats.halfnorm.logpdf(tau[..., 0], scale=2) + log_tau[..., 0]
    p = np.exp(log_p - log_p.max())
    return float((p * log_tau[..., 0]).sum() / p.sum())


def main() -> None:
    print("rows       design  form         divergences   ESS/1000 gradients   log(spread) error")
    for rows, likelihood in ROWS.items():
        model = mw.Model(priors=PRIORS, likelihood={"y": likelihood})
        for design, sizes in DESIGNS.items():
            table = data(rows, sizes)
            exact = exact_mean_log_spread(rows, table)
            for form in ("informed", "centred", "non-centred"):
                fit = model.fit(table, seed=3, parameterisation=form, draws=2000, progress=False)
                ess = np.fmin(fit.measures.bulk_size, fit.measures.tail_size).min()
                log_spread = np.log(fit.draws.get("spread"))[..., None]
                error = (log_spread.mean() - exact) / mean_error(log_spread)[0]
                bad = int(fit.fit.statistics["diverged"].sum())
                print(
                    f"{rows:10s} {design:7s} {form:12s} {bad:6d}"
                    f"          {1000 * ess / fit.fit.statistics['evaluations'].sum():8.1f}"
                    f"             {error:+6.1f} MCSE"
                )


PAIRS = mw.Model(
    priors={
        "base": "normal(0, 2) per term",
        "spread": "half_normal(2) per term",
        "tie": "lkj(shape=2) per term",
        "effect": "multivariate_normal(base, scales=spread, correlation=tie) per stone, term",
    },
    likelihood={"y": "normal(effect[stone, 'start'] + effect[stone, 'slope'] * x, 1)"},
    labels={"term": ["start", "slope"]},
)
CROSSED = mw.Model(
    priors={
        "base": "normal(0, 2)",
        "spread": "half_normal(2)",
        "other": "half_normal(2)",
        "effect": "normal(base, spread) per stone",
        "week_effect": "normal(0, other) per week",
    },
    likelihood={"y": "normal(effect[stone] + week_effect[week], 1)"},
)


def pairs(sizes: np.ndarray) -> dict[str, Any]:
    """Return rows of groups with a start and a slope of their own."""
    generator = np.random.default_rng(12)
    stone = np.repeat(np.arange(len(sizes)), sizes)
    both = generator.multivariate_normal([0.3, -0.5], [[1, 0.4], [0.4, 0.5]], len(sizes))[stone]
    x = generator.uniform(-1, 1, len(stone))
    y = both[:, 0] + both[:, 1] * x + generator.standard_normal(len(stone))
    return {"stone": stone, "x": x, "y": y}


def crossed(stones: int, weeks: int, rows: int) -> dict[str, Any]:
    """Return rows that belong to a stone and a week."""
    generator = np.random.default_rng(13)
    stone, week = generator.integers(0, stones, rows), generator.integers(0, weeks, rows)
    by_stone, by_week = generator.standard_normal(stones), 0.5 * generator.standard_normal(weeks)
    y = by_stone[stone] + by_week[week] + generator.standard_normal(rows)
    return {"stone": stone, "week": week, "y": y}


def more() -> None:
    """Two correlated effects a group, and crossed groups: divergences and effective draws."""
    cases: dict[str, tuple[mw.Model, dict[str, Any]]] = {
        "two effects, weak": (PAIRS, pairs(np.full(8, 2))),
        "two effects, strong": (PAIRS, pairs(np.full(40, 40))),
        "two effects, mixed": (PAIRS, pairs(np.r_[np.full(20, 2), np.full(10, 100)])),
        "crossed, weak": (CROSSED, crossed(8, 6, 20)),
        "crossed, strong": (CROSSED, crossed(30, 20, 3000)),
    }
    print("design                form         divergences   ESS/1000 gradients")
    for name, (model, table) in cases.items():
        for form in ("informed", "centred", "non-centred"):
            fit = model.fit(table, seed=3, parameterisation=form, draws=2000, progress=False)
            ess = np.nanmin(np.fmin(fit.measures.bulk_size, fit.measures.tail_size))
            bad = int(fit.fit.statistics["diverged"].sum())
            shown = f"{1000 * ess / fit.fit.statistics['evaluations'].sum():8.1f}"
            print(f"{name:21s} {form:12s} {bad:6d}          {shown}")


if __name__ == "__main__":
    if "more" not in sys.argv[1:]:
        main()
    more()
