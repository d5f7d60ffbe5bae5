"""Targets whose answers are known: exactly, by quadrature, or by independent draws."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import jax.numpy as jnp
import numpy as np
from scipy import stats
from scipy.integrate import cumulative_trapezoid
from scipy.linalg import cho_solve

import millwright as mw

QUANTILES = (0.05, 0.5, 0.95)


@dataclass(frozen=True)
class Answer:
    """Mean, sd and quantiles of one quantity; NaN where there is no such moment."""

    mean: float
    sd: float
    quantiles: tuple[float, float, float]


@dataclass(frozen=True)
class Reference:
    """A target with its answers.

    Attributes
    ----------
    good
        Whether the sampler should get it right without a warning; else every fit must be flagged
        or right.
    """

    name: str
    model: mw.Model
    answers: Mapping[str, Answer]
    data: Any = None
    settings: Mapping[str, Any] = field(default_factory=dict)
    good: bool = True


def of(distribution: Any) -> Answer:
    """Return the answer of a SciPy distribution."""
    low, middle, high = distribution.ppf(QUANTILES)
    return Answer(float(distribution.mean()), float(distribution.std()), (low, middle, high))


def of_grid(x: np.ndarray, density: np.ndarray) -> Answer:
    """Return the answer of a density on a fine grid."""
    total = np.trapezoid(density, x)
    p = density / total
    mean = np.trapezoid(x * p, x)
    sd = np.sqrt(np.trapezoid((x - mean) ** 2 * p, x))
    cumulative = cumulative_trapezoid(p, x, initial=0)
    return Answer(float(mean), float(sd), tuple(np.interp(QUANTILES, cumulative, x)))


def of_draws(x: np.ndarray) -> Answer:
    """Return the answer of very many independent draws."""
    return Answer(float(x.mean()), float(x.std()), tuple(np.quantile(x, QUANTILES)))


def _normal(mean: float, sd: float) -> Answer:
    return of(stats.norm(mean, sd))


def ill_conditioned() -> Reference:
    """Normal in 100 dimensions, sds from 0.01 to 100, turned at random: condition 1e8."""
    generator = np.random.default_rng(1)
    turn, _ = np.linalg.qr(generator.standard_normal((100, 100)))
    sds = np.geomspace(0.1, 10.0, 100)
    covariance = (turn * sds**2) @ turn.T
    precision = (turn / sds**2) @ turn.T
    labels = {"at": list(range(100))}
    model = mw.Target(lambda x: -0.5 * x @ precision @ x, {"x": "flat() per at"}, labels=labels)
    answers = {f"x[{at}]": _normal(0.0, np.sqrt(covariance[at, at])) for at in (0, 33, 99)}
    return Reference("ill-conditioned normal, 100 dimensions", model, answers)


def scales_far_apart() -> Reference:
    """Independent normals with sds from 1e-4 to 1e4."""
    sds = 10.0 ** np.arange(-4, 5)
    labels = {"at": list(range(9))}
    model = mw.Target(
        lambda x: -0.5 * jnp.sum((x / sds) ** 2), {"x": "flat() per at"}, labels=labels
    )
    answers = {f"x[{at}]": _normal(0.0, sds[at]) for at in (0, 4, 8)}
    return Reference("scales from 1e-4 to 1e4", model, answers)


def correlated() -> Reference:
    """Two unknowns with correlation 0.999."""
    rho = 0.999
    model = mw.Target(
        lambda x, y: -0.5 * (x**2 - 2 * rho * x * y + y**2) / (1 - rho**2),
        {"x": "real", "y": "real"},
    )
    return Reference("correlation 0.999", model, {"x": _normal(0, 1), "y": _normal(0, 1)})


def banana() -> Reference:
    """A curved ridge: y around x^2."""
    model = mw.Target(
        lambda x, y: -0.5 * x**2 - 0.5 * (y - 0.5 * x**2) ** 2, {"x": "real", "y": "real"}
    )
    generator = np.random.default_rng(2)
    x = generator.standard_normal(4_000_000)
    y = 0.5 * x**2 + generator.standard_normal(4_000_000)
    answers = {"x": _normal(0, 1), "y": of_draws(y)}
    return Reference("banana", model, answers, settings={"target_acceptance": 0.95})


def heavy_tails() -> Reference:
    """Student-t with 4 degrees of freedom."""
    model = mw.Target(lambda x: -2.5 * jnp.log1p(x**2 / 4), {"x": "real"})
    return Reference("Student-t, 4 degrees of freedom", model, {"x": of(stats.t(4))})


def skewed() -> Reference:
    """Gamma with shape 0.5, whose density is unbounded at zero."""
    model = mw.Target(lambda x: -0.5 * jnp.log(x) - x, {"x": "positive"})
    settings = {"target_acceptance": 0.95}
    return Reference("gamma, shape 0.5", model, {"x": of(stats.gamma(0.5))}, settings=settings)


def bounded() -> Reference:
    """Beta(0.7, 3), unbounded at zero."""
    model = mw.Model(priors={"p": "beta(alpha=0.7, beta=3)"}, likelihood={"y": "normal(0 * p, 1)"})
    return Reference("beta(0.7, 3)", model, {"p": of(stats.beta(0.7, 3))}, {"y": [0.0]})


def binomial() -> Reference:
    """Conjugate proportion."""
    model = mw.Model(
        priors={"p": "beta(alpha=2, beta=2)"},
        likelihood={"k": "binomial(trials=30, probability=p)"},
    )
    return Reference("binomial proportion", model, {"p": of(stats.beta(9, 25))}, {"k": [7]})


def poisson() -> Reference:
    """Conjugate rate."""
    model = mw.Model(
        priors={"rate": "gamma(shape=2, rate=1)"}, likelihood={"k": "poisson(rate=rate)"}
    )
    data = {"k": [3, 5, 2, 4]}
    return Reference("Poisson rate", model, {"rate": of(stats.gamma(16, scale=1 / 5))}, data)


def regression() -> Reference:
    """Linear regression with known noise: the posterior is normal."""
    generator = np.random.default_rng(3)
    x = generator.standard_normal((80, 5))
    y = x @ np.arange(5.0) + generator.standard_normal(80)
    precision = np.eye(5) / 9 + x.T @ x
    covariance = np.linalg.inv(precision)
    mean = covariance @ x.T @ y
    model = mw.Model(priors={"b": "normal(0, 3) per X"}, likelihood={"y": "normal(X @ b, 1)"})
    answers = {f"b[{at + 1}]": _normal(mean[at], np.sqrt(covariance[at, at])) for at in range(5)}
    return Reference("linear regression", model, answers, {"X": x, "y": y})


def logistic() -> Reference:
    """Logistic regression with two coefficients, by quadrature."""
    generator = np.random.default_rng(4)
    x = generator.standard_normal(40)
    y = (generator.random(40) < 1 / (1 + np.exp(-(0.5 + 1.2 * x)))).astype(float)
    model = mw.Model(
        priors={"a": "normal(0, 2)", "b": "normal(0, 2)"},
        likelihood={"y": "bernoulli(probability=expit(a + b * x))"},
    )
    a, b = np.meshgrid(np.linspace(-4, 5, 700), np.linspace(-3, 7, 700), indexing="ij")
    log_density = -(a**2 + b**2) / 8
    for xi, yi in zip(x, y, strict=True):
        eta = a + b * xi
        log_density += yi * eta - np.logaddexp(0, eta)
    density = np.exp(log_density - log_density.max())
    answers = {
        "a": of_grid(a[:, 0], density.sum(axis=1)),
        "b": of_grid(b[0], density.sum(axis=0)),
    }
    return Reference("logistic regression", model, answers, {"x": x, "y": y})


def unknown_noise() -> Reference:
    """Normal data with unknown mean and sd, by quadrature."""
    y = np.array([1.2, 0.4, 2.2, 1.9, 0.7, 3.1])
    model = mw.Model(
        priors={"mean": "normal(0, 5)", "sd": "exponential(rate=1)"},
        likelihood={"y": "normal(mean, sd)"},
    )
    mean, sd = np.meshgrid(np.linspace(-6, 9, 1500), np.linspace(0.1, 9, 1500), indexing="ij")
    log_density = -(mean**2) / 50 - sd - 6 * np.log(sd)
    log_density -= ((y[:, None, None] - mean) ** 2).sum(axis=0) / 2 / sd**2
    density = np.exp(log_density - log_density.max())
    answers = {
        "mean": of_grid(mean[:, 0], density.sum(axis=1)),
        "sd": of_grid(sd[0], density.sum(axis=0)),
    }
    return Reference("mean and sd of six readings", model, answers, {"y": y})


def weak_groups() -> Reference:
    """Eight groups of one reading with known error: spread and overall level by quadrature."""
    y = np.array([2.8, 0.8, -0.3, 0.7, -0.1, 0.1, 1.8, 1.2])
    error = np.array([1.5, 1.0, 1.6, 1.1, 0.9, 1.1, 1.0, 1.8])
    model = mw.Model(
        priors={
            "level": "normal(0, 5)",
            "spread": "half_normal(1)",
            "effect": "normal(level, spread) per mill",
        },
        likelihood={"y": "normal(effect[mill], error)"},
    )
    spread = np.linspace(0.0, 6.0, 6001)
    variance = error**2 + spread[:, None] ** 2
    weight = (1 / variance).sum(axis=1) + 1 / 25
    centre = (y / variance).sum(axis=1) / weight
    log_density = -0.5 * spread**2 - 0.5 * np.log(variance).sum(axis=1) - 0.5 * np.log(weight)
    log_density -= 0.5 * (y**2 / variance).sum(axis=1) - 0.5 * weight * centre**2
    density = np.exp(log_density - log_density.max())
    level = np.linspace(-6, 8, 3001)
    mixed = density[:, None] * stats.norm.pdf(level, centre[:, None], 1 / np.sqrt(weight)[:, None])
    answers = {
        "spread": of_grid(spread, density),
        "level": of_grid(level, np.trapezoid(mixed, spread, axis=0)),
    }
    data = {"mill": list("abcdefgh"), "y": y, "error": error}
    return Reference("eight weakly informed groups", model, answers, data)


def gaussian_process() -> Reference:
    """Latent function with known noise and kernel: normal."""
    generator = np.random.default_rng(5)
    x = np.linspace(0, 3, 12)
    kernel = np.exp(-0.5 * (x[:, None] - x) ** 2) + 1e-6 * np.eye(12)
    y = np.sin(2 * x) + 0.3 * generator.standard_normal(12)
    total = (np.linalg.cholesky(kernel + 0.09 * np.eye(12)), True)
    mean = kernel @ cho_solve(total, y)
    covariance = kernel - kernel @ cho_solve(total, kernel)
    model = mw.Model(
        priors={
            "f": "gaussian_process(0, kernel=squared_exponential(x, scale=1, length=1)) per place"
        },
        likelihood={"y": "normal(f[place], 0.3)"},
    )
    place = np.arange(12)
    answers = {f"f[{at}]": _normal(mean[at], np.sqrt(covariance[at, at])) for at in (0, 6, 11)}
    return Reference("Gaussian process", model, answers, {"x": x, "place": place, "y": y})


def walk() -> Reference:
    """Random walk with known steps and noise: normal, by its precision matrix."""
    generator = np.random.default_rng(6)
    n = 30
    level = 10 + np.cumsum(0.5 * generator.standard_normal(n))
    y = level + 0.4 * generator.standard_normal(n)
    precision = np.eye(n) / 0.16
    precision[0, 0] += 1 / 0.25
    for at in range(n - 1):
        precision[at : at + 2, at : at + 2] += np.array([[1, -1], [-1, 1]]) / 0.25
    covariance = np.linalg.inv(precision)
    pull = y / 0.16
    pull[0] += 10 / 0.25
    mean = covariance @ pull
    model = mw.Model(
        priors={"level": "random_walk(scale=0.5, start=10) per day"},
        likelihood={"y": "normal(level[day], 0.4)"},
    )
    answers = {
        f"level[{at}]": _normal(mean[at], np.sqrt(covariance[at, at])) for at in (0, 15, 29)
    }
    return Reference("random walk", model, answers, {"day": np.arange(n), "y": y})


def state_space() -> Reference:
    """Level that moves with unknown steps, read with unknown error: by Kalman and quadrature."""
    generator = np.random.default_rng(7)
    y = 5 + np.cumsum(0.5 * generator.standard_normal(25)) + 0.7 * generator.standard_normal(25)
    step, error = np.meshgrid(np.linspace(0.01, 4, 600), np.linspace(0.05, 4, 600), indexing="ij")
    log_density = -step - error
    mean, variance = 5.0, 4.0
    for at, reading in enumerate(y):
        variance = variance + step**2 if at else variance
        total = variance + error**2
        log_density = log_density - 0.5 * np.log(total) - 0.5 * (reading - mean) ** 2 / total
        gain = variance / total
        mean, variance = mean + gain * (reading - mean), variance * (1 - gain)
    density = np.exp(log_density - log_density.max())
    model = mw.Model(
        priors={"step": "exponential(rate=1)", "error": "exponential(rate=1)"},
        likelihood={
            "gauge": "state_space(transition=[[1]], loading=[1], scale=[step], noise=error, "
            "start=[5], start_scale=[2])"
        },
    )
    answers = {
        "step": of_grid(step[:, 0], density.sum(axis=1)),
        "error": of_grid(error[0], density.sum(axis=0)),
    }
    # The error may be next to nothing, where draws are few: the verdict asks for more.
    return Reference("state space", model, answers, {"gauge": y}, {"draws": 2000})


def mild_mixture() -> Reference:
    """Two overlapping humps."""
    model = mw.Target(
        lambda x: jnp.logaddexp(-0.5 * (x - 1.5) ** 2, jnp.log(0.5) - 0.5 * (x + 1.5) ** 2),
        {"x": "real"},
    )
    x = np.linspace(-9, 9, 40_001)
    density = np.exp(-0.5 * (x - 1.5) ** 2) + 0.5 * np.exp(-0.5 * (x + 1.5) ** 2)
    return Reference("two overlapping humps", model, {"x": of_grid(x, density)})


def separate_modes(method: str = "no_u_turn") -> Reference:
    """Two humps far apart."""
    model = mw.Target(
        lambda x: jnp.logaddexp(-0.5 * (x - 8) ** 2, jnp.log(0.5) - 0.5 * (x + 8) ** 2),
        {"x": "real"},
    )
    x = np.linspace(-16, 16, 40_001)
    density = np.exp(-0.5 * (x - 8) ** 2) + 0.5 * np.exp(-0.5 * (x + 8) ** 2)
    good = method == "tempering"
    name = f"two humps far apart, {method}"
    return Reference(name, model, {"x": of_grid(x, density)}, None, {"method": method}, good)


def funnel() -> Reference:
    """Scale and value of a funnel, as a density of one's own: no map can help."""
    model = mw.Target(
        lambda v, x: -0.5 * (v / 3) ** 2 - 0.5 * jnp.sum((x * jnp.exp(-v / 2)) ** 2) - 4.5 * v,
        {"v": "real", "x": "flat() per at"},
        labels={"at": list(range(9))},
    )
    return Reference("funnel", model, {"v": _normal(0, 3)}, good=False)


