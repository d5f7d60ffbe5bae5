"""Distributions of whole numbers: Bernoulli, binomial, Poisson, negative binomial."""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar

import numpy as np
from scipy import special

from millwright.distributions.family import Family, Parameter, Parameters, Support
from millwright.distributions.mathematics import Array, Mathematics, softplus
from millwright.distributions.tails import log_one_minus_exp

__all__ = [
    "Bernoulli",
    "BetaBinomial",
    "Binomial",
    "Geometric",
    "NegativeBinomial",
    "Poisson",
]

_PROBABILITY = Parameter("probability", "probability", "chance of a success")
_LOG_ODDS = Parameter(
    "log_odds", "real", "log(p / (1 - p)) of the chance of a success", instead_of="probability"
)
_TRIALS = Parameter("trials", "count", "number of trials")


def _chance(p: Parameters) -> Array:
    """Probability of a success, however it was given (NumPy)."""
    return special.expit(p["log_odds"]) if "log_odds" in p else np.asarray(p["probability"])


def _log_chances(m: Mathematics, p: Parameters) -> tuple[Array, Array]:
    """Logarithms of the chances of success and failure; -inf for a chance of 0."""
    if "log_odds" in p:
        return -softplus(m, -m.asarray(p["log_odds"])), -softplus(m, m.asarray(p["log_odds"]))
    chance = m.asarray(p["probability"])
    some, open_ = chance > 0, chance < 1
    success = m.where(some, m.log(m.where(some, chance, 1.0)), -m.inf)
    return success, m.where(open_, m.log1p(-m.where(open_, chance, 0.0)), -m.inf)


class _Whole(Family):
    whole = True
    truncatable = False

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return np.asarray(self._draw(generator, size, p), dtype=float)

    @abstractmethod
    def _draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        """Return random draws as whole numbers."""


class Binomial(_Whole):
    """Number of successes in `trials` independent trials."""

    name = "binomial"
    summary = "number of successes among trials"
    parameters: ClassVar[tuple[Parameter, ...]] = (_TRIALS, _PROBABILITY, _LOG_ODDS)

    def _trials(self, p: Parameters) -> Array:
        return p["trials"]

    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0, upper=self._trials(p), whole=True)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        n = m.asarray(self._trials(p))
        return m.log_binomial(m.asarray(x) + 0.0 * n, n + 0.0 * x, *_log_chances(m, p))

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        n, k = m.asarray(self._trials(p)), m.floor(x)
        inside = (k >= 0) & (k < n)
        safe = m.where(inside, k, 0.0)
        chance, other = self._chances(m, p)
        tail = m.log_betainc(m.where(inside, n - safe, 1.0), safe + 1.0, other, chance)
        return m.where(inside, tail, m.where(k >= n, 0.0, -m.inf))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        n, k = m.asarray(self._trials(p)), m.floor(x)
        inside = (k >= 0) & (k < n)
        safe = m.where(inside, k, 0.0)
        chance, other = self._chances(m, p)
        tail = m.log_betainc(safe + 1.0, m.where(inside, n - safe, 1.0), chance, other)
        return m.where(inside, tail, m.where(k < 0, 0.0, -m.inf))

    def _chances(self, m: Mathematics, p: Parameters) -> tuple[Array, Array]:
        """Return the chances of success and failure."""
        if "log_odds" in p:
            return m.expit(p["log_odds"]), m.expit(-m.asarray(p["log_odds"]))
        return m.asarray(p["probability"]), 1.0 - m.asarray(p["probability"])

    def quantile(self, q: Array, p: Parameters) -> Array:
        return _search(self, q, p, upper=np.asarray(self._trials(p), dtype=float))

    def _draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        trials = np.asarray(self._trials(p)).astype(np.int64)
        return generator.binomial(trials, _chance(p), size)

    def mean(self, p: Parameters) -> Array:
        return np.asarray(self._trials(p)) * _chance(p)


