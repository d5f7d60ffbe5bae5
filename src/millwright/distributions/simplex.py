"""Distributions of shares that sum to 1, and of counts in several classes."""

from __future__ import annotations

from functools import cache
from typing import ClassVar

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.categories import log_shares, share_parameters
from millwright.distributions.family import Parameter, Parameters
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.vector import VectorFamily

__all__ = ["Dirichlet", "Multinomial"]


@cache
def _basis(size: int) -> np.ndarray:
    """Orthonormal basis of the vectors that sum to zero, shape (size, size - 1)."""
    rows = [
        np.concatenate([np.ones(k), [-k], np.zeros(size - k - 1)]) / np.sqrt(k * (k + 1.0))
        for k in range(1, size)
    ]
    return np.array(rows).T


class Dirichlet(VectorFamily):
    """Shares that sum to 1.

    The free coordinates are isometric log ratios, x = softmax(V u) with an orthonormal V
    (Egozcue, Pawlowsky-Glahn, Mateu-Figueras and Barcelo-Vidal 2003, Mathematical Geology
    35(3)); the log determinant is sum(log x) + log(K) / 2.
    """

    name = "dirichlet"
    summary = "shares that sum to 1; larger concentrations hold them closer together"
    parameters = (
        Parameter(
            "concentration",
            "positive",
            "one number for all labels, or one for each; all 1 is uniform",
            rank=1,
        ),
    )
    fewest: ClassVar[int] = 2

    def free_size(self, size: int) -> int:
        return size - 1

    def from_free(self, m: Mathematics, u: Array, p: Parameters) -> tuple[Array, Array]:
        size = u.shape[-1] + 1
        scores = u @ _basis(size).T
        log_x = log_shares(m, {"log_odds": scores})
        return m.exp(log_x), m.sum(log_x, axis=-1) + 0.5 * np.log(size)

    def to_free(self, x: Array, p: Parameters) -> np.ndarray:
        safe = np.maximum(np.asarray(x, dtype=float), 1e-300)
        return np.log(safe) @ _basis(safe.shape[-1])

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        a = p["concentration"]
        constant = m.gammaln(m.sum(a, axis=-1)) - m.sum(m.gammaln(a), axis=-1)
        return constant + m.sum(m.xlogy(a - 1.0, x), axis=-1)

    def contains(self, x: Array, p: Parameters) -> np.ndarray:
        total = np.abs(np.sum(x, axis=-1) - 1) < 1e-8
        return total & np.all((x > 0) & (x < 1), axis=-1)

    def contents(self) -> str:
        return "shares above 0 that sum to 1"

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        # Log gamma draws: small concentrations would give only zeros otherwise.
        a = np.broadcast_to(p["concentration"], size)
        logs = np.log(generator.standard_gamma(a + 1.0)) + np.log(generator.random(size)) / a
        return np.exp(log_shares(on_numpy, {"log_odds": logs}))

    def mean(self, p: Parameters) -> Array:
        a = np.asarray(p["concentration"])
        return a / a.sum(axis=-1, keepdims=True)


class Multinomial(VectorFamily):
    """Counts of `trials` independent draws among several labels."""

    name = "multinomial"
    summary = "how many of trials fall to each label"
    whole = True
    parameters = (
        Parameter("trials", "count", "number of trials"),
        *share_parameters(own_labels=False),
    )
    fewest: ClassVar[int] = 2

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        log_p = log_shares(m, p)
        # 0 log 0 is 0 here, also for its gradient.
        each = m.where(m.asarray(x) > 0, x * m.where(m.asarray(x) > 0, log_p, 0.0), 0.0)
        ways = m.gammaln(m.asarray(p["trials"]) + 1.0) - m.sum(m.gammaln(x + 1.0), axis=-1)
        return ways + m.sum(each, axis=-1)

    def contains(self, x: Array, p: Parameters) -> np.ndarray:
        counts = np.all((x >= 0) & (x == np.floor(x)), axis=-1)
        return counts & (np.sum(x, axis=-1) == p["trials"])

    def contents(self) -> str:
        return "whole numbers from 0 that sum to `trials`"

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        shares = np.broadcast_to(np.exp(log_shares(on_numpy, p)), size)
        left = np.broadcast_to(np.asarray(p["trials"]), size[:-1]).astype(np.int64)
        rest = np.ones(size[:-1])
        counts = []
        for at in range(size[-1] - 1):
            chance = np.clip(shares[..., at] / np.maximum(rest, 1e-300), 0.0, 1.0)
            counts.append(generator.binomial(left, chance))
            left, rest = left - counts[-1], rest - shares[..., at]
        return np.stack([*counts, left], axis=-1).astype(float)

    def mean(self, p: Parameters) -> Array:
        return np.asarray(p["trials"])[..., None] * np.exp(log_shares(on_numpy, p))
