"""Outcomes whose rows depend on each other, at new rows given the fitted ones.

Gaussian processes are conditioned on what is known of them (Rasmussen and Williams 2006, eq.
2.22 to 2.24), draw by draw of the other unknowns; a series goes on from its last row.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from millwright.cores import one_thread
from millwright.distributions import on_numpy
from millwright.distributions.matern import Along
from millwright.distributions.processes import GaussianProcess
from millwright.distributions.series_ahead import ahead, goes_on
from millwright.distributions.state_space import StateSpace
from millwright.draws.labelled_draws import Draws, Keep
from millwright.draws.matern_moments import MANY_ROWS, draws_at_once, noisy_readings, sampled
from millwright.errors import ModelError
from millwright.modelling.along_one_axis import along_one_axis
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding, bind
from millwright.modelling.labelled import DRAW
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.specification import Part
from millwright.modelling.tables import Tables, joined

__all__ = [
    "Conditional",
    "MOST",
    "joint_arguments",
    "condition_on_data",
    "conditioned",
    "forecast",
    "is_series",
    "joint_outcomes",
]


MOST = 1000
"""Draws used where each needs a factorisation of its own."""


@dataclass(frozen=True, kw_only=True)
class Conditional:
    """A joint outcome at new rows given the fitted ones.

    Attributes
    ----------
    latent
        Draws without noise, shape (draws, new rows).
    outcome
        Draws with noise.
    mean, variance
        Of the outcome at each row, for each draw of the other unknowns.
    """

    latent: np.ndarray
    outcome: np.ndarray
    mean: np.ndarray
    variance: np.ndarray


def joint_outcomes(binding: Binding) -> list[Part]:
    """Return the outcomes whose rows depend on each other."""
    axes = dict(binding.program.outcome_axes)
    return [
        part
        for part in binding.program.outcomes
        if part.event == "vector" and len(axes[part.name]) == 1
    ]


def condition_on_data(
    draws: Draws, part: Part, tables: Tables, keep: Keep, generator: np.random.Generator
) -> Conditional:
    """Draw a Gaussian-process outcome at new rows given the fitted ones."""
    family = family_of(part.family, part.arguments)
    assert isinstance(family, GaussianProcess)
    both = _with_rows(draws, tables)
    seen = np.asarray(draws.binding.arguments["observed", part.name])
    along = along_one_axis(draws.evaluation(both, keep), part)
    if along is not None and along.x.ndim == 1 and len(along.x) > MANY_ROWS:
        return _along_one_axis(along, seen, draws.count(keep), generator)
    return conditioned(part, family, joint_arguments(draws, both, part, keep), seen, generator)


def _with_rows(draws: Draws, tables: Tables) -> Binding:
    """Return the model bound to the fitted rows followed by new ones."""
    binding = draws.binding
    return bind(
        binding.specification,
        joined(binding.tables, tables),
        binding.labels,
        outcomes="optional",
        like=binding,
    )


def is_series(part: Part) -> bool:
    """Whether an outcome is a series that goes on after its last row."""
    family = family_of(part.family, part.arguments)
    return isinstance(family, StateSpace) or goes_on(family, dict(part.arguments))


@one_thread
def forecast(
    draws: Draws, part: Part, tables: Tables, keep: Keep, generator: np.random.Generator
) -> Conditional:
    """Go on with a series: the new rows follow the last one fitted.

    Raises
    ------
    ModelError
        If the outcome is no series, or a walk whose steps are not normal.
    """
    binding = draws.binding
    family = family_of(part.family, part.arguments)
    if not is_series(part):
        raise ModelError(
            part.definition.message(
                f"its rows depend on each other (`{part.family}`), so new rows cannot be "
                "predicted from it; make it an unknown `per` time, and extend that"
            )
        )
    axis = dict(binding.program.outcome_axes)[part.name][0]
    both = _with_rows(draws, tables)
    p = joint_arguments(draws, both, part, keep)
    seen = np.asarray(binding.arguments["observed", part.name])
    steps = both.program.shape((axis,))[0] - len(seen)
    count = draws.count(keep)
    found = (
        family.ahead(generator, seen, p, steps, count)
        if isinstance(family, StateSpace)
        else ahead(family, generator, seen, p, steps, count)
    )
    outcome = found.paths + found.noises * generator.standard_normal(found.paths.shape)
    return Conditional(
        latent=found.paths, outcome=outcome, mean=found.means, variance=found.variances
    )


def joint_arguments(
    draws: Draws, binding: Binding, part: Part, keep: Keep
) -> dict[str, np.ndarray]:
    """Return the arguments of a joint outcome for each draw."""
    evaluation = draws.evaluation(binding, keep)
    axes = (DRAW, *dict(binding.program.outcome_axes)[part.name])
    named = evaluation.parameters(part)
    values = spread_arguments(on_numpy, part, named, axes, binding.program)
    return {name: np.asarray(value, dtype=float) for name, value in values.items()}


@one_thread
def _along_one_axis(
    along: Along, seen: np.ndarray, draws: int, generator: np.random.Generator
) -> Conditional:
    """Condition a process along one column on its first rows, in linear time."""
    known, total = len(seen), len(along.x)
    every = noisy_readings(along, seen, draws)
    step = draws_at_once(along.kernel, total)
    found = [np.empty((draws, total - known)) for _ in range(3)]
    for first in range(0, draws, step):
        at = slice(first, first + step)
        drawn, moments = sampled(every.some(at), along.x[known:], generator)
        for results, part in zip(found, (drawn, moments.means, moments.variances), strict=True):
            results[at] = part
    latent, mean, variance = found
    centre, noise = along.location[..., known:], along.noise[..., known:]
    units = generator.standard_normal(latent.shape)
    return Conditional(
        latent=latent + centre,
        outcome=latent + centre + noise * units,
        mean=mean + centre,
        variance=variance + noise**2,
    )


@one_thread
def conditioned(
    part: Part,
    family: GaussianProcess,
    p: dict[str, np.ndarray],
    seen: np.ndarray,
    rng: np.random.Generator,
) -> Conditional:
    """Condition a process on its first entries, draw by draw.

    Parameters
    ----------
    seen
        Values of the first entries, shape (known,) or (draws, known).
    """
    size = max(len(value) if value.ndim > 1 else 1 for value in p.values())
    size = max(size, len(seen) if seen.ndim > 1 else 1)
    total, known = p["kernel"].shape[-1], seen.shape[-1]
    new = total - known
    noise2 = np.broadcast_to(p.get("noise", np.zeros(1)), (size, total)) ** 2
    kernel = np.broadcast_to(p["kernel"], (size, total, total))
    centre = np.broadcast_to(p["location"], (size, total))
    values = np.broadcast_to(seen, (size, known))
    results = [np.empty((size, new)) for _ in range(3)]
    for at in range(size):
        whole = kernel[at]
        extra = noise2[at, :known] + 1e-8 * np.mean(np.diagonal(whole))
        factor = on_numpy.cholesky(whole[:known, :known] + np.diag(extra))
        if not np.isfinite(factor).all():
            raise ModelError(
                part.definition.message(
                    "its covariance is not positive definite at a draw of the posterior, so it "
                    "cannot be followed to new places; add a little noise"
                )
            )
        across = np.linalg.solve(factor, whole[:known, known:])
        z = np.linalg.solve(factor, values[at] - centre[at, :known])
        mean = centre[at, known:] + across.T @ z
        cov = whole[known:, known:] - across.T @ across
        spectrum, vectors = np.linalg.eigh(0.5 * (cov + cov.T))
        steps = np.sqrt(np.maximum(spectrum, 0.0)) * rng.standard_normal(new)
        results[0][at] = mean + vectors @ steps
        results[1][at] = mean
        results[2][at] = np.maximum(np.diagonal(cov), 0.0) + noise2[at, known:]
    noise = np.sqrt(noise2[:, known:]) * rng.standard_normal((size, new))
    return Conditional(
        latent=results[0], outcome=results[0] + noise, mean=results[1], variance=results[2]
    )
