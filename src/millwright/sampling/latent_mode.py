"""Laplace's approximation of latent values given other unknowns, at many of these in one call.

Latent values are f = centre + root z with independent standard normal z (Rasmussen and Williams
2006, "Gaussian Processes for Machine Learning", section 3.4, in coordinates in which nothing close
to singular is inverted): with W the negative curvature of the log likelihood in f, the curvature
in z is A = 1 + root' W root, and z is about normal(z*, A^-1) around its mode z*. The search ends
close to the mode, not at it: draws are weighed by the density that they were drawn from.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple, Protocol

import numpy as np

from millwright.distributions.mathematics import Array
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.target import TargetDensity

__all__ = ["BATCH", "Around", "LatentSplit", "Search", "modes_of", "rests_apart"]

BATCH = 32
"""Points in one call."""

_MOST_STEPS = 40
_TOLD = 0.65
"""Share of the curvature that draws rest on. With all of it they are too narrow on the side where
counts or yes/no say less than at the mode, and chains stick there."""

_CLOSE = 1e-2
_SHORTEST = 1e-3
_LOG_2PI = math.log(2 * math.pi)


class LatentSplit(Hashable, Protocol):
    """A log density in parts, as `modelling.latent_density` has it; it compares by content."""

    @property
    def latent(self) -> np.ndarray: ...

    @property
    def others(self) -> np.ndarray: ...

    def placed(self, theta: Array, arguments: Any) -> tuple[Array, Array]: ...

    def log_prior(self, theta: Array, arguments: Any) -> Array: ...

    def log_prior_drawn(self, theta: Array, arguments: Any) -> Array: ...

    def log_likelihood(self, theta: Array, values: Array, arguments: Any) -> Array: ...


Search = Callable[[np.ndarray, np.ndarray, np.ndarray, int], "Around"]


class Around(NamedTuple):
    """What is found at each of several points theta.

    Attributes
    ----------
    log_marginal
        Laplace's approximation of the log density of theta, latent values integrated out.
    modes
        The modes of z, shape (points, latent).
    draws
        Draws of z from the approximation, shape (points, latent).
    log_ratio
        Log density of theta and the draw, less that of the approximation at the draw.
    log_density
        Log density of theta and the draw.
    log_prior_drawn
        Log density of draws of theta from the prior.
    curvature
        The least of the second derivatives of the negative log likelihood in the latent values,
        at the mode and at the draw; below 0 it is not log-concave.
    """

    log_marginal: np.ndarray
    modes: np.ndarray
    draws: np.ndarray
    log_ratio: np.ndarray
    log_density: np.ndarray
    log_prior_drawn: np.ndarray
    curvature: np.ndarray


def modes_of(target: TargetDensity, split: LatentSplit, apart: bool) -> Search:
    """Return a function of points theta, first guesses of z, standard normal noise, and threads.

    Parameters
    ----------
    apart
        Whether each term of the log likelihood rests on one latent value, as `rests_apart` finds.
    """
    d, n = len(split.others), len(split.latent)
    example = (
        np.zeros((BATCH, d)),
        np.zeros((BATCH, n)),
        np.zeros((BATCH, n)),
        np.int64(0),
        target.arguments,
    )
    executable = compiled(_around, (split, apart), example)
    arguments = on_device(target.arguments)

    def piece(rows: tuple[np.ndarray, np.ndarray, np.ndarray]) -> list[np.ndarray]:
        count = len(rows[0])
        filled = (np.pad(each, ((0, BATCH - count), (0, 0))) for each in rows)
        found = executable(*filled, np.int64(count), arguments)
        return [np.asarray(each)[:count] for each in found]

    def run(theta: np.ndarray, guess: np.ndarray, noise: np.ndarray, threads: int) -> Around:
        cuts = range(BATCH, len(theta), BATCH)
        parts = zip(*(np.split(each, cuts) for each in (theta, guess, noise)), strict=True)
        if threads == 1 or not cuts:
            pieces = [piece(rows) for rows in parts]
        else:
            with ThreadPoolExecutor(threads) as pool:
                pieces = list(pool.map(piece, parts))
        return Around(*(np.concatenate(each) for each in zip(*pieces, strict=True)))

    return run


def _around(
    static: tuple[LatentSplit, bool],
    theta: Array,
    guess: Array,
    noise: Array,
    count: Array,
    arguments: Any,
) -> tuple[Array, ...]:
    """Go through the points one after the other; to be compiled."""
    import jax.numpy as jnp
    from jax import lax

    split, apart = static
    batch, n = guess.shape
    nothing, wide = jnp.zeros(batch), jnp.zeros((batch, n))
    kept = (nothing, wide, wide, nothing, nothing, nothing, nothing)

    def one(at: Array, kept: tuple[Array, ...]) -> tuple[Array, ...]:
        found = _at_point(split, apart, theta[at], guess[at], noise[at], arguments)
        return tuple(
            lax.dynamic_update_index_in_dim(whole, each, at, 0)
            for whole, each in zip(kept, found, strict=True)
        )

    result: tuple[Array, ...] = lax.fori_loop(0, count, one, kept)
    return result


class _Given:
    """The log density of standard steps z, given theta."""

    def __init__(self, split: LatentSplit, apart: bool, theta: Array, arguments: Any) -> None:
        self.centre, self.root = split.placed(theta, arguments)
        self.prior = split.log_prior(theta, arguments)
        self.apart = apart
        self._split, self._theta, self._arguments = split, theta, arguments

    def told(self, values: Array) -> Array:
        return self._split.log_likelihood(self._theta, values, self._arguments)

    def values(self, z: Array) -> Array:
        return self.centre + self.root @ z

    def height(self, z: Array) -> Array:
        return self.told(self.values(z)) - 0.5 * z @ z

    def shape(self, z: Array) -> tuple[Array, Array]:
        """Return the slope in z, and W in the latent values: its diagonal where they are apart."""
        import jax
        import jax.numpy as jnp

        values = self.values(z)
        gradient = jax.grad(self.told)
        if self.apart:
            slope, curvature = jax.jvp(gradient, (values,), (jnp.ones_like(values),))
        else:
            units = jnp.eye(values.shape[0])
            curvature = jax.vmap(lambda unit: jax.jvp(gradient, (values,), (unit,))[1])(units)
            slope = gradient(values)
        return self.root.T @ slope - z, -curvature

    def factor(self, weights: Array) -> Array:
        """Return the Cholesky factor of 1 + root' W root."""
        import jax.numpy as jnp

        inner = (self.root.T * jnp.maximum(weights, 0.0)) if self.apart else self.root.T @ weights
        return jnp.linalg.cholesky(jnp.eye(self.root.shape[0]) + inner @ self.root)

    def least(self, weights: Array) -> Array:
        import jax.numpy as jnp

        return jnp.min(weights if self.apart else jnp.diagonal(weights))


