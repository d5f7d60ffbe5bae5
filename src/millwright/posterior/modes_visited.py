"""How the draws of a fit are spread over the modes that a search before sampling found."""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.modes import Modes
from millwright.draws.labelled_draws import Draws, from_positions
from millwright.fitting.record import Record
from millwright.modelling.simulate import positions_from
from millwright.sampling.peaks import Peaks

__all__ = ["modes_visited"]

_MOST_DRAWS = 2000


def modes_visited(draws: Draws, record: Record) -> Modes:
    """Return the modes with the share of each chain's draws around each."""
    if not record.modes:
        box = draws.binding.program.black_boxes
        chains = record.method.get("method") in ("random_walk", "ensemble", "tempering")
        if record.method.get("method") == "fixed_length":
            return Modes(why_not="of many fits only a few are searched")
        return Modes(why_not="the model has no gradient" if box and chains else "")
    peaks = Peaks.from_record(record.modes)
    if not peaks.climbs and peaks.cut:
        return Modes(why_not="so short a warm-up leaves no time for one optimisation")
    if not peaks.several:
        return Modes(climbs=peaks.climbs, cut=peaks.cut, peaks=int(record.modes["peaks"]))
    which = nearest_peaks(draws, peaks)
    count = len(peaks.positions)
    shares = np.stack([(which == at).mean(axis=1) for at in range(count)], axis=1)
    return Modes(
        climbs=peaks.climbs,
        cut=peaks.cut,
        peaks=count,
        places=_places(draws, peaks),
        masses=peaks.masses,
        errors=peaks.errors,
        shares=shares,
        moves=(np.diff(which, axis=1) != 0).sum(axis=1),
        tempered=record.method.get("method") == "tempering",
    )


def nearest_peaks(draws: Draws, peaks: Peaks) -> np.ndarray:
    """Return the number of the peak that each draw lies around, shape (chains, some draws)."""
    chains, n = draws.shape
    step = max(1, -(-chains * n // _MOST_DRAWS))
    some = Draws(draws.binding, {name: value[:, ::step] for name, value in draws.values.items()})
    positions = positions_from(draws.binding, some.evaluation())
    return np.argmin(_distances(positions, peaks), axis=0).reshape(chains, -1)


def _distances(positions: np.ndarray, peaks: Peaks) -> np.ndarray:
    """Return minus twice the log density of each peak's own normal, shape (peaks, draws)."""
    found = []
    for at, centre in enumerate(peaks.positions):
        apart = positions - centre
        if not len(peaks.factors):
            found.append(np.sum(apart**2, axis=1))
            continue
        factor = peaks.factors[at]
        z = np.linalg.solve(factor, apart.T)
        size = 2 * np.log(np.abs(np.diag(factor))).sum() - 2 * peaks.log_densities[at]
        found.append(np.sum(z * z, axis=0) + size)
    return np.stack(found)


def _places(draws: Draws, peaks: Peaks) -> tuple[str, ...]:
    """Name each peak by the number that tells the peaks apart best."""
    names = [part.name for part in draws.binding.program.unknowns]
    there = from_positions(draws.binding, peaks.positions[None]).single(names)
    drawn = draws.single(names)
    widths = {name: np.median(np.std(values, axis=1)) for name, values in drawn.items()}
    gaps = {
        name: float(np.ptp(values[0]) / (widths[name] + 1e-12 * np.ptp(values[0]) + 1e-300))
        for name, values in there.items()
    }
    best = max(gaps, key=lambda name: gaps[name])
    return tuple(f"`{best}` near {value:.3g}" for value in there[best][0])
