"""Probabilities of counts without loss of digits for large arguments (Loader 2000).

Written out, log probabilities of large counts are differences of numbers near a million times
their own size. The saddle-point form takes them apart into a Stirling error and deviances, each
small where the probability is not (C. Loader, "Fast and accurate computation of binomial
probabilities", 2000).
"""

from __future__ import annotations

import math

from millwright.distributions.mathematics import Array, Mathematics

__all__ = [
    "LARGE",
    "deviance",
    "log_binomial",
    "log_large_binomial",
    "log_negative_binomial",
    "log_poisson",
    "stirling_error",
]

LARGE = 10_000.0
"""Below this the plain terms lose no more than eleven digits behind the point."""

_LOG_2PI = math.log(2 * math.pi)


def stirling_error(m: Mathematics, n: Array) -> Array:
    """Log gamma(n + 1) less Stirling's log(sqrt(2 pi n) (n / e)^n); exact from n = 15 on."""
    inverse = 1.0 / n
    square = inverse * inverse
    return inverse * (
        1 / 12
        - square * (1 / 360 - square * (1 / 1260 - square * (1 / 1680 - square * (1 / 1188))))
    )


def deviance(m: Mathematics, x: Array, mean: Array, log_mean: Array) -> Array:
    """Return x log(x / mean) + mean - x for x > 0, without cancellation near x = mean."""
    apart = (x - mean) / (x + mean)
    near = m.abs(apart) < 0.1
    v = m.where(near, apart, 0.0)
    square = v * v
    series = 0.0
    for k in range(19, 1, -2):
        series = (series + 1 / k) * square
    close = (x - mean) * v + 2.0 * x * v * series
    far = x * (m.log(x) - m.where(near, 0.0, log_mean)) - x + m.where(near, 1.0, mean)
    return m.where(near, close, far)


def log_poisson(m: Mathematics, x: Array, rate: Array, log_rate: Array) -> Array:
    """Log of rate^x exp(-rate) / gamma(x + 1), for x > -1, whole or not."""
    plain = _times(m, x, log_rate) - rate - m.log_factorial(x)
    big = x >= LARGE

    def saddle() -> Array:
        large = m.where(big, x, LARGE)
        return (
            -stirling_error(m, large)
            - deviance(m, large, rate, log_rate)
            - 0.5 * (_LOG_2PI + m.log(large))
        )

    return m.replaced(plain, big, saddle)


def log_binomial(m: Mathematics, x: Array, n: Array, log_p: Array, log_q: Array) -> Array:
    """Log of C(n, x) p^x q^(n - x), given log p and log q; x and n whole or not."""
    rest = n - x
    ways = -m.log1p(n) - m.betaln(rest + 1.0, x + 1.0)
    plain = ways + _times(m, x, log_p) + _times(m, rest, log_q)
    big = (x >= LARGE) & (rest >= LARGE)

    def saddle() -> Array:
        hits, misses = m.where(big, x, LARGE), m.where(big, rest, LARGE)
        chance, other = m.where(big, log_p, -0.7), m.where(big, log_q, -0.7)
        return log_large_binomial(m, hits, misses, chance, other)

    return m.replaced(plain, big, saddle)


def log_large_binomial(
    m: Mathematics, hits: Array, misses: Array, log_p: Array, log_q: Array
) -> Array:
    """Log of C(n, x) p^x q^(n - x) for x hits and n - x misses, both large."""
    trials = hits + misses
    log_n = m.log(trials)
    return (
        stirling_error(m, trials)
        - stirling_error(m, hits)
        - stirling_error(m, misses)
        - deviance(m, hits, trials * m.exp(log_p), log_n + log_p)
        - deviance(m, misses, trials * m.exp(log_q), log_n + log_q)
        + 0.5 * (log_n - m.log(hits) - m.log(misses) - _LOG_2PI)
    )


def log_negative_binomial(m: Mathematics, x: Array, mean: Array, shape: Array) -> Array:
    """Log of C(x + shape - 1, x) (mean / (mean + shape))^x (shape / (mean + shape))^shape."""
    log_p, log_q = -m.log1p(mean / shape), -m.log1p(shape / mean)
    # C(x + shape - 1, x) through the beta function, which does not cancel.
    ways = -m.log(shape + x) - m.betaln(shape + 0.0 * x, x + 1.0)
    plain = ways + shape * log_p + _times(m, x, log_q)
    big = (x >= LARGE) & (shape >= LARGE)

    def saddle() -> Array:
        count, large = m.where(big, x, LARGE), m.where(big, shape, LARGE)
        chance, other = m.where(big, log_p, -0.7), m.where(big, log_q, -0.7)
        whole = log_large_binomial(m, large, count, chance, other)
        return m.log(large / (large + count)) + whole

    return m.replaced(plain, big, saddle)


def _times(m: Mathematics, count: Array, log_chance: Array) -> Array:
    """Return count x log chance; no success of a chance of zero adds nothing."""
    some = count != 0
    return m.where(some, m.where(some, count, 1.0) * m.where(some, log_chance, 0.0), 0.0)
