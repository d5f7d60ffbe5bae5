"""A Gaussian-process regression's gradient against LAPACK by hand.

    python benchmarks/gaussian_process.py

Three unknowns (scale, length, noise). By hand: kernel, Cholesky factor, inverse and gradient
written out in NumPy and SciPy. "Plain" differentiates automatically through the factorisation.
Ratios above 1 are slower than by hand; each is the smallest of several runs in turn.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import jax
import jax.numpy as jnp
import numpy as np
from scipy import linalg

import millwright as mw
from millwright.fitting.target import target_of
from millwright.sampling.compiling import compiled
from millwright.sampling.mode import value_and_gradient

MODEL = mw.Model(
    priors={"a": "half_normal(1)", "l": "half_normal(1)", "s": "half_normal(1)"},
    likelihood={
        "power": "gaussian_process(0, noise=s, "
        "kernel=squared_exponential(wind, scale=a, length=l))"
    },
)


def by_hand(x: np.ndarray, y: np.ndarray, u: np.ndarray) -> np.ndarray:
    """Gradient in the logarithms of scale, length and noise."""
    a, length, s = np.exp(u)
    square = (x[:, None] - x[None, :]) ** 2 / length**2
    signal = a * a * np.exp(-0.5 * square)
    factor = linalg.cholesky(signal + s * s * np.eye(len(x)), lower=True)
    lower, _ = linalg.lapack.dpotri(factor, lower=1)
    precision = np.tril(lower) + np.tril(lower, -1).T
    alpha = precision @ y
    weight = 0.5 * (np.outer(alpha, alpha) - precision)
    by_signal = weight * signal
    return np.array(
        [2 * by_signal.sum(), (by_signal * square).sum(), 2 * s * s * np.trace(weight)]
    )


def plain(u: jax.Array, x: Any, y: Any) -> jax.Array:
    """The same log likelihood, left to automatic differentiation."""
    a, length, s = jnp.exp(u)
    square = (x[:, None] - x[None, :]) ** 2 / length**2
    kernel = a * a * jnp.exp(-0.5 * square) + s * s * jnp.eye(x.shape[0])
    factor = jnp.linalg.cholesky(kernel)
    z = jax.scipy.linalg.solve_triangular(factor, y, lower=True)
    return -0.5 * z @ z - jnp.log(jnp.diagonal(factor)).sum()


def fastest(calls: dict[str, Callable[[], Any]], rounds: int) -> dict[str, float]:
    """Seconds of the fastest of several rounds, the calls taking turns."""
    found: dict[str, list[float]] = {name: [] for name in calls}
    for _ in range(rounds):
        for name, call in calls.items():
            began = time.perf_counter()
            call()
            found[name].append(time.perf_counter() - began)
    return {name: min(times[1:]) for name, times in found.items()}


def compare(n: int, rounds: int) -> str:
    """Time the three for n rows; all must agree first."""
    generator = np.random.default_rng(1)
    x = np.sort(generator.uniform(0, 10, n))
    y = np.sin(x) + 0.2 * generator.standard_normal(n)
    target = target_of(MODEL.bind({"wind": x, "power": y}))
    u = np.log([1.0, 1.3, 0.3])
    arguments = jax.device_put(target.arguments)
    gradient = compiled(value_and_gradient, target.key, (u, arguments))
    automatic = jax.jit(jax.grad(plain))
    # Half-normal priors with log coordinates add 1 - x^2 to each entry.
    ours = np.asarray(gradient(u, arguments)[1]) - (1 - np.exp(2 * u))
    np.testing.assert_allclose(ours, by_hand(x, y, u), rtol=1e-6)
    seconds = fastest(
        {
            "ours": lambda: jax.block_until_ready(gradient(u, arguments)),
            "plain": lambda: jax.block_until_ready(automatic(u, x, y)),
            "hand": lambda: by_hand(x, y, u),
        },
        rounds,
    )
    return (
        f"n = {n}: by hand {1e6 * seconds['hand']:.0f} us; ours "
        f"{seconds['ours'] / seconds['hand']:.2f} times that, plain automatic "
        f"differentiation {seconds['plain'] / seconds['hand']:.2f} times"
    )


if __name__ == "__main__":
    print(compare(100, 60))
    print(compare(500, 20))