def cauchy() -> Reference:
    """Cauchy: neither mean nor sd; a sampler in a straight line hardly reaches its tails."""
    model = mw.Target(lambda x: -jnp.log1p(x**2), {"x": "real"})
    low, middle, high = stats.cauchy.ppf(QUANTILES)
    answer = Answer(np.nan, np.nan, (low, middle, high))
    return Reference("Cauchy", model, {"x": answer}, good=False)


Parts = list[tuple[float, float, float]]


def _mixture_density(parts: Parts) -> Callable[[np.ndarray], np.ndarray]:
    return lambda x: sum(share * stats.norm.pdf(x, at, sd) for share, at, sd in parts)


def _humps(name: str, parts: Parts, prior: bool, method: str) -> Reference:
    """A mixture of normals (share, place, sd), as a prior or as the target's own function."""
    if prior:
        (share, a, sd_a), (_, b, sd_b) = parts
        text = f"mixture(normal({a}, {sd_a}), normal({b}, {sd_b}), share={share})"
        model = mw.Target(lambda x: 0.0 * x, {"x": text})
    else:
        shares, places, sds = (jnp.array(column) for column in zip(*parts, strict=True))
        model = mw.Target(
            lambda x: jnp.logaddexp.reduce(
                jnp.log(shares / sds) - 0.5 * ((x - places) / sds) ** 2
            ),
            {"x": "real"},
        )
    x = np.linspace(-20, 20, 80_001)
    answer = of_grid(x, _mixture_density(parts)(x))
    good = method == "tempering"
    return Reference(f"{name}, {method}", model, {"x": answer}, None, {"method": method}, good)


