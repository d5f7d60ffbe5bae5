"""The Kalman filter's gradient against the plain recursion, and side by side over times.

    python benchmarks/filters.py

Three states, 2000 times, one reading a time. The plain recursion is compiled by numba and gives
the value alone. `by the compiler` differentiates the loop as it stands; `in one pass back` is what
state-space series and equations with expectations use. `side by side` combines times by pairs
(Saerkkae and Garcia-Fernandez 2021), value alone: more work, for processors with many cores.
"""

from __future__ import annotations

import time

import jax
import jax.numpy as jnp
import numba
import numpy as np

import millwright.distributions.on_jax as on_jax
from millwright.distributions.filtering import System, filtered
from millwright.distributions.kalman import Series, log_density
from millwright.distributions.registry import DISTRIBUTIONS

TIMES, STATES, REPEATS = 2000, 3, 30


@numba.njit
def plain(transition, steps, mean, spread, loading, noise, readings):
    total = 0.0
    for t in range(len(readings)):
        lean = spread @ loading
        variance = lean @ loading + noise
        error = readings[t] - mean @ loading
        total -= 0.5 * (error * error / variance + np.log(2 * np.pi * variance))
        mean = transition @ (mean + lean * (error / variance))
        spread = transition @ (spread - np.outer(lean, lean) / variance) @ transition.T + steps
    return total


def side_by_side(transition, steps, mean, spread, loading, noise, readings):
    """Return the log density by an associative scan over times."""
    n = len(mean)
    eye = jnp.eye(n)

    def element(y, first):
        before = jnp.where(first, spread, steps)
        centre = jnp.where(first, mean, 0.0)
        move = jnp.where(first, 0.0, 1.0) * transition
        lean = before @ loading
        variance = loading @ lean + noise
        gain = lean / variance
        kept = eye - jnp.outer(gain, loading)
        pull = transition.T @ loading * jnp.where(first, 0.0, 1.0)
        return (
            kept @ move,
            centre + gain * (y - loading @ centre),
            kept @ before,
            pull * y / variance,
            jnp.outer(pull, pull) / variance,
        )

    def combine(a, b):
        a1, b1, c1, e1, j1 = a
        a2, b2, c2, e2, j2 = b
        left = jnp.linalg.inv(eye + c1 @ j2)
        right = jnp.linalg.inv(eye + j2 @ c1)
        return (
            a2 @ left @ a1,
            jnp.einsum("...ij,...j->...i", a2 @ left, b1 + jnp.einsum("...ij,...j->...i", c1, e2))
            + b2,
            a2 @ left @ c1 @ jnp.swapaxes(a2, -1, -2) + c2,
            jnp.einsum(
                "...ij,...j->...i",
                jnp.swapaxes(a1, -1, -2) @ right,
                e2 - jnp.einsum("...ij,...j->...i", j2, b1),
            )
            + e1,
            jnp.swapaxes(a1, -1, -2) @ right @ j2 @ a1 + j1,
        )

    first = jnp.arange(len(readings)) == 0
    _, means, spreads, _, _ = jax.lax.associative_scan(combine, jax.vmap(element)(readings, first))
    centre = jnp.concatenate([mean[None], means[:-1] @ transition.T])
    moved = transition @ spreads[:-1] @ transition.T + steps
    around = jnp.concatenate([spread[None], moved])
    variance = jnp.einsum("tij,i,j->t", around, loading, loading) + noise
    error = readings - centre @ loading
    return -0.5 * jnp.sum(error**2 / variance + jnp.log(2 * jnp.pi * variance))


def best(function, *arguments) -> float:
    """Return the shortest of several times, in ms, after one call that compiles."""
    jax.block_until_ready(function(*arguments))
    taken = []
    for _ in range(REPEATS):
        began = time.perf_counter()
        jax.block_until_ready(function(*arguments))
        taken.append(time.perf_counter() - began)
    return 1e3 * min(taken)


def main() -> None:
    readings = 0.1 * np.random.default_rng(0).normal(size=TIMES).cumsum()
    transition = np.array([[1.0, 1.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 0.8]])
    scale, loading = np.array([0.1, 0.01, 0.3]), np.array([1.0, 0.0, 1.0])
    mean, spread = np.zeros(STATES), np.eye(STATES)
    always = jnp.ones(TIMES, bool)
    options = {"xla_cpu_multi_thread_eigen": False, "xla_cpu_use_fusion_emitters": False}

    def by_compiler(transition, scale, noise):
        parts = (transition, jnp.diag(scale**2), jnp.asarray(loading)[None], noise[None] ** 2)
        system = System(*parts, jnp.asarray(mean), jnp.asarray(spread), always)
        return filtered(on_jax, readings, always, system).log_densities(on_jax).sum()

    def open_start(transition, scale, noise):
        given = {"transition": transition, "loading": jnp.asarray(loading)[None], "scale": scale}
        given["noise"] = jnp.broadcast_to(noise, (TIMES,))
        return DISTRIBUTIONS["state_space"].log_density(on_jax, readings, given)

    def in_one_pass(transition, scale, noise):
        read = jnp.ones((TIMES, 1), bool)
        parts = (transition, jnp.diag(scale**2), jnp.asarray(mean), jnp.asarray(spread))
        loadings = jnp.broadcast_to(jnp.asarray(loading), (TIMES, 1, STATES))
        noises = jnp.broadcast_to(noise, (TIMES, 1))
        return log_density(Series(loadings, *parts, noises, readings[:, None], read))

    at = (jnp.asarray(transition), jnp.asarray(scale), jnp.asarray(0.5))
    flat = (transition, np.diag(scale**2), mean, spread, loading, 0.25, readings)
    base = best(plain, *flat)
    print(f"plain recursion in numba, value: {base:.2f} ms; all else over it:")
    ways = {"by the compiler": by_compiler, "in one pass back": in_one_pass}
    for name, function in (ways | {"first state open, in one pass back": open_start}).items():
        value = best(jax.jit(function, compiler_options=options), *at)
        slope = jax.jit(jax.value_and_grad(function, (0, 1, 2)), compiler_options=options)
        gradient = best(slope, *at)
        print(f"{name}: value {value / base:.2f}, gradient {gradient / base:.2f}")
    pairs = jax.jit(side_by_side)
    np.testing.assert_allclose(pairs(*flat), plain(*flat), rtol=1e-8)
    print(f"side by side: value {best(pairs, *flat) / base:.2f}")


if __name__ == "__main__":
    main()
