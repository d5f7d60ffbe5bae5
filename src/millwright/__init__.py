"""Millwright: Bayesian models from their text to a checked answer.

Names are loaded when they are first used, so that `import millwright` and the command line
start quickly. Importing has two effects. JAX computes in double precision from then on, whether
it is loaded already or later, so that constants in a user's own functions are as precise as
the rest. And unless it has compiled something already, or `XLA_FLAGS` says otherwise, it compiles
loops over small arrays as a whole.
"""

from __future__ import annotations

import importlib
import os
import sys
from typing import TYPE_CHECKING, Any

os.environ["JAX_ENABLE_X64"] = "True"
if "jax" in sys.modules:
    sys.modules["jax"].config.update("jax_enable_x64", True)

# Each operation of a loop is a call of its own where its turns go through more bytes than this:
# with small models that is most of the time (`benchmarks/README.md`, "Loops as a whole").
_LOOPS = "--xla_backend_extra_options=xla_cpu_small_while_loop_byte_threshold=300000"
_flags = os.environ.get("XLA_FLAGS", "")
if "xla_backend_extra_options" not in _flags:
    os.environ["XLA_FLAGS"] = f"{_flags} {_LOOPS}".strip()

__version__ = "0.1.0"

if TYPE_CHECKING:
    from collections.abc import Callable

    from millwright import demo as demo, errors as errors, plots as plots, studies as studies
    from millwright.comparison.averaging import average as average
    from millwright.comparison.bayes_factors import bayes_factors as bayes_factors
    from millwright.comparison.compare import compare as compare
    from millwright.comparison.estimates import (
        compare_estimates as compare_estimates,
        compare_predictions as compare_predictions,
    )
    from millwright.comparison.evidence_path import evidence_path as evidence_path
    from millwright.comparison.expected_evidence import expected_evidence as expected_evidence
    from millwright.comparison.samplers import compare_samplers as compare_samplers
    from millwright.exchange.exporting import (
        export_draws as export_draws,
        export_run as export_run,
        export_table as export_table,
    )
    from millwright.exchange.importing import read_draws as read_draws
    from millwright.language.symbols import Symbol
    from millwright.modelling.foreign import register as register
    from millwright.models.many import load_each as load_each
    from millwright.models.model import Model as Model
    from millwright.models.runs import load as load, resume as resume
    from millwright.models.target import Target as Target
    from millwright.posterior.posterior import Posterior as Posterior
    from millwright.posterior.posteriors import Posteriors as Posteriors
    from millwright.reporting.page import report as report
    from millwright.sampling.methods import (
        Ensemble as Ensemble,
        FixedLength as FixedLength,
        LaplaceGrid as LaplaceGrid,
        NoUTurn as NoUTurn,
        RandomWalk as RandomWalk,
        Rejection as Rejection,
        Tempering as Tempering,
    )
    from millwright.studies import effect_sizes as effect_sizes
    from millwright.studies.causal_graph import CausalGraph as CausalGraph

    Constructor = Callable[..., Symbol]
    autoregressive: Constructor
    bernoulli: Constructor
    beta: Constructor
    beta_binomial: Constructor
    binomial: Constructor
    categorical: Constructor
    cauchy: Constructor
    cumulative_logit: Constructor
    cumulative_probit: Constructor
    dirichlet: Constructor
    exponential: Constructor
    flat: Constructor
    gamma: Constructor
    gaussian_process: Constructor
    geometric: Constructor
    gumbel: Constructor
    half_cauchy: Constructor
    half_normal: Constructor
    half_student_t: Constructor
    inverse_gamma: Constructor
    laplace: Constructor
    lkj: Constructor
    logistic: Constructor
    lognormal: Constructor
    multinomial: Constructor
    multivariate_normal: Constructor
    multivariate_student_t: Constructor
    negative_binomial: Constructor
    normal: Constructor
    pareto: Constructor
    poisson: Constructor
    random_walk: Constructor
    skew_normal: Constructor
    state_space: Constructor
    student_t: Constructor
    uniform: Constructor
    von_mises: Constructor
    weibull: Constructor
    censored: Constructor
    hurdle: Constructor
    mixture: Constructor
    ordered: Constructor
    rounded: Constructor
    selected: Constructor
    zero_inflated: Constructor
    linear: Constructor
    matern32: Constructor
    matern52: Constructor
    periodic: Constructor
    squared_exponential: Constructor
    abs: Constructor
    arctan: Constructor
    cos: Constructor
    dot: Constructor
    erf: Constructor
    exp: Constructor
    expit: Constructor
    expm1: Constructor
    log_gamma: Constructor
    log: Constructor
    log10: Constructor
    log1p: Constructor
    logit: Constructor
    maximum: Constructor
    mean: Constructor
    minimum: Constructor
    normal_cdf: Constructor
    sd: Constructor
    sin: Constructor
    sqrt: Constructor
    standardise: Constructor
    sum: Constructor
    tan: Constructor
    tanh: Constructor
    where: Constructor

_PLACES = {
    "average": "millwright.comparison.averaging",
    "CausalGraph": "millwright.studies.causal_graph",
    "bayes_factors": "millwright.comparison.bayes_factors",
    "compare": "millwright.comparison.compare",
    "compare_estimates": "millwright.comparison.estimates",
    "compare_predictions": "millwright.comparison.estimates",
    "compare_samplers": "millwright.comparison.samplers",
    "Ensemble": "millwright.sampling.methods",
    "evidence_path": "millwright.comparison.evidence_path",
    "expected_evidence": "millwright.comparison.expected_evidence",
    "export_draws": "millwright.exchange.exporting",
    "export_run": "millwright.exchange.exporting",
    "export_table": "millwright.exchange.exporting",
    "LaplaceGrid": "millwright.sampling.methods",
    "load": "millwright.models.runs",
    "load_each": "millwright.models.many",
    "Model": "millwright.models.model",
    "FixedLength": "millwright.sampling.methods",
    "NoUTurn": "millwright.sampling.methods",
    "Posterior": "millwright.posterior.posterior",
    "Posteriors": "millwright.posterior.posteriors",
    "RandomWalk": "millwright.sampling.methods",
    "read_draws": "millwright.exchange.importing",
    "register": "millwright.modelling.foreign",
    "Rejection": "millwright.sampling.methods",
    "report": "millwright.reporting.page",
    "resume": "millwright.models.runs",
    "Target": "millwright.models.target",
    "Tempering": "millwright.sampling.methods",
}
_MODULES = {
    "demo": "millwright.demo",
    "effect_sizes": "millwright.studies.effect_sizes",
    "errors": "millwright.errors",
    "plots": "millwright.plots",
    "studies": "millwright.studies",
}
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
    "selected",
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
        value = importlib.import_module(_MODULES[name])
    elif name in (*_DISTRIBUTIONS, *_MODIFIERS, *_KERNELS, *_FUNCTIONS):
        value = importlib.import_module("millwright.modelling.constructors").constructor(name)
    else:
        raise AttributeError(f"module 'millwright' has no attribute {name!r}")
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