SEVEN_TO_THREE = [(0.7, -6.0, 0.5), (0.3, 6.0, 1.0)]
NINE_TO_ONE = [(0.9, -6.0, 0.5), (0.1, 6.0, 1.0)]


def modes_in_prior(method: str = "no_u_turn") -> Reference:
    """Masses 7 to 3, in the prior."""
    return _humps("modes 7 to 3 in the prior", SEVEN_TO_THREE, True, method)


def modes_in_function(method: str = "no_u_turn") -> Reference:
    """Masses 7 to 3, in the target's function."""
    return _humps("modes 7 to 3 in the function", SEVEN_TO_THREE, False, method)


def modes_nine_to_one(method: str = "no_u_turn") -> Reference:
    """Masses 9 to 1, in the prior."""
    return _humps("modes 9 to 1", NINE_TO_ONE, True, method)


def _wide(name: str, dimension: int, sds: tuple[float, float], method: str) -> Reference:
    """Two humps at plus and minus 6 in every coordinate, masses 7 to 3."""

    def log_density(x: Any) -> Any:
        one = jnp.log(0.7) - dimension * jnp.log(sds[0]) - 0.5 * jnp.sum(((x + 6) / sds[0]) ** 2)
        two = jnp.log(0.3) - dimension * jnp.log(sds[1]) - 0.5 * jnp.sum(((x - 6) / sds[1]) ** 2)
        return jnp.logaddexp(one, two)

    model = mw.Target(log_density, {"x": "flat() per at"}, labels={"at": list(range(dimension))})
    x = np.linspace(-20, 20, 80_001)
    answer = of_grid(x, _mixture_density([(0.7, -6.0, sds[0]), (0.3, 6.0, sds[1])])(x))
    good = method == "tempering"
    answers = {"x[0]": answer}
    return Reference(f"{name}, {method}", model, answers, None, {"method": method}, good)


