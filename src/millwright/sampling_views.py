"""How a posterior was sampled, as labelled arrays: statistics, adaptation, divergences."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd
import xarray as xr

from millwright.draws.labelled_draws import Draws, from_positions
from millwright.errors import ArgumentError
from millwright.job import Trail
from millwright.modelling.space import places
from millwright.record import Record
from millwright.sampling.block import STATISTICS

__all__ = ["adaptation", "divergences", "sampling_statistics"]


def _known(trail: Trail | None) -> Trail:
    if trail is None:
        raise ArgumentError("Nothing is known of how these draws were sampled.")
    return trail


def sampling_statistics(
    statistics: Mapping[str, np.ndarray], trail: Trail | None, warmup: bool
) -> xr.Dataset:
    """Return numbers by chain and draw, of the kept draws or of the warm-up."""
    if warmup:
        chains_left = _known(trail).chains
        n = min(len(chain.warmup) for chain in chains_left)
        rows = np.stack([chain.warmup[:n] for chain in chains_left])
        statistics = {name: rows[:, :, at] for at, name in enumerate(STATISTICS)}
    chains, draws = np.shape(statistics["log_density"])
    coordinates = {"chain": np.arange(1, chains + 1), "draw": np.arange(1, draws + 1)}
    return xr.Dataset(
        {name: (("chain", "draw"), statistics[name]) for name in statistics}, coordinates
    )


def adaptation(draws: Draws, record: Record, trail: Trail | None) -> xr.Dataset:
    """Return what each chain settled on in its warm-up."""
    states = _known(trail).states
    names = coordinate_names(draws)
    scales = [scale for unit in sorted(states) for scale in _scales(states[unit])]
    chains = record.chains
    found = {
        "step_size": ("chain", [chain["step_size"] for chain in chains]),
        "target_acceptance": (
            "chain",
            [np.nan if c["target_acceptance"] is None else c["target_acceptance"] for c in chains],
        ),
        "metric": ("chain", [chain["metric"] for chain in chains]),
        "warmup_steps": ("chain", [chain["warmup_steps"] for chain in chains]),
    }
    if len(scales) == len(chains):
        found["scale"] = (("chain", "coordinate"), np.stack(scales))  # type: ignore[assignment]
    labels = {"chain": np.arange(1, len(chains) + 1), "coordinate": names}
    return xr.Dataset(found, labels)


def _scales(state: object) -> list[np.ndarray]:
    """Return the standard deviations that the steps of each chain of a unit are fitted to."""
    if hasattr(state, "deviations"):
        return [state.deviations]
    if hasattr(state, "factors") and hasattr(state, "powers"):
        return [np.sqrt(np.sum(state.factors[0] ** 2, axis=1))]
    factors = getattr(state, "factors", None)
    if factors is not None:
        return [np.sqrt(np.sum(factor**2, axis=1)) for factor in factors]
    if hasattr(state, "factor"):
        return [np.sqrt(np.sum(state.factor**2, axis=1))]
    return []


def coordinate_names(draws: Draws) -> list[str]:
    """Name the sampler's coordinates: by the label of the value each belongs to, or numbered."""
    names: list[str] = []
    for place in places(draws.binding.program):
        cells = list(draws.cells(place.name))
        if len(cells) != place.size:
            cells = [f"[{at + 1}]" for at in range(place.size)]
        names += [place.name + cell for cell in cells]
    return names


def divergences(draws: Draws, trail: Trail | None) -> pd.DataFrame:
    """Return where trajectories diverged: one row each, one column a number."""
    frames = []
    for number, chain in enumerate(_known(trail).chains, start=1):
        values: dict[str, np.ndarray] = {}
        if len(chain.failures):
            found = from_positions(draws.binding, chain.failures[None])
            values = {name: v[0] for name, v in found.single(_unknowns(draws)).items()}
        at = {"chain": np.full(len(chain.failed), number), "draw": chain.failed.astype(int)}
        frames.append(pd.DataFrame({**at, **values}))
    filled = [frame for frame in frames if len(frame)]
    if filled:
        return pd.concat(filled, ignore_index=True)
    columns = list(draws.single(_unknowns(draws)))
    return pd.DataFrame(columns=["chain", "draw", *columns])


def _unknowns(draws: Draws) -> list[str]:
    return [part.name for part in draws.binding.program.unknowns]
