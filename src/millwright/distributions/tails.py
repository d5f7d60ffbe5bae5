"""Logarithms of incomplete gamma and beta functions, as exact in far tails as anywhere.

The direct forms underflow where a bound cuts far into a tail, and then neither value nor gradient
is left. Continued fractions and power series give the logarithm itself. They run until they have
converged, which the two array libraries do in their own ways (`m.until`).

Sources are sections of the NIST Digital Library of Mathematical Functions (DLMF).
"""

from __future__ import annotations

from typing import Any

from millwright.distributions.mathematics import Array, Mathematics

__all__ = ["FAR", "inverse_mills", "log_beta_shares", "log_gamma_shares", "log_one_minus_exp"]

FAR = 8.0
_TERMS = 20
_MOST = 20_000
_CLOSE = 1e-15
"""Not less: a factor that has converged goes on between 1 and its neighbours, 2.2e-16 away."""
_TINY = 1e-300


def inverse_mills(z: Array) -> Array:
    """Return the normal density at z over P(Z > z), for z >= 8, by a continued fraction.

    Laplace's fraction z + 1/(z + 2/(z + 3/(z + ...))) (Abramowitz and Stegun 1964, 26.2.14); 20
    terms give all digits from 8 on, of its derivatives too.
    """
    tail = z
    for k in range(_TERMS, 0, -1):
        tail = z + k / tail
    return tail


def log_one_minus_exp(m: Mathematics, log_share: Array) -> Array:
    """Return log(1 - exp(x)) for x <= 0, without cancellation (Maechler 2012, eq. 7)."""
    near = log_share > -0.693
    small = m.where(near, log_share, -1.0)
    large = m.where(near, -1.0, log_share)
    small = m.where(small < 0, small, -_TINY)
    return m.where(near, m.log(-m.expm1(small)), m.log1p(-m.exp(large)))


def log_gamma_below(m: Mathematics, a: Array, x: Array) -> Array:
    """Log of the lower incomplete gamma function over gamma(a), by its series (DLMF 8.11.4).

    For 0 < x < a + 1, where its terms fall.
    """
    zero = 0.0 * (a + x)
    one = 1.0 + zero

    def go_on(state: tuple[Any, ...]) -> Any:
        number, term, total = state
        return (number < _MOST) & m.any(m.abs(term) > _CLOSE * m.abs(total))

    def step(state: tuple[Any, ...]) -> tuple[Any, ...]:
        number, term, total = state
        term = term * x / (a + number)
        return number + 1.0, term, total + term

    _, _, total = m.until(go_on, step, (1.0, one, one))
    return a * m.log(x) - x - m.gammaln(a + 1.0) + m.log(total)


def log_gamma_above(m: Mathematics, a: Array, x: Array) -> Array:
    """Log of the upper incomplete gamma function over gamma(a), by Lentz's fraction (DLMF 8.9.2).

    For x >= a + 1, where it converges.
    """
    first = x + 1.0 - a

    def go_on(state: tuple[Any, ...]) -> Any:
        number, _, _, _, factor = state
        return (number < _MOST) & m.any(m.abs(factor - 1.0) > _CLOSE)

    def step(state: tuple[Any, ...]) -> tuple[Any, ...]:
        number, above, below, value, _ = state
        top = -number * (number - a)
        part = x + 2.0 * number + 1.0 - a
        below = 1.0 / _away(m, part + top * below)
        above = _away(m, part + top / above)
        factor = above * below
        return number + 1.0, above, below, value * factor, factor

    start = (1.0, _away(m, first), 0.0 * first, _away(m, first), 2.0 + 0.0 * first)
    _, _, _, value, _ = m.until(go_on, step, start)
    return a * m.log(x) - x - m.gammaln(a) - m.log(value)


def log_beta_below(m: Mathematics, a: Array, b: Array, x: Array, y: Array) -> Array:
    """Log of the regularised incomplete beta function, by Lentz's fraction (DLMF 8.17.22).

    For 0 < x < (a + 1) / (a + b + 2), where it converges; y is 1 - x, with all its digits.
    """
    one = 1.0 + 0.0 * (a + b + x)

    def go_on(state: tuple[Any, ...]) -> Any:
        number, _, _, _, factor = state
        return (number < _MOST) & m.any(m.abs(factor - 1.0) > _CLOSE)

    def step(state: tuple[Any, ...]) -> tuple[Any, ...]:
        k, above, below, value, _ = state
        even = k * (b - k) * x / ((a + 2.0 * k - 1.0) * (a + 2.0 * k))
        below = 1.0 / _away(m, 1.0 + even * below)
        above = _away(m, 1.0 + even / above)
        value = value * (above * below)
        odd = -(a + k) * (a + b + k) * x / ((a + 2.0 * k) * (a + 2.0 * k + 1.0))
        below = 1.0 / _away(m, 1.0 + odd * below)
        above = _away(m, 1.0 + odd / above)
        factor = above * below
        return k + 1.0, above, below, value * factor, factor

    below = 1.0 / _away(m, one - (a + b) * x / (a + 1.0))
    start = (1.0, one, below, below, 2.0 * one)
    _, _, _, value, _ = m.until(go_on, step, start)
    return a * m.log(x) + b * m.log(y) - m.log(a) - m.betaln(a, b) + m.log(value)


def log_gamma_shares(m: Mathematics, a: Array, x: Array) -> tuple[Array, Array]:
    """Logs of the shares of a gamma distribution below and above x >= 0; its rate is 1."""
    a, x = a + 0.0 * x, x + 0.0 * a
    left = x < a + 1.0
    inside = x > 0
    # The other form stands where it ends at once: the slowest place sets how long all take.
    lower = log_gamma_below(m, a, m.where(left & inside, x, 1e-3 * a))
    upper = log_gamma_above(m, a, m.where(left, 100.0 * (a + 10.0), x))
    smaller = m.where(left, lower, upper)
    larger = log_one_minus_exp(m, smaller)
    below, above = m.where(left, smaller, larger), m.where(left, larger, smaller)
    return m.where(inside, below, -m.inf), m.where(inside, above, 0.0)


def log_beta_shares(m: Mathematics, a: Array, b: Array, x: Array, y: Array) -> tuple[Array, Array]:
    """Logs of the shares of a beta distribution below and above x; y is 1 - x."""
    zero = 0.0 * (a + b + x + y)
    a, b, x, y = a + zero, b + zero, x + zero, y + zero
    inside, over = (x > 0) & (y > 0), y <= 0
    # Elsewhere it stands where the fraction ends at once.
    aside = 1e-3 * a / (a + b)
    x, y = m.where(inside, x, aside), m.where(inside, y, 1.0 - aside)
    left = x * (a + b + 2.0) < a + 1.0
    smaller = log_beta_below(
        m,
        m.where(left, a, b),
        m.where(left, b, a),
        m.where(left, x, y),
        m.where(left, y, x),
    )
    larger = log_one_minus_exp(m, smaller)
    below, above = m.where(left, smaller, larger), m.where(left, larger, smaller)
    return (
        m.where(inside, below, m.where(over, 0.0, -m.inf)),
        m.where(inside, above, m.where(over, -m.inf, 0.0)),
    )


def _away(m: Mathematics, value: Array) -> Array:
    """Return a value moved off zero."""
    return m.where(m.abs(value) < _TINY, _TINY, value)
