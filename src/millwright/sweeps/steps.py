"""How far coefficients step: drawn with the path standardised, then with the path as it is."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled

__all__ = ["draw_steps", "redraw_steps"]

_LEAST = 1e-12


@compiled
def draw_steps(
    outcomes: np.ndarray,
    regressors: np.ndarray,
    start_mean: np.ndarray,
    start_variance: np.ndarray,
    step_scale: np.ndarray,
    errors: np.ndarray,
    generator: np.random.Generator,
    path: np.ndarray,
    start: np.ndarray,
    step: np.ndarray,
    still: np.ndarray,
    told: bool,
) -> None:
    """Draw starts and signed sds of steps jointly, the path in units of its steps being held.

    Given that path the model is a linear regression on the regressors and on each times its path,
    with a normal prior of both (Fruehwirth-Schnatter and Wagner 2010), so that sds near 0 do not
    make the chain stick.

    Parameters
    ----------
    path, start, step
        Read and written.
    still, told
        Where `told` is true, the log density of a sd of 0 over that of its prior is written.
    """
    times, series = outcomes.shape
    m = regressors.shape[1]
    count = series * m
    inverse = np.linalg.inv(errors)
    unit = np.zeros((times, count))
    moving = np.zeros(count, np.int64)
    movers = 0
    for a in range(count):
        if step_scale[a] > 0:
            moving[movers] = a
            movers += 1
            size = max(step[a], _LEAST * step_scale[a])
            for t in range(times):
                unit[t, a] = (path[t, a] - start[a]) / size
    # Columns of an equation: its regressors, then those that move times their paths.
    total = count + movers
    owner = np.empty(total, np.int64)
    values = np.empty((total, times))
    for a in range(count):
        owner[a] = a // m
        for t in range(times):
            values[a, t] = regressors[t, a % m]
    for k in range(movers):
        a = moving[k]
        owner[count + k] = a // m
        for t in range(times):
            values[count + k, t] = regressors[t, a % m] * unit[t, a]
    precision = values @ values.T
    for a in range(total):
        for b in range(total):
            precision[a, b] *= inverse[owner[a], owner[b]]
    weighted = outcomes @ inverse
    pull = np.empty(total)
    for a in range(total):
        pull[a] = 0.0
        for t in range(times):
            pull[a] += values[a, t] * weighted[t, owner[a]]
    for a in range(count):
        precision[a, a] += 1 / start_variance[a]
        pull[a] += start_mean[a] / start_variance[a]
    for k in range(movers):
        precision[count + k, count + k] += 1 / step_scale[moving[k]] ** 2
    # One inverse serves for mean, draw and variances; solving compiles for ten seconds.
    turn = np.linalg.inv(np.linalg.cholesky(precision))
    mean = turn.T @ (turn @ pull)
    if told:
        for a in range(count):
            still[a] = 0.0
        for k in range(movers):
            at, scale = count + k, step_scale[moving[k]]
            variance = (turn[:, at] ** 2).sum()
            still[moving[k]] = (
                -0.5 * mean[at] ** 2 / variance - 0.5 * np.log(variance) + np.log(scale)
            )
    noise = np.empty(total)
    for a in range(total):
        noise[a] = generator.standard_normal()
    drawn = mean + turn.T @ noise
    for a in range(count):
        start[a] = drawn[a]
        if step_scale[a] == 0:
            for t in range(times):
                path[t, a] = start[a]
    for k in range(movers):
        a = moving[k]
        signed = drawn[count + k]
        step[a] = abs(signed)
        for t in range(times):
            path[t, a] = start[a] + signed * unit[t, a]


@compiled
def redraw_steps(
    path: np.ndarray,
    start: np.ndarray,
    step_scale: np.ndarray,
    generator: np.random.Generator,
    step: np.ndarray,
) -> None:
    """Draw sds of steps again, the path as it is being held (interweaving, Yu and Meng 2011).

    An inverse-gamma proposal that leaves only the prior's exponential to be accepted.
    """
    times, count = path.shape
    for a in range(count):
        if step_scale[a] == 0:
            continue
        moved = (path[0, a] - start[a]) ** 2
        for t in range(1, times):
            moved += (path[t, a] - path[t - 1, a]) ** 2
        shape = 0.5 * times - 0.5
        variance = 0.5 * moved / generator.standard_gamma(shape)
        ratio = -0.5 * (variance - step[a] ** 2) / step_scale[a] ** 2
        if np.log(generator.random()) < ratio:
            step[a] = np.sqrt(variance)