class Bernoulli(Binomial):
    """One trial: 1 with the given probability, else 0."""

    name = "bernoulli"
    summary = "1 (success) or 0"
    parameters = (_PROBABILITY, _LOG_ODDS)

    def _trials(self, p: Parameters) -> Array:
        return 1.0

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        if "log_odds" in p:
            return -softplus(m, (1.0 - 2.0 * m.asarray(x)) * p["log_odds"])
        success, failure = _log_chances(m, p)
        hit = m.asarray(x) > 0.5
        # A chance of 0 or 1 leaves the other outcome out, with its derivative.
        return m.where(hit, m.where(hit, success, 0.0), m.where(hit, 0.0, failure))


class Poisson(_Whole):
    """Counts of independent events, with mean `rate`."""

    name = "poisson"
    summary = "counts with mean and variance rate"
    parameters = (
        Parameter("rate", "positive", "mean count"),
        Parameter("log_rate", "real", "logarithm of the mean count", instead_of="rate"),
    )

    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0, whole=True)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        if "log_rate" in p:
            log_rate = m.asarray(p["log_rate"])
            return m.log_poisson(m.asarray(x), m.exp(log_rate), log_rate)
        rate = m.asarray(p["rate"])
        some = rate > 0
        log_rate = m.where(some, m.log(m.where(some, rate, 1.0)), -m.inf)
        return m.log_poisson(m.asarray(x), rate, log_rate)

    def _rate(self, m: Mathematics, p: Parameters) -> Array:
        return m.exp(p["log_rate"]) if "log_rate" in p else m.asarray(p["rate"])

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        k = m.floor(x)
        tail = m.log_gammaincc(m.maximum(k, 0.0) + 1.0, self._rate(m, p))
        return m.where(k >= 0, tail, -m.inf)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        k = m.floor(x)
        tail = m.log_gammainc(m.maximum(k, 0.0) + 1.0, self._rate(m, p))
        return m.where(k >= 0, tail, 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return _search(self, q, p)

    def _draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        # NumPy refuses rates near 2^63; such prior draws stand for "absurdly many".
        rate = np.exp(p["log_rate"]) if "log_rate" in p else p["rate"]
        return generator.poisson(np.minimum(rate, 1e18), size)

    def mean(self, p: Parameters) -> Array:
        return np.exp(p["log_rate"]) if "log_rate" in p else np.asarray(p["rate"], dtype=float)


class NegativeBinomial(_Whole):
    """Counts with mean `mean` and variance `mean` + `mean`^2 / `shape`."""

    name = "negative_binomial"
    summary = "counts that vary more than Poisson ones: variance mean + mean^2 / shape"
    parameters = (
        Parameter("mean", "positive", "mean count"),
        Parameter("shape", "positive", "small means more spread than Poisson"),
    )

    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0, whole=True)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log_negative_binomial(m.asarray(x), m.asarray(p["mean"]), m.asarray(p["shape"]))

    def _chances(self, m: Mathematics, p: Parameters) -> tuple[Array, Array]:
        """Return the chances of failure and success of the trials that are counted."""
        total = p["shape"] + m.asarray(p["mean"])
        return p["shape"] / total, p["mean"] / total

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        k = m.floor(x)
        tail = m.log_betainc(p["shape"], m.maximum(k, 0.0) + 1.0, *self._chances(m, p))
        return m.where(k >= 0, tail, -m.inf)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        k = m.floor(x)
        stop, go = self._chances(m, p)
        tail = m.log_betainc(m.maximum(k, 0.0) + 1.0, p["shape"], go, stop)
        return m.where(k >= 0, tail, 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return _search(self, q, p)

    def _draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        shape = np.asarray(p["shape"], dtype=float)
        rate = generator.standard_gamma(shape, size) * (np.asarray(p["mean"]) / shape)
        return generator.poisson(np.minimum(rate, 1e18))

    def mean(self, p: Parameters) -> Array:
        return np.asarray(p["mean"], dtype=float) + 0.0 * np.asarray(p["shape"])


class Geometric(_Whole):
    """Number of failures before the first success."""

    name = "geometric"
    summary = "number of failures before the first success"
    parameters = (_PROBABILITY, _LOG_ODDS)

    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0, whole=True)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        success, failure = _log_chances(m, p)
        some = m.asarray(x) > 0
        return success + m.where(some, x * m.where(some, failure, 0.0), 0.0)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        k = m.floor(x)
        inside = log_one_minus_exp(m, self.log_survival(m, m.maximum(k, 0.0), p))
        return m.where(k >= 0, inside, -m.inf)

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        k = m.floor(x)
        return m.where(k >= 0, (m.maximum(k, 0.0) + 1.0) * _log_chances(m, p)[1], 0.0)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return _search(self, q, p)

    def _draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        return generator.geometric(_chance(p), size) - 1

    def mean(self, p: Parameters) -> Array:
        chance = np.asarray(_chance(p), dtype=float)
        return (1 - chance) / chance


