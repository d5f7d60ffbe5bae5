"""How a posterior was sampled, as labelled arrays: statistics, adaptation, divergences."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd
import xarray as xr

from millwright.draws.labelled_draws import Draws
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
    scales = [scale for unit in sorted(states) for scale in states[unit].scales]
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
    known = _known(trail)
    numbers = [np.full(len(c.failed), n) for n, c in enumerate(known.chains, start=1)]
    failed = [chain.failed.astype(int) for chain in known.chains]
    return pd.DataFrame(
        {
            "chain": np.concatenate(numbers),
            "draw": np.concatenate(failed),
            **known.divergent_values(draws),
        }
    )