def _at_point(
    split: LatentSplit, apart: bool, theta: Array, guess: Array, noise: Array, arguments: Any
) -> tuple[Array, ...]:
    """Return what `Around` holds, at one point."""
    import jax.numpy as jnp
    from jax.scipy.linalg import solve_triangular

    given = _Given(split, apart, theta, arguments)
    mode, value, weights, factor = _climbed(given, guess)
    wide = given.factor(_TOLD * weights)
    drawn = mode + solve_triangular(wide, noise, lower=True, trans=1)
    least = given.least(weights)
    if apart:
        least = jnp.minimum(least, given.least(given.shape(drawn)[1]))
    constant = 0.5 * noise.shape[0] * _LOG_2PI
    density = given.prior + given.height(drawn) - constant
    drawn_from = _log_det(wide) - 0.5 * noise @ noise - constant
    marginal = given.prior + value - _log_det(factor)
    prior_drawn = split.log_prior_drawn(theta, arguments)
    return marginal, mode, drawn, density - drawn_from, density, prior_drawn, least


def _log_det(factor: Array) -> Array:
    import jax.numpy as jnp

    return jnp.sum(jnp.log(jnp.diagonal(factor)))


def _climbed(given: _Given, guess: Array) -> tuple[Array, Array, Array, Array]:
    """Return the mode of z by Newton's steps, and value, W and factor of A there."""
    import jax.numpy as jnp
    from jax import lax
    from jax.scipy.linalg import solve_triangular

    def newton(carry: tuple[Array, ...]) -> tuple[Array, ...]:
        steps, z, value, *_ = carry
        slope, weights = given.shape(z)
        factor = given.factor(weights)
        half = solve_triangular(factor, slope, lower=True)
        step = solve_triangular(factor, half, lower=True, trans=1)
        close = half @ half < _CLOSE

        def halved(tried: tuple[Array, ...]) -> tuple[Array, ...]:
            scale = tried[0] / 2
            return scale, given.height(z + scale * step)

        # A step is halved until it leads up; close to the mode none is taken.
        scale, reached = lax.while_loop(
            lambda tried: ~close & ~(tried[1] > value) & (tried[0] > _SHORTEST),
            halved,
            (jnp.asarray(1.0), given.height(z + step)),
        )
        done = close | ~(reached > value)
        moved = jnp.where(done, z, z + scale * step)
        return steps + 1, moved, jnp.where(done, value, reached), weights, factor, done

    n = guess.shape[0]
    weights = jnp.zeros(n) if given.apart else jnp.zeros((n, n))
    start = (0, guess, given.height(guess), weights, jnp.eye(n), False)
    _, mode, value, weights, factor, _ = lax.while_loop(
        lambda carry: ~carry[5] & (carry[0] < _MOST_STEPS), newton, start
    )
    return mode, value, weights, factor


def rests_apart(target: TargetDensity, split: LatentSplit, theta: np.ndarray) -> bool:
    """Whether each term of the log likelihood rests on one latent value.

    The curvature is then a diagonal, and its product with any vector what that diagonal, its
    product with ones, gives.
    """
    vector = np.random.default_rng(0).standard_normal(len(split.latent))
    products = compiled(_products, split, (theta, vector, target.arguments))
    diagonal, product = map(np.asarray, products(theta, vector, on_device(target.arguments)))
    size = np.abs(diagonal * vector).max() + np.abs(product).max()
    return bool(np.all(np.abs(product - diagonal * vector) <= 1e-10 * size))


def _products(split: LatentSplit, theta: Array, vector: Array, arguments: Any) -> Any:
    """Return the curvature's products with ones and with a vector; to be compiled."""
    import jax
    import jax.numpy as jnp

    centre, root = split.placed(theta, arguments)
    values = centre + root @ vector
    gradient = jax.grad(lambda f: split.log_likelihood(theta, f, arguments))
    return tuple(jax.jvp(gradient, (values,), (by,))[1] for by in (jnp.ones_like(vector), vector))
