"""How a posterior was sampled, as labelled arrays: statistics, adaptation, convergence numbers."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd
import xarray as xr

from millwright.diagnostics.autocorrelation import autocorrelations, integrated_time
from millwright.diagnostics.convergence import (
    bulk_size,
    mean_error,
    quantile_error,
    quantile_size,
    scale_reduction,
    sd_error,
    tail_size,
)
from millwright.diagnostics.precision import draws_needed
from millwright.diagnostics.stationarity import first_against_last, settled_after
from millwright.draws.labelled_draws import Draws
from millwright.errors import ArgumentError
from millwright.fitting.fit import WarmupRecord
from millwright.fitting.record import Record
from millwright.modelling.space import places
from millwright.sampling.methods import FixedLength, NoUTurn
from millwright.sampling.piece import STATISTICS

__all__ = [
    "adaptation",
    "convergence_table",
    "divergences",
    "draws_needed_table",
    "sampling_statistics",
    "warmup_needed",
]


def _known(warmup_record: WarmupRecord | None) -> WarmupRecord:
    if warmup_record is None:
        raise ArgumentError("Nothing is known of how these draws were sampled.")
    return warmup_record


_NAMES_OF_TRAJECTORIES = {name: name for name in STATISTICS} | {"evaluations": "leapfrog_steps"}
_NAMES = {name: name for name in ("log_density", "acceptance", "evaluations")}


def sampling_statistics(
    statistics: Mapping[str, np.ndarray],
    record: Record,
    warmup_record: WarmupRecord | None,
    warmup: bool,
) -> xr.Dataset:
    """Return numbers by chain and iteration, of the kept draws or of the warm-up."""
    if warmup:
        chains_left = _known(warmup_record).chains
        n = min(len(chain.warmup) for chain in chains_left)
        rows = np.stack([chain.warmup[:n] for chain in chains_left])
        statistics = {name: rows[:, :, at] for at, name in enumerate(STATISTICS)}
    chains, draws = np.shape(statistics["log_density"])
    coordinates = {"chain": np.arange(1, chains + 1), "iteration": np.arange(1, draws + 1)}
    trajectories = record.method.get("method") in (NoUTurn.name, FixedLength.name)
    names = _NAMES_OF_TRAJECTORIES if trajectories else _NAMES
    return xr.Dataset(
        {name: (("chain", "iteration"), statistics[key]) for key, name in names.items()},
        coordinates,
    )


def adaptation(draws: Draws, record: Record, warmup_record: WarmupRecord | None) -> xr.Dataset:
    """Return what each chain settled on in its warm-up."""
    states = _known(warmup_record).states
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


def divergences(draws: Draws, warmup_record: WarmupRecord | None) -> pd.DataFrame:
    """Return where trajectories diverged: one row each, one column a number."""
    known = _known(warmup_record)
    numbers = [np.full(len(c.failed), n) for n, c in enumerate(known.chains, start=1)]
    failed = [chain.failed.astype(int) for chain in known.chains]
    return pd.DataFrame(
        {
            "chain": np.concatenate(numbers),
            "iteration": np.concatenate(failed),
            **known.divergent_values(draws),
        }
    )


def _refuse_none(single: Mapping[str, np.ndarray]) -> None:
    if not single:
        raise ArgumentError("Name at least one quantity.")


def convergence_table(single: Mapping[str, np.ndarray]) -> pd.DataFrame:
    """Return all convergence numbers of named draws (chains, draws), one row a number."""
    _refuse_none(single)
    x = np.stack(list(single.values()), axis=-1)
    most = 1 if x.shape[1] > 1 else 0
    with np.errstate(invalid="ignore", divide="ignore"):
        drift = np.abs(first_against_last(x))
        return pd.DataFrame(
            {
                "R-hat": scale_reduction(x),
                "effective draws, middle": bulk_size(x),
                "effective draws, tails": tail_size(x),
                "effective draws, 5 % quantile": quantile_size(x, 0.05),
                "effective draws, 95 % quantile": quantile_size(x, 0.95),
                "Monte Carlo error of mean": mean_error(x),
                "Monte Carlo error of sd": sd_error(x),
                "Monte Carlo error of 2.5 % quantile": quantile_error(x, 0.025),
                "Monte Carlo error of 97.5 % quantile": quantile_error(x, 0.975),
                "autocorrelation at lag 1": [
                    float(autocorrelations(value, most)[most]) for value in single.values()
                ],
                "integrated autocorrelation time": integrated_time(x),
                "first against last, standard errors": np.max(drift, axis=0),
            },
            index=pd.Index(list(single), name="quantity"),
        )


def draws_needed_table(
    single: Mapping[str, np.ndarray], within: float, quantile: float | None
) -> pd.DataFrame:
    """Return Monte Carlo standard errors now, and the draws that a smaller one needs."""
    if isinstance(within, bool) or not isinstance(within, int | float) or not within > 0:
        raise ArgumentError(f"`within` is a standard error above zero, not {within!r}.")
    if quantile is not None and not (isinstance(quantile, float) and 0 < quantile < 1):
        raise ArgumentError(f"`quantile` lies between 0 and 1, such as 0.025, not {quantile!r}.")
    _refuse_none(single)
    x = np.stack(list(single.values()), axis=-1)
    error, needed = draws_needed(x, float(within), quantile)
    now = x.shape[1]
    more = np.where(np.isfinite(needed), np.maximum(needed - now, 0), np.nan)
    return pd.DataFrame(
        {
            "Monte Carlo error now": error,
            "draws a chain now": now,
            "draws a chain needed": needed,
            "still to come": more,
        },
        index=pd.Index(list(single), name="quantity"),
    )


def warmup_needed(
    statistics: Mapping[str, np.ndarray], warmup_record: WarmupRecord | None
) -> pd.DataFrame:
    """Return how much of its warm-up each chain needed, by its log density."""
    chains_left = _known(warmup_record).chains
    n = min(len(chain.warmup) for chain in chains_left)
    at = STATISTICS.index("log_density")
    warmup = np.stack([chain.warmup[:n, at] for chain in chains_left])
    return pd.DataFrame(
        {"warm-up": n, "needed": settled_after(warmup, np.asarray(statistics["log_density"]))},
        index=pd.RangeIndex(1, len(chains_left) + 1, name="chain"),
    )
