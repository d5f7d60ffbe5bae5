"""Evidences over many seeds against exact ones, and their cost.

    python benchmarks/evidence.py [SEEDS]

For each model: mean error, root mean square of error over stated error (1 is honest; smaller is
too careful, larger too sure), and seconds over the seconds of the fit's sampling.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

import numpy as np
from scipy import stats
from scipy.integrate import quad

import millwright as mw
from millwright.evidence.annealed import annealed
from millwright.evidence.bridge import bridge

Case = tuple[mw.Model, Callable[[np.random.Generator], tuple[dict[str, np.ndarray], float]]]


def line(random: np.random.Generator) -> tuple[dict[str, np.ndarray], float]:
    """Ten slopes with known noise."""
    columns = random.normal(size=(60, 10))
    y = columns @ random.normal(size=10) + random.normal(size=60)
    exact = stats.multivariate_normal(np.zeros(60), np.eye(60) + columns @ columns.T).logpdf(y)
    return {**{f"x{at}": columns[:, at] for at in range(10)}, "y": y}, float(exact)


def groups(random: np.random.Generator) -> tuple[dict[str, np.ndarray], float]:
    """Eight groups with an unknown spread."""
    group = np.repeat(np.arange(8), 4)
    y = random.normal(size=8)[group] + random.normal(size=32)
    same = (group[:, None] == group[None]).astype(float)

    def density(tau: float) -> float:
        covariance = np.eye(32) + tau**2 * same + 1.0
        log = stats.multivariate_normal(np.zeros(32), covariance).logpdf(y)
        return float(np.exp(log + stats.halfnorm(scale=2).logpdf(tau) + 50))

    return {"y": y, "g": group.astype(str)}, float(np.log(quad(density, 0, 15)[0]) - 50)


def independent(random: np.random.Generator) -> tuple[dict[str, np.ndarray], float]:
    """Thirty independent means."""
    y = random.normal(size=30)
    names = np.array([f"g{at}" for at in range(30)])
    return {"y": y, "g": names}, float(stats.norm(0, np.sqrt(2)).logpdf(y).sum())


CASES: dict[str, Case] = {
    "10 slopes": (
        mw.Model(
            priors={f"b{at}": "normal(0, 1)" for at in range(10)},
            likelihood={"y": f"normal({' + '.join(f'b{at} * x{at}' for at in range(10))}, 1)"},
        ),
        line,
    ),
    "8 groups, unknown spread": (
        mw.Model(
            priors={"mu": "normal(0, 1)", "tau": "half_normal(2)", "e": "normal(mu, tau) per g"},
            likelihood={"y": "normal(e[g], 1)"},
        ),
        groups,
    ),
    "30 means": (
        mw.Model(priors={"e": "normal(0, 1) per g"}, likelihood={"y": "normal(e[g], 1)"}),
        independent,
    ),
}


def missed_mode(seeds: int) -> None:
    """Two modes, all draws in the one that holds 60 %: does the second method tell?

    In some dimensions, with narrow and wide priors, and with a missed mode that is narrower.
    """
    for dimension, prior_sd, width in (
        (2, 4.0, 0.3),
        (2, 80.0, 0.3),
        (2, 80.0, 0.03),
        (10, 4.0, 0.3),
        (10, 20.0, 0.3),
        (10, 20.0, 0.1),
    ):
        told, errors = [], []
        exact = 0.0
        for seed in range(seeds):
            random = np.random.default_rng(seed)

            def split(
                q: np.ndarray, sd: float = prior_sd, narrow: float = width
            ) -> tuple[np.ndarray, np.ndarray]:
                prior = stats.norm(0, sd).logpdf(q).sum(axis=1)
                one = stats.norm(3, 0.3).logpdf(q).sum(axis=1) + np.log(0.6)
                other = stats.norm(-3, narrow).logpdf(q).sum(axis=1) + np.log(0.4)
                return prior, np.logaddexp(one, other)

            draws = random.normal(3, 0.3, (4, 1000, dimension))
            first = bridge(draws, lambda q: sum(split(q)), random)
            second = annealed(
                lambda g, n, sd=prior_sd, d=dimension: sd * g.standard_normal((n, d)),
                split,
                random,
            )
            exact = float(
                np.logaddexp(
                    np.log(0.6) + dimension * stats.norm(0, np.hypot(prior_sd, 0.3)).logpdf(3),
                    np.log(0.4) + dimension * stats.norm(0, np.hypot(prior_sd, width)).logpdf(3),
                )
            )
            allowed = 0.05 + 2.5 * np.hypot(first.standard_error, second.standard_error)
            told.append(abs(first.log_value - second.log_value) > allowed)
            errors.append(second.log_value - exact)
        print(
            f"missed mode of 40 %, {dimension} dimensions, prior sd {prior_sd:g}, "
            f"width {width:g}: told in {np.mean(told):.0%}; "
            f"annealed minus exact {np.mean(errors):+.2f}"
        )


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    for name, (model, make) in CASES.items():
        errors, stated, costs = [], [], []
        for seed in range(seeds):
            data, exact = make(np.random.default_rng([seed, 1]))
            posterior = model.fit(data, seed=seed, progress=False)
            if not posterior.verdict.good:
                continue
            posterior.evidence()
            began = time.perf_counter()
            found = posterior.evidence()
            costs.append((time.perf_counter() - began) / posterior.record.seconds["sampling"])
            errors.append(found.log_value - exact)
            stated.append(found.standard_error)
        z = np.array(errors) / np.array(stated)
        print(
            f"{name}: {len(errors)} fits, mean error {np.mean(errors):+.4f}, "
            f"rms z {np.sqrt(np.mean(z**2)):.2f}, cost / sampling {np.median(costs):.2f}"
        )
    missed_mode(seeds)


if __name__ == "__main__":
    main()
