"""The normal approximation of a posterior, around its mode."""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.smoothing import smoothed_log_weights
from millwright.draws.labelled_draws import from_positions
from millwright.errors import SamplingError
from millwright.fitting.fit import Fit
from millwright.fitting.record import Origin, Record
from millwright.fitting.target import target_of
from millwright.fitting.versions import now, versions
from millwright.modelling.binding import Binding
from millwright.posterior.posterior import Posterior
from millwright.sampling.mode import find_peak
from millwright.sampling.piece import STATISTICS
from millwright.sampling.streams import Stream, generator_of

__all__ = ["approximate"]

_STREAMS = 4
_ROUNDING = 1e-6


def approximate(binding: Binding, draws: int, seed: int, sheet: str | None) -> Posterior:
    """Draw from a normal distribution around the mode in unconstrained coordinates.

    Its covariance is the inverse curvature there (Laplace's approximation). The Pareto k of the
    ratios of posterior to approximation (Vehtari et al. 2024) says how far it can be trusted.

    Raises
    ------
    SamplingError
        If the curvature at the highest point found is not that of a peak.
    """
    began = now()
    target = target_of(binding)
    peak = find_peak(target, seed)
    try:
        factor = np.linalg.cholesky(np.linalg.inv(-peak.hessian))
    except np.linalg.LinAlgError:
        raise SamplingError(
            "There is no normal approximation: the curvature at the highest point found is not "
            "that of a peak. The posterior may be improper, or its mode lie at an end."
        ) from None
    generator = generator_of(seed, Stream.APPROXIMATION)
    size = -(-draws // _STREAMS)
    noise = generator.standard_normal((_STREAMS * size, binding.dimension))
    positions = peak.position + np.einsum("ij,nj->ni", factor, noise)
    values = target.plain(positions)
    log_ratio = values + 0.5 * np.sum(noise**2, axis=1)
    finite = np.isfinite(log_ratio)
    sound = np.where(finite, log_ratio, log_ratio[finite].min())
    # Ratios that are all the same but for rounding: the approximation is exact.
    k = 0.0 if np.ptp(sound) < _ROUNDING else smoothed_log_weights(sound)[1]
    statistics = {
        name: np.full((_STREAMS, size), np.nan) for name in STATISTICS if name != "diverged"
    }
    statistics["diverged"] = np.zeros((_STREAMS, size))
    statistics["log_density"] = values.reshape(_STREAMS, size)
    record = Record(
        origin=Origin.APPROXIMATION,
        seed=seed,
        settings={
            "method": "normal approximation at the mode",
            "chains": _STREAMS,
            "draws": size,
            "warmup": 0,
            "thin": 1,
            "missing": "refuse",
            "trial": False,
        },
        versions=versions(),
        fingerprint=binding.fingerprint,
        chains=tuple({"steps": 0} for _ in range(_STREAMS)),
        seconds={"compiling": 0.0, "sampling": 0.0},
        started=began,
        complete=True,
        pareto_k=float(k),
    )
    shaped = positions.reshape(_STREAMS, size, binding.dimension)
    drawn = from_positions(binding, shaped)
    return Posterior(Fit(draws=drawn, record=record, statistics=statistics, sheet=sheet))
