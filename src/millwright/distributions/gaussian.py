"""Multivariate normal and Student-t distributions."""

from __future__ import annotations

import math

import numpy as np

from millwright.distributions import on_numpy
from millwright.distributions.family import Parameter, Parameters
from millwright.distributions.location_scale import DF
from millwright.distributions.mathematics import Array, Mathematics
from millwright.distributions.vector import VectorFamily

__all__ = ["MultivariateNormal", "MultivariateStudentT", "covariance_of"]

_ARGUMENTS = (
    Parameter("location", "real", "centre, one for all labels or one for each", True, rank=1),
    Parameter("covariance", "real", "matrix over the label set and itself", rank=2),
    Parameter("scales", "positive", "spread for each label", instead_of="covariance", rank=1),
    Parameter(
        "correlation",
        "real",
        "correlation matrix, such as one with an lkj prior",
        instead_of="covariance",
        rank=2,
    ),
)


def covariance_of(p: Parameters) -> Array:
    """Return the covariance matrix (scale matrix for Student-t), however it was given."""
    if "covariance" in p:
        return p["covariance"]
    return p["scales"][..., :, None] * p["correlation"] * p["scales"][..., None, :]


class MultivariateNormal(VectorFamily):
    """Normal distribution of a vector."""

    name = "multivariate_normal"
    summary = "normal vector: centres, and a covariance or spreads with a correlation matrix"
    parameters = _ARGUMENTS
    over_rows = True

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        return m.gaussian_log_density(x - p["location"], covariance_of(p))

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        factor = on_numpy.cholesky(np.asarray(covariance_of(p), dtype=float))
        z = generator.standard_normal(size)
        return p["location"] + np.einsum("...ij,...j->...i", factor, z)

    def mean(self, p: Parameters) -> Array:
        return np.asarray(p["location"], dtype=float)


class MultivariateStudentT(VectorFamily):
    """Student-t distribution of a vector, with scale matrix `covariance`."""

    name = "multivariate_student_t"
    summary = "vector with heavy tails; `covariance` is the scale matrix, not the covariance"
    parameters = (*_ARGUMENTS, DF)
    over_rows = True

    def log_density(self, m: Mathematics, x: Array, p: Parameters) -> Array:
        df = m.asarray(p["df"])
        size = x.shape[-1]
        covariance = covariance_of(p)
        residual = x - p["location"]
        # The normal log density holds both the quadratic form and the determinant.
        at_zero = m.gaussian_log_density(0.0 * residual, covariance)
        quadratic = 2 * (at_zero - m.gaussian_log_density(residual, covariance))
        constant = m.gammaln((df + size) / 2) - m.gammaln(df / 2)
        constant = constant + size / 2 * (math.log(2.0) - m.log(df))
        return constant + at_zero - (df + size) / 2 * m.log1p(quadratic / df)

    def draw(self, generator: np.random.Generator, size: tuple[int, ...], p: Parameters) -> Array:
        factor = on_numpy.cholesky(np.asarray(covariance_of(p), dtype=float))
        z = np.einsum("...ij,...j->...i", factor, generator.standard_normal(size))
        df = np.broadcast_to(p["df"], size[:-1])
        stretch = np.sqrt(df / (2 * generator.standard_gamma(df / 2)))
        return p["location"] + z * stretch[..., None]

    def mean(self, p: Parameters) -> Array:
        df = np.asarray(p["df"])[..., None]
        return np.where(df > 1, p["location"], np.nan)
