"""Models of publication bias, weighed on a grid of effects and spreads."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.checks import is_among
from millwright.draws.known_priors import KnownPrior
from millwright.errors import ArgumentError
from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.studies.checks import check_number
from millwright.studies.grid_density import GridDensity
from millwright.studies.meta_bias import (
    BiasModel,
    NoBias,
    Regression,
    Selection,
)
from millwright.studies.meta_bias_draws import BiasJoint
from millwright.studies.meta_evidence import (
    prior_shares,
)
from millwright.studies.meta_models import KINDS, bias_model
from millwright.studies.meta_posterior import (
    MetaPosterior,
    log_prior,
    range_of,
    weighed_places,
)
from millwright.studies.meta_priors import number_prior

if TYPE_CHECKING:
    from millwright.studies.meta_findings import MetaFindings

__all__ = [
    "NO_BIAS",
    "biases_of",
    "check_direction",
    "check_effects",
    "density_of",
    "grid_of",
    "joint_of",
    "log_of",
    "models_of",
    "prior_of",
    "spreads_of",
]

_PER_PIECE = 9
_SHARES = np.array([1e-6, 1e-3, 0.02, 0.1, 0.25, 0.4])
_SHARES = np.concatenate([_SHARES, [0.5], 1 - _SHARES[::-1]])
_SPREAD_SHARES = np.array([1e-4, 0.01, 0.1, 0.3, 0.5, 0.7, 0.9, 0.99, 0.9999])
_SPREAD_RULE = np.polynomial.legendre.leggauss(6)
NO_BIAS = "none"
_DIRECTIONS = {"positive": 1, "negative": -1}
_MOST_CUTS = 3


def check_direction(name: str, given: Any) -> None:
    """Refuse what is no direction of results that were hoped for."""
    if not is_among(given, _DIRECTIONS):
        raise ArgumentError(f"`{name}` is positive or negative, not {given!r}.")


def check_effects(prior: Mapping[str, float]) -> None:
    """Refuse prior probabilities of models that leave no effect."""
    if not any(prior[kind] for kind, of in KINDS.items() if of.effect):
        raise ArgumentError(
            "The prior probabilities leave no model with an effect, so there is none to correct."
        )


def log_of(value: float) -> float:
    with np.errstate(divide="ignore"):
        return float(np.log(value))


def density_of(values: np.ndarray, edges: np.ndarray) -> GridDensity:
    """Return the density of values that are known on the grid of some edges."""
    return GridDensity(log_density=lambda places: values, edges=edges, per_piece=_PER_PIECE)


def biases_of(
    direction: str,
    one_sided: Sequence[Sequence[float]],
    two_sided: Sequence[Sequence[float]],
    slopes: Mapping[str, str | None],
) -> dict[str, BiasModel]:
    """Return the models of bias by name, none first.

    Raises
    ------
    ArgumentError
        For cut points or priors that make no sense.
    """
    check_direction("direction", direction)
    every: list[BiasModel] = [NoBias()]
    for sides, given in ((1, one_sided), (2, two_sided)):
        for cuts in given:
            every.append(Selection(_cuts(cuts), sides, _DIRECTIONS[direction]))
    for power, name in ((1, "slope"), (2, "slope_squared")):
        text = slopes[name]
        if text is not None:
            every.append(Regression(power, text, number_prior(name, text)))
    if len(every) == 1:
        raise ArgumentError("Give at least one model of bias.")
    return {one.words: one for one in every}


def _cuts(given: Sequence[float]) -> tuple[float, ...]:
    cuts = tuple(given) if isinstance(given, Sequence) and not isinstance(given, str) else ()
    for cut in cuts:
        check_number("cut", cut)
    if not 0 < len(cuts) <= _MOST_CUTS or not all(0 < cut < 1 for cut in cuts):
        raise ArgumentError(
            f"Cut points are one to {_MOST_CUTS} p-values between 0 and 1, such as (0.025, 0.05), "
            f"not {given!r}."
        )
    if list(cuts) != sorted(set(cuts)):
        raise ArgumentError(f"Cut points ascend, since weights fall with the p-value: {cuts}.")
    return tuple(map(float, cuts))


def prior_of(
    found: MetaFindings, biases: Mapping[str, BiasModel], stated: Mapping[str, float] | None
) -> dict[tuple[str, str], float]:
    """Return prior probabilities: those of the study's models times those of the biases."""
    of_bias = {name: 0.5 if name == NO_BIAS else 0.5 / (len(biases) - 1) for name in biases}
    if stated is not None:
        of_bias = prior_shares(tuple(biases), stated)
    models = found.study.model_priors
    return {(kind, name): models[kind] * of_bias[name] for name in biases for kind in KINDS}


