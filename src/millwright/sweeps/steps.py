"""How far coefficients step: drawn with the path standardised, then with the path as it is."""

from __future__ import annotations

import numpy as np

from millwright.subsets.compiling import compiled

__all__ = ["draw_steps", "draw_stretches", "redraw_steps"]

_LEAST = 1e-12


@compiled
def _weighted(
    values: np.ndarray,
    owner: np.ndarray,
    outcomes: np.ndarray,
    rows: np.ndarray,
    sizes: np.ndarray,
) -> tuple[np.ndarray, np.ndarray]:
    """Return cross products of columns, and outcomes, both weighted by the errors' precision."""
    times, series = outcomes.shape
    total = len(owner)
    drifting = len(sizes) > 1
    precision = np.zeros((total, total))
    weighted = np.zeros((times, series))
    scaled = values.copy()
    products = precision if drifting else scaled @ scaled.T
    for k in range(series):
        if drifting:
            for a in range(total):
                for t in range(times):
                    scaled[a, t] = values[a, t] / sizes[t, k]
            products = scaled @ scaled.T
        factor = 1.0 if drifting else 1 / sizes[0, k] ** 2
        for a in range(total):
            for b in range(total):
                both = rows[k, owner[a]] * rows[k, owner[b]]
                precision[a, b] += factor * both * products[a, b]
        for t in range(times):
            own = 0.0
            for j in range(k + 1):
                own += rows[k, j] * outcomes[t, j]
            own /= sizes[min(t, len(sizes) - 1), k] ** 2
            for j in range(k + 1):
                weighted[t, j] += rows[k, j] * own
    return precision, weighted


@compiled
def draw_steps(
    outcomes: np.ndarray,
    regressors: np.ndarray,
    start_mean: np.ndarray,
    start_variance: np.ndarray,
    step_scale: np.ndarray,
    rows: np.ndarray,
    sizes: np.ndarray,
    generator: np.random.Generator,
    path: np.ndarray,
    start: np.ndarray,
    step: np.ndarray,
    still: np.ndarray,
) -> None:
    """Draw starts and signed sds of steps jointly, the path in units of its steps being held.

    Given that path the model is a linear regression on the regressors and on each times its path,
    with a normal prior of both (Fruehwirth-Schnatter and Wagner 2010), so that sds near 0 do not
    make the chain stick.

    Parameters
    ----------
    rows, sizes
        As for `draw_path`.
    path, start, step
        Read and written.
    still
        Written, unless its length is 0: log densities of sds of 0 over those of their priors.
    """
    times, series = outcomes.shape
    m = regressors.shape[1]
    count = series * m
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
    precision, weighted = _weighted(values, owner, outcomes, rows, sizes)
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
    if len(still) > 0:
        for a in range(count):
            still[a] = 0.0
        for k in range(movers):
            at, scale = count + k, step_scale[moving[k]]
            variance = 0.0
            for a in range(total):
                variance += turn[a, at] ** 2
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
    stretch: np.ndarray,
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
        moved = ((path[0, a] - start[a]) / stretch[0, a]) ** 2
        for t in range(1, times):
            moved += ((path[t, a] - path[t - 1, a]) / stretch[t, a]) ** 2
        # A path that was never moved says nothing of its steps.
        if moved == 0.0:
            continue
        shape = 0.5 * times - 0.5
        variance = 0.5 * moved / generator.standard_gamma(shape)
        ratio = -0.5 * (variance - step[a] ** 2) / step_scale[a] ** 2
        if np.log(generator.random()) < ratio:
            step[a] = np.sqrt(variance)


@compiled
def draw_stretches(
    path: np.ndarray,
    start: np.ndarray,
    step: np.ndarray,
    freedom: np.ndarray,
    generator: np.random.Generator,
    stretch: np.ndarray,
) -> None:
    """Draw what steps are longer by: a Student-t step is normal given it (Andrews, Mallows 1974).

    Parameters
    ----------
    freedom
        Degrees of freedom of the steps, (coefficients,); infinite for normal ones.
    stretch
        Written, (times, coefficients); 1 of normal steps stays.
    """
    times, count = path.shape
    for a in range(count):
        if step[a] == 0.0 or np.isinf(freedom[a]):
            continue
        for t in range(times):
            before = start[a] if t == 0 else path[t - 1, a]
            squared = ((path[t, a] - before) / step[a]) ** 2
            rate = 0.5 * (freedom[a] + squared)
            stretch[t, a] = np.sqrt(rate / generator.standard_gamma(0.5 * (freedom[a] + 1)))
