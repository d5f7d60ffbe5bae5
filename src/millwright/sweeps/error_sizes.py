"""Sds of errors that drift: random walks of their logs."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled
from millwright.sweeps.paths import draw_path
from millwright.sweeps.problem import set_sizes
from millwright.sweeps.steps import draw_steps, redraw_steps

__all__ = ["draw_sizes", "steady_sizes"]

# The log of a squared standard normal as a mixture of ten normals: Omori, Chib, Shephard and
# Nakajima (2007), table 1.
_SHARES = np.array(
    [0.00609, 0.04775, 0.13057, 0.20674, 0.22715, 0.18842, 0.12047, 0.05591, 0.01575, 0.00115]
)
_MEANS = np.array(
    [1.92677, 1.34744, 0.73504, 0.02266, -0.85173, -1.97278, -3.46788, -5.55246, -8.68384, -14.65]
)
_VARIANCES = np.array(
    [0.11265, 0.17788, 0.26768, 0.40611, 0.62699, 0.98583, 1.57469, 2.54498, 4.16591, 7.33342]
)
# Squares of errors are kept above this share of the prior's, so that their logs are finite.
_LEAST = 1e-8


@compiled
def draw_sizes(
    left: np.ndarray,
    start_mean: np.ndarray,
    start_variance: np.ndarray,
    step_scale: np.ndarray,
    generator: np.random.Generator,
    sizes: np.ndarray,
    log_sizes: np.ndarray,
    start: np.ndarray,
    step: np.ndarray,
) -> None:
    """Draw the paths of log sds, what they start from, and how far they step.

    Squared errors are linear in the log sds but for an error that is nearly a mixture of normals
    (Kim, Shephard and Chib 1998). A path drawn given the components is a proposal, accepted by
    the ratio of the exact density to that of the mixture, so that draws are exact. It is proposed
    with the sd of steps held, then with the path in units of its steps held.

    Parameters
    ----------
    left
        Independent errors, (times, n).
    start_mean, start_variance
        Of the normal prior of log sds before the first step, (n,).
    step_scale
        Of the half-normal prior of the sds of steps, (n,).
    sizes
        Written: sds, (times, n).
    log_sizes, start, step
        Read and written: log sds, (times, n), before the first step, and sds of steps, (n,).
    """
    times, series = left.shape
    regressors, rows, still = np.ones((times, 1)), np.ones((1, 1)), np.zeros(0)
    readings, spreads = np.empty((times, 1)), np.empty((times, 1))
    path, proposed = np.empty((times, 1)), np.empty((times, 1))
    squares, alike = np.empty(times), np.ones((times, 1))
    for k in range(series):
        mean, variance = start_mean[k : k + 1].copy(), start_variance[k : k + 1].copy()
        scale = step_scale[k : k + 1].copy()
        own_start, own_step = start[k : k + 1].copy(), step[k : k + 1].copy()
        for t in range(times):
            path[t, 0] = log_sizes[t, k]
            squares[t] = left[t, k] ** 2
        least = _LEAST * np.exp(2 * mean[0])
        for form in range(2):
            before = _components(squares, least, path, generator, readings, spreads)
            next_start, next_step = own_start.copy(), own_step.copy()
            for t in range(times):
                proposed[t, 0] = path[t, 0]
            if form == 0:
                draw_path(
                    readings,
                    regressors,
                    mean,
                    variance,
                    own_step,
                    alike,
                    rows,
                    spreads,
                    generator,
                    proposed,
                    next_start,
                )
            else:
                draw_steps(
                    readings,
                    regressors,
                    mean,
                    variance,
                    scale,
                    rows,
                    spreads,
                    generator,
                    proposed,
                    next_start,
                    next_step,
                    still,
                )
            after = _excess(squares, least, proposed)
            if np.log(generator.random()) < after - before:
                own_start[0], own_step[0] = next_start[0], next_step[0]
                for t in range(times):
                    path[t, 0] = proposed[t, 0]
        redraw_steps(path, own_start, scale, alike, generator, own_step)
        start[k], step[k] = own_start[0], own_step[0]
        for t in range(times):
            log_sizes[t, k] = path[t, 0]
    set_sizes(log_sizes, sizes)


@compiled
def _logs(value: float, logs: np.ndarray) -> float:
    """Write log densities of the mixture's components, and return that of their sum."""
    most = -np.inf
    for i in range(len(logs)):
        away = value - _MEANS[i]
        logs[i] = np.log(_SHARES[i]) - 0.5 * np.log(_VARIANCES[i]) - 0.5 * away**2 / _VARIANCES[i]
        most = max(most, logs[i])
    total = 0.0
    for i in range(len(logs)):
        total += np.exp(logs[i] - most)
    return most + np.log(total)


@compiled
def _components(
    squares: np.ndarray,
    least: float,
    path: np.ndarray,
    generator: np.random.Generator,
    readings: np.ndarray,
    spreads: np.ndarray,
) -> float:
    """Draw a component for each time, and write what it makes a reading of the log sd, and its sd.

    Returns
    -------
    As `_excess`.
    """
    logs = np.empty(len(_SHARES))
    excess = 0.0
    for t in range(len(squares)):
        value = np.log(squares[t] + least)
        total = _logs(value - 2 * path[t, 0], logs)
        excess += _log_density(squares[t], path[t, 0]) - total
        left, chosen = generator.random(), 0
        for i in range(len(logs)):
            chosen = i
            left -= np.exp(logs[i] - total)
            if left < 0:
                break
        readings[t, 0] = 0.5 * (value - _MEANS[chosen])
        spreads[t, 0] = 0.5 * np.sqrt(_VARIANCES[chosen])
    return excess


@compiled
def _excess(squares: np.ndarray, least: float, path: np.ndarray) -> float:
    """Return the log density of errors over that which the mixture gives them."""
    logs = np.empty(len(_SHARES))
    excess = 0.0
    for t in range(len(squares)):
        value = np.log(squares[t] + least)
        excess += _log_density(squares[t], path[t, 0]) - _logs(value - 2 * path[t, 0], logs)
    return excess


@compiled
def _log_density(square: float, log_size: float) -> float:
    return -log_size - 0.5 * square * np.exp(-2 * log_size)


@compiled
def steady_sizes(
    left: np.ndarray,
    step_scale: np.ndarray,
    log_sizes: np.ndarray,
    start: np.ndarray,
    step: np.ndarray,
    still: np.ndarray,
) -> None:
    """Write log densities of sds of steps of 0 given all else, over those of the prior.

    The path in units of its steps is held; the density of the signed sd follows by the trapezoid
    rule, fine enough for the narrowest that so many times can make it.

    Parameters
    ----------
    left
        Independent errors, (times, n).
    log_sizes, start, step
        As `draw_sizes` has them.
    still
        Written, (n,).
    """
    times, series = left.shape
    for k in range(series):
        scale = step_scale[k]
        half = max(200, int(np.ceil(8 * scale * times)))
        width = 6 * scale / half
        logs = np.empty(2 * half + 1)
        most = -np.inf
        for i in range(len(logs)):
            signed = width * (i - half)
            total = -0.5 * (signed / scale) ** 2
            for t in range(times):
                unit = (log_sizes[t, k] - start[k]) / max(step[k], _LEAST * scale)
                total += _log_density(left[t, k] ** 2, start[k] + signed * unit)
            logs[i] = total
            most = max(most, total)
        whole = 0.0
        for i in range(len(logs)):
            whole += np.exp(logs[i] - most)
        still[k] = (
            logs[half] - most - np.log(whole * width) + np.log(scale) + 0.5 * np.log(2 * np.pi)
        )