def grid_of(found: MetaFindings, kind: str) -> tuple[np.ndarray, np.ndarray | None, np.ndarray]:
    """Return places of the effect, their edges, and the log prior; no edges for a point."""
    prior: KnownPrior | None = found.study.exact[kind].effect
    if prior is None:
        return np.zeros(1), None, np.zeros(1)
    exact = [found.study.exact[name].of_effect for name in ("random", "common")]
    trials = found.study.table.trials
    sd = float(np.sqrt(trials.given(np.zeros(1))[1][0]))
    # Bias pulls an effect from where it seems to be towards none, and beyond.
    middles = [0.0, *(one.median for one in exact)]
    low, high = min(middles) - 8 * sd, max(middles) + 8 * sd
    steps = np.linspace(low, high, max(9, min(60, int((high - low) / sd))))
    marks = [one.quantile(_SHARES) for one in exact]
    edges = np.concatenate([*marks, steps, prior.quantiles(*_SHARES)])
    edges = np.unique(np.clip(edges, *range_of(prior)))
    base = GridDensity(
        log_density=lambda places: log_prior(prior, places), edges=edges, per_piece=_PER_PIECE
    )
    return base.grid, base.edges, log_prior(prior, base.grid)


def spreads_of(found: MetaFindings, kind: str) -> tuple[np.ndarray, np.ndarray]:
    """Return places of the spread and their log weights, the prior among them."""
    exact = found.study.exact[kind]
    prior = exact.spread
    if prior is None:
        return np.zeros(1), np.zeros(1)
    return weighed_places(prior, _spread_edges(exact, prior), _SPREAD_RULE)


def _spread_edges(exact: MetaPosterior, prior: KnownPrior) -> np.ndarray:
    """Return ends of pieces of the spread that resolve its prior and its posterior."""
    scale = exact.trials.scale
    marks = [exact.of_spread.quantile(_SPREAD_SHARES), prior.quantiles(*_SPREAD_SHARES)]
    marks += [scale * np.array([0.0, 0.1, 0.3, 0.6, 1.0, 1.6, 2.5, 4.0])]
    return np.unique(np.clip(np.concatenate(marks), *range_of(prior)))


def joint_of(
    found: MetaFindings, kind: str, bias: BiasModel, logs: np.ndarray, edges: np.ndarray | None
) -> BiasJoint:
    """Return what draws of a model are taken from."""
    exact = found.study.exact[kind]
    return BiasJoint(
        trials=exact.trials,
        bias=bias,
        effect=exact.effect,
        spread=exact.spread,
        effects=None if edges is None else density_of(logs, edges),
        spread_edges=None if exact.spread is None else _spread_edges(exact, exact.spread),
    )


def models_of(found: MetaFindings, biases: Mapping[str, BiasModel]) -> dict[str, Model]:
    """Return every model that has an unknown."""
    study = found.study
    models = {}
    for name, bias in biases.items():
        for kind, of in KINDS.items():
            if name == NO_BIAS:
                if kind in study.models:
                    models[f"{kind}, no bias"] = study.models[kind]
                continue
            priors, wrapped = _written(bias)
            models[f"{kind}, {name}"] = bias_model(
                study.table, of, study.settings, priors, wrapped, name
            )
    return models


def _written(bias: BiasModel) -> tuple[dict[str, str], tuple[str, ...]]:
    """Return priors of a bias, and its steps as the model language writes them."""
    if isinstance(bias, Regression):
        return {"slope": bias.text}, (f"slope * {{error}}{'**2' * (bias.power == 2)}",)
    assert isinstance(bias, Selection)
    priors, steps = {}, []
    count = len(bias.cuts)
    for at, limit in enumerate(bias.limits):
        name = f"step_{at + 1}"
        priors[name] = f"beta(alpha={count - at}, beta=1)"
        above = f"above={number_text(float(limit))} * {{error}}"
        below = f"below={number_text(-float(limit))} * {{error}}"
        ends = {1: above, -1: below}[bias.sign] if bias.sides == 1 else f"{below}, {above}"
        steps.append(f"{ends}, weight={name}")
    return priors, tuple(steps)
