"""Log evidences after each of several numbers of rows, by sequential Monte Carlo over the rows.

Chopin (2002), "A sequential particle filter method for static models", Biometrika 89: particles
from the prior are weighed by each new row; where few stay effective they are resampled and moved.
A row that changes much is taken in by powers, as in `annealed`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from scipy.special import logsumexp

from millwright.evidence.annealed import (
    LEAST_ERROR,
    RUNS,
    TOO_SMALL,
    SplitValues,
    finite,
    moved,
    next_power,
    resampled,
)

__all__ = ["AlongRows", "Particles", "along_rows"]

PARTICLES = 4000
_EFFECTIVE = 0.6
"""Share of particles that must be effective after a row: a little more than within it."""
_MOST_POWERS = 400


@dataclass(frozen=True, kw_only=True)
class Particles:
    """Weighted draws from the posterior after some rows: positions, and log weights."""

    positions: np.ndarray = field(repr=False)
    log_weights: np.ndarray = field(repr=False)


@dataclass(frozen=True, kw_only=True)
class AlongRows:
    """Log evidences after each number of rows, by several runs.

    Attributes
    ----------
    log_values, standard_errors
        Mean over the runs, and its error from their spread, of shape (steps,).
    particles
        After each step, those of the first run.
    """

    log_values: np.ndarray
    standard_errors: np.ndarray
    particles: tuple[Particles, ...] = field(repr=False)


def along_rows(
    draw_prior: Callable[[np.random.Generator, int], np.ndarray],
    split_at: Callable[[int], SplitValues],
    counts: Sequence[int],
    generator: np.random.Generator,
    times: int = RUNS,
) -> AlongRows:
    """Estimate log evidences after each number of rows.

    Parameters
    ----------
    draw_prior
        `draw_prior(generator, n)` gives positions drawn from the prior, shape (n, dimension).
    split_at
        `split_at(count)` gives log prior and log likelihood of the first rows.
    counts
        Numbers of rows, increasing.
    times
        Number of runs; of a single one the error is not known.
    """
    runs = []
    kept: list[Particles] = []
    for run in range(times):
        keep = kept if run == 0 else None
        runs.append(_run(draw_prior, split_at, counts, generator, keep))
    values = np.array(runs)
    errors = np.full(len(counts), np.nan)
    if times > 1:
        with np.errstate(invalid="ignore"):
            spread = values.std(axis=0, ddof=1)
        errors = np.maximum(LEAST_ERROR, TOO_SMALL * spread / np.sqrt(times))
    return AlongRows(
        log_values=logsumexp(values, axis=0) - np.log(times),
        standard_errors=errors,
        particles=tuple(kept),
    )


def _run(
    draw_prior: Callable[[np.random.Generator, int], np.ndarray],
    split_at: Callable[[int], SplitValues],
    counts: Sequence[int],
    generator: np.random.Generator,
    keep: list[Particles] | None,
) -> list[float]:
    at = draw_prior(generator, PARTICLES)
    last = split_at(0)
    before = finite(*last(at))[1]
    logs = np.full(len(at), -np.log(len(at)))
    total, size = 0.0, 1.0
    result: list[float] = []
    for count in counts:
        following = split_at(count)
        gains = _Gains(last, following)
        after = finite(*following(at))[1]
        power = 0.0
        for _ in range(_MOST_POWERS):
            more = next_power(after - before, power, logs)
            logs = logs + (more - power) * (after - before)
            total += float(logsumexp(logs))
            logs = logs - logsumexp(logs)
            power = more
            if power >= 1.0:
                break
            at = at[resampled(logs, generator)]
            at, _, gain, size = moved(at, *gains(at), power, size, gains, generator)
            logs = np.full(len(at), -np.log(len(at)))
            before = finite(*last(at))[1]
            after = before + gain
        else:
            return [*result, *[-np.inf] * (len(counts) - len(result))]
        if _effective(logs) < _EFFECTIVE * len(logs):
            at = at[resampled(logs, generator)]
            here = finite(*following(at))
            at, _, after, size = moved(at, *here, 1.0, size, following, generator)
            logs = np.full(len(at), -np.log(len(at)))
        before, last = after, following
        result.append(total)
        if keep is not None:
            keep.append(Particles(positions=at, log_weights=logs))
    return result


@dataclass(frozen=True)
class _Gains:
    """Log density of the rows before, and what the new rows add to it."""

    before: SplitValues
    after: SplitValues

    def __call__(self, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        prior, likelihood = finite(*self.before(at))
        return prior + likelihood, finite(*self.after(at))[1] - likelihood


def _effective(logs: np.ndarray) -> float:
    """Return the effective number of particles with these normalised log weights."""
    return float(np.exp(-logsumexp(2 * logs)))
