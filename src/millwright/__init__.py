"""Millwright: Bayesian models from their text to a checked answer.

Names are loaded when they are first used, so that `import millwright` and the command line
start quickly. Importing has one effect: JAX computes in double precision from then on, whether
it is loaded already or later, so that constants in a user's own functions are as precise as
the rest.
"""

from __future__ import annotations

import importlib
import os
import sys
from typing import Any

os.environ["JAX_ENABLE_X64"] = "True"
if "jax" in sys.modules:
    sys.modules["jax"].config.update("jax_enable_x64", True)

__version__ = "0.1.0"

_PLACES = {
    "Ensemble": "millwright.sampling.methods",
    "Model": "millwright.models.model",
    "NoUTurn": "millwright.sampling.methods",
    "Posterior": "millwright.posterior.posterior",
    "compare_estimates": "millwright.comparison.estimates",
    "compare": "millwright.comparison.compare",
    "compare_predictions": "millwright.comparison.estimates",
    "RandomWalk": "millwright.sampling.methods",
    "Rejection": "millwright.sampling.methods",
    "Target": "millwright.models.target",
    "Tempering": "millwright.sampling.methods",
    "export_draws": "millwright.exchange.exporting",
    "export_run": "millwright.exchange.exporting",
    "export_table": "millwright.exchange.exporting",
    "compare_samplers": "millwright.comparison.samplers",
    "load": "millwright.models.runs",
    "resume": "millwright.models.runs",
    "read_draws": "millwright.exchange.importing",
    "register": "millwright.modelling.foreign",
    "report": "millwright.reporting.page",
}
_MODULES = ("demo", "errors", "plots")
_DISTRIBUTIONS = (
    "autoregressive",
    "bernoulli",
    "beta",
    "beta_binomial",
    "binomial",
    "categorical",
    "cauchy",
    "cumulative_logit",
    "cumulative_probit",
    "dirichlet",
    "exponential",
    "flat",
    "gamma",
    "gaussian_process",
    "geometric",
    "gumbel",
    "half_cauchy",
    "half_normal",
    "half_student_t",
    "inverse_gamma",
    "laplace",
    "lkj",
    "logistic",
    "lognormal",
    "multinomial",
    "multivariate_normal",
    "multivariate_student_t",
    "negative_binomial",
    "normal",
    "pareto",
    "poisson",
    "random_walk",
    "skew_normal",
    "state_space",
    "student_t",
    "uniform",
    "von_mises",
    "weibull",
)
_MODIFIERS = (
    "censored",
    "hurdle",
    "mixture",
    "ordered",
    "rounded",
    "zero_inflated",
)
_KERNELS = ("linear", "matern32", "matern52", "periodic", "squared_exponential")
_FUNCTIONS = (
    "abs",
    "arctan",
    "cos",
    "dot",
    "erf",
    "exp",
    "expit",
    "expm1",
    "log_gamma",
    "log",
    "log10",
    "log1p",
    "logit",
    "maximum",
    "mean",
    "minimum",
    "normal_cdf",
    "sd",
    "sin",
    "sqrt",
    "standardise",
    "sum",
    "tan",
    "tanh",
    "where",
)

__all__ = sorted((*_PLACES, *_MODULES, *_DISTRIBUTIONS, *_MODIFIERS, *_KERNELS, *_FUNCTIONS))


def __getattr__(name: str) -> Any:
    if name in _PLACES:
        value = getattr(importlib.import_module(_PLACES[name]), name)
    elif name in _MODULES:
        value = importlib.import_module(f"millwright.{name}")
    elif name in (*_DISTRIBUTIONS, *_MODIFIERS, *_KERNELS, *_FUNCTIONS):
        value = importlib.import_module("millwright.modelling.constructors").constructor(name)
    else:
        raise AttributeError(f"module 'millwright' has no attribute {name!r}")
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