class BetaBinomial(_Whole):
    """Successes in `trials` whose chance itself is beta(`alpha`, `beta`), once for each row."""

    name = "beta_binomial"
    summary = "successes among trials that vary more than binomial ones"
    parameters = (
        _TRIALS,
        Parameter("alpha", "positive", "weight of success"),
        Parameter("beta", "positive", "weight of failure"),
    )

    def support(self, p: Parameters) -> Support:
        return Support(lower=0.0, upper=p["trials"], whole=True)

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        n, a, b = (m.asarray(p[name]) for name in ("trials", "alpha", "beta"))
        # Given the sum of two negative binomials with one chance, each is beta-binomial; with the
        # chance that makes the means agree nothing cancels.
        x, n = m.asarray(x) + 0.0 * n, n + 0.0 * x
        share = m.where(n > 0, n, 1.0) / (a + b)
        found = (
            m.log_negative_binomial(x, a * share, a)
            + m.log_negative_binomial(n - x, b * share, b)
            - m.log_negative_binomial(n, (a + b) * share, a + b)
        )
        return m.where(n > 0, found, 0.0)

    def log_cdf(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log(self._mass(m, x, p, below=True))

    def log_survival(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.log(self._mass(m, x, p, below=False))

    def _mass(self, m: Mathematics, x: Array, p: Parameters, below: bool) -> Array:
        """Sum the probabilities up to x or beyond; there is no shorter form."""
        k = m.floor(m.asarray(x) + 0.0 * (p["trials"] + p["alpha"] + p["beta"]))[..., None]
        top = int(np.max(np.asarray(p["trials"])))
        values = np.arange(top + 1.0)
        each = {name: m.asarray(value)[..., None] for name, value in p.items()}
        possible = values <= each["trials"]
        density = m.exp(self.log_density(m, m.where(possible, values, 0.0), each))
        wanted = possible & ((values <= k) if below else (values > k))
        return m.sum(m.where(wanted, density, 0.0), axis=-1)

    def quantile(self, q: Array, p: Parameters) -> Array:
        return _search(self, q, p, upper=np.asarray(p["trials"], dtype=float))

    def _draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        chance = generator.beta(p["alpha"], p["beta"], size)
        return generator.binomial(np.asarray(p["trials"]).astype(np.int64), chance)

    def mean(self, p: Parameters) -> Array:
        alpha = np.asarray(p["alpha"], dtype=float)
        return np.asarray(p["trials"]) * alpha / (alpha + p["beta"])


def _search(family: Family, q: Array, p: Parameters, upper: Array | None = None) -> Array:
    """Smallest whole number with cdf >= q, by doubling and bisection on whole numbers."""
    q = np.asarray(q, dtype=float)
    mean = np.asarray(family.mean(p), dtype=float)
    shape = np.broadcast_shapes(q.shape, mean.shape)
    q = np.broadcast_to(q, shape)
    low = np.full(shape, -1.0)
    high = np.broadcast_to(upper, shape).astype(float) if upper is not None else None
    if high is None:
        high = np.broadcast_to(np.floor(2 * mean) + 10, shape).astype(float)
        while np.any(short := (family.cdf(high, p) < q) & (high < 1e15)):
            high = np.where(short, 2 * high, high)
    while np.any(high - low > 1):
        middle = np.floor((low + high) / 2)
        enough = family.cdf(middle, p) >= q
        low, high = np.where(enough, low, middle), np.where(enough, middle, high)
    return high
