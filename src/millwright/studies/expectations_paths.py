"""Series on stable paths, draw by draw: simulated, as answers to shocks, and going on."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.distributions.kalman import last_state
from millwright.expectations.readings import series_of
from millwright.sampling.compiling import compiled
from millwright.studies.autoregression_paths import Ahead, drawn_given

if TYPE_CHECKING:
    from millwright.studies.expectations_parts import ExpectationsModel, Worlds

__all__ = [
    "answers_of",
    "covariance_of",
    "forecast_draws",
    "readings_of",
    "rest_covariance",
]

_DOUBLINGS = 26


def answers_of(worlds: Worlds, horizon: int) -> np.ndarray:
    """Return answers to shocks of one sd, (draws, horizon + 1, variables, shocks)."""
    found = [worlds.impact]
    for _ in range(horizon):
        found.append(worlds.transition @ found[-1])
    return np.stack(found, axis=1)


def readings_of(
    worlds: Worlds, parts: ExpectationsModel, count: int, generator: np.random.Generator
) -> np.ndarray:
    """Draw readings at so many times, the first from the distribution at rest.

    Returns
    -------
    (draws, times, readings); NaN where there is no single stable path.
    """
    steps = worlds.impact @ np.swapaxes(worlds.impact, -1, -2)
    state = _drawn(rest_covariance(worlds.transition, steps), generator)
    noise = generator.standard_normal((count, *worlds.sizes.shape))
    errors = generator.standard_normal((len(worlds), count, len(parts.variables)))
    variables = list(parts.readings.variables)
    found = np.empty((len(worlds), count, len(variables)))
    for at in range(count):
        state = np.einsum("dij,dj->di", worlds.transition, state)
        state += np.einsum("dij,dj->di", worlds.impact, noise[at])
        found[:, at] = state[:, variables]
    return found + worlds.levels[:, None] + worlds.errors[:, None] * errors


def rest_covariance(transition: np.ndarray, steps: np.ndarray) -> np.ndarray:
    """Return the covariances that stay, (draws, n, n), by doubling."""
    total, power = steps, transition
    for _ in range(_DOUBLINGS):
        total = total + power @ total @ np.swapaxes(power, -1, -2)
        power = power @ power
    return total


def covariance_of(worlds: Worlds, parts: ExpectationsModel, draw: int, times: int) -> np.ndarray:
    """Return the covariance of all readings of so many times in a row, by one draw.

    Returns
    -------
    (times readings, times readings), the readings of each time one after the other.
    """
    transition, impact = worlds.transition[draw], worlds.impact[draw]
    at_rest = rest_covariance(transition[None], (impact @ impact.T)[None])[0]
    variables = list(parts.readings.variables)
    count = len(variables)
    whole = np.zeros((times, count, times, count))
    moved = at_rest
    for lag in range(times):
        block = moved[np.ix_(variables, variables)]
        for first in range(times - lag):
            whole[first + lag, :, first, :] = block
            whole[first, :, first + lag, :] = block.T
        moved = transition @ moved
    found = whole.reshape(times * count, times * count)
    return found + np.diag(np.tile(worlds.errors[draw] ** 2, times))


def _drawn(spread: np.ndarray, generator: np.random.Generator) -> np.ndarray:
    """Draw from normals around 0 with singular covariances, (draws, n)."""
    return np.einsum("dij,dj->di", _root(spread), generator.standard_normal(spread.shape[:-1]))


def _root(spread: np.ndarray) -> np.ndarray:
    """Return square roots of covariances that may be singular."""
    whole = np.where(np.isfinite(spread), spread, 0.0)
    values, vectors = np.linalg.eigh(0.5 * (whole + np.swapaxes(whole, -1, -2)))
    return np.asarray(vectors * np.sqrt(values.clip(0.0))[..., None, :])


def forecast_draws(
    worlds: Worlds,
    parts: ExpectationsModel,
    stated: np.ndarray,
    generator: np.random.Generator,
) -> Ahead:
    """Draw the readings after the last time, with the normal behind each draw.

    Parameters
    ----------
    stated
        Readings that are known, (steps, readings); NaN where none is.
    """
    kept = list(parts.readings.kept)
    inner = np.ix_(range(len(worlds)), kept, kept)
    transition = worlds.transition[inner]
    impact = worlds.impact[:, kept]
    mean, spread = _last(worlds, parts, transition, impact @ np.swapaxes(impact, -1, -2))
    places = list(parts.readings.places)
    horizon, count = stated.shape
    draws, k, shocks = impact.shape
    # What is left to chance: the state at the last time, shocks, errors of reading.
    root = np.zeros((draws, k, k + horizon * (shocks + count)))
    root[:, :, :k] = _root(spread)
    means = np.empty((draws, horizon, count))
    spreads = np.empty((draws, horizon, count, root.shape[-1]))
    for at in range(horizon):
        mean = np.einsum("dij,dj->di", transition, mean)
        root = transition @ root
        root[:, :, k + at * shocks : k + (at + 1) * shocks] += impact
        means[:, at] = mean[:, places] + worlds.levels
        spreads[:, at] = root[:, places]
        own = k + horizon * shocks + at * count
        for j in range(count):
            spreads[:, at, j, own + j] = worlds.errors[:, j]
    return drawn_given(means, spreads.reshape(draws, horizon * count, -1), stated, generator)


def _last(
    worlds: Worlds, parts: ExpectationsModel, transition: np.ndarray, steps: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Return mean and covariance of the kept variables at the last time, draw by draw."""
    values = parts.data.values
    read = ~np.isnan(values)
    around = np.where(read, values - worlds.levels[:, None], 0.0)
    arguments = (transition, steps, worlds.errors, around, read)
    mean, spread = compiled(_last_of_each, parts.readings.places, arguments)(*arguments)
    return np.asarray(mean), np.asarray(spread)


def _last_of_each(
    places: tuple[int, ...], transition: Any, steps: Any, errors: Any, around: Any, read: Any
) -> Any:
    import jax

    def last(path: Any, move: Any, error: Any, values: Any) -> Any:
        return last_state(series_of(places, path, move, error, values, read))

    return jax.vmap(last)(transition, steps, errors, around)
