"""The functions of `Mathematics` from JAX, in double precision."""

from __future__ import annotations

from jax.numpy import inf

from millwright.distributions import jax_functions
from millwright.distributions.jax_counts import (
    log_binomial,
    log_large_binomial,
    log_negative_binomial,
    log_poisson,
)
from millwright.distributions.jax_function import informed_function
from millwright.distributions.jax_functions import *  # noqa: F403
from millwright.distributions.jax_matrices import (
    cholesky,
    gaussian_log_density,
    lower_inverse,
    triangle,
)
from millwright.distributions.jax_tails import (
    betainc,
    log_beta_shares,
    log_betainc,
    log_gamma_shares,
    log_gammainc,
    log_gammaincc,
    log_ndtr,
    log_ndtr_tails,
)
from millwright.distributions.kalman import kalman_log_density
from millwright.distributions.kalman_open import open_kalman_log_density
from millwright.distributions.matern_density import matern_log_density

__all__ = [
    "betainc",
    "cholesky",
    "gaussian_log_density",
    "inf",
    "informed_function",
    "kalman_log_density",
    "log_beta_shares",
    "log_betainc",
    "log_gamma_shares",
    "log_binomial",
    "log_large_binomial",
    "log_gammainc",
    "log_gammaincc",
    "log_ndtr",
    "log_ndtr_tails",
    "log_negative_binomial",
    "log_poisson",
    "lower_inverse",
    "matern_log_density",
    "open_kalman_log_density",
    "triangle",
]
__all__ += jax_functions.__all__