def modes_in_five(method: str = "no_u_turn") -> Reference:
    """A narrow and a wide mode in five dimensions."""
    return _wide("two modes in 5 dimensions", 5, (0.5, 1.0), method)


def modes_in_ten(method: str = "no_u_turn") -> Reference:
    """Two modes of one width in ten dimensions."""
    return _wide("two modes in 10 dimensions", 10, (1.0, 1.0), method)


def _tails(df: float) -> Reference:
    """A Student-t as the target's function: from df 2 on its mean is finite, from 3 its sd."""
    model = mw.Target(lambda x: -0.5 * (df + 1) * jnp.log1p(x**2 / df), {"x": "real"})
    low, middle, high = stats.t(df).ppf(QUANTILES)
    answer = Answer(0.0 if df > 1 else np.nan, np.nan, (low, middle, high))
    return Reference(f"Student-t tails, df {df:g}", model, {"x": answer}, good=df >= 3)


def improper() -> Reference:
    """Nothing holds the sum."""
    model = mw.Target(lambda x, y: -0.5 * (x - y) ** 2, {"x": "real", "y": "real"})
    nothing = Answer(np.nan, np.nan, (np.nan, np.nan, np.nan))
    return Reference("improper", model, {"x": nothing}, settings={"max_depth": 8}, good=False)


ALL: tuple[Callable[[], Reference], ...] = (
    ill_conditioned,
    scales_far_apart,
    correlated,
    banana,
    heavy_tails,
    skewed,
    bounded,
    binomial,
    poisson,
    regression,
    logistic,
    unknown_noise,
    weak_groups,
    gaussian_process,
    walk,
    state_space,
    mild_mixture,
    lambda: separate_modes("tempering"),
    separate_modes,
    modes_in_prior,
    modes_in_function,
    modes_nine_to_one,
    modes_in_five,
    modes_in_ten,
    lambda: modes_in_prior("tempering"),
    lambda: modes_nine_to_one("tempering"),
    lambda: modes_in_five("tempering"),
    lambda: modes_in_ten("tempering"),
    funnel,
    cauchy,
    lambda: _tails(2),
    lambda: _tails(3),
    improper,
)
