"""From the draws of a fit to what its verdict rests on."""

from __future__ import annotations

import numpy as np

from millwright.diagnostics.finding import (
    ESS_PER_CHAIN,
    GRADIENT_ACCEPTANCE,
    WALK_ACCEPTANCE,
    Sampling,
)
from millwright.diagnostics.measures import Measures
from millwright.diagnostics.verdict import Verdict, judge
from millwright.draws.labelled_draws import Draws
from millwright.fitting.fit import Fit, WarmupRecord
from millwright.fitting.record import Origin, Record, remarks
from millwright.modelling.comparisons import compared_unknowns
from millwright.modelling.light_tails import light_tailed
from millwright.modelling.repeated_rows import repeated_rows
from millwright.modelling.specification import rests_on_unknowns
from millwright.posterior.modes_visited import modes_visited

__all__ = ["sampling_of", "verdict_of"]

_ACCEPTANCE = {
    "no_u_turn": GRADIENT_ACCEPTANCE,
    "fixed_length": GRADIENT_ACCEPTANCE,
    "random_walk": WALK_ACCEPTANCE,
    "tempering": WALK_ACCEPTANCE,
    "ensemble": (0.1, 0.8),
}
_MOVING = (*_ACCEPTANCE, "laplace_grid")
_ENOUGH_OF_AN_ENSEMBLE = 400
_LEAST_TO_PLACE = 5
_NEAR_THE_END = 0.9 * np.pi
_SHARE_AT_AN_END = 0.005


def verdict_of(fit: Fit, measures: Measures) -> Verdict:
    """Return the verdict on the draws of a fit; what rests on data alone is not judged."""
    made = sampling_of(fit)
    known = _known(fit.draws)
    measures = measures.without(known) if known else measures
    diverged = made.diverging is not None and bool(made.diverging.any())
    return judge(measures, made, remarks(fit.record, fit.draws, diverged))


def sampling_of(fit: Fit) -> Sampling:
    """Gather how draws were made."""
    draws, record, statistics = fit.draws, fit.record, fit.statistics
    chains, n = draws.shape
    method = str(record.method.get("method", ""))
    gradient = method in ("no_u_turn", "fixed_length")
    max_depth = int(record.method.get("max_depth", 0))
    diverging = statistics["diverged"].sum(axis=1) if gradient else None
    where = ""
    if diverging is not None and diverging.sum() >= _LEAST_TO_PLACE:
        where = _where_divergent(draws, fit.warmup_record)
    return Sampling(
        chains=chains,
        draws=n,
        diverging=diverging,
        cut_short=int((statistics["doublings"] >= max_depth).sum()) if max_depth else 0,
        max_depth=max_depth,
        energy=statistics["energy"] if gradient else None,
        acceptance=statistics["acceptance"].mean(axis=1) if method in _ACCEPTANCE else None,
        good_acceptance=_ACCEPTANCE.get(method, GRADIENT_ACCEPTANCE),
        enough=_ENOUGH_OF_AN_ENSEMBLE if method == "ensemble" else ESS_PER_CHAIN * chains,
        stuck=_stuck(statistics["log_density"]) if method in _MOVING else (),
        complete=record.complete,
        trial=bool(record.settings["trial"]),
        extended=record.extended,
        flat=_flat(draws) if record.origin.known_model else (),
        divergent_at=where,
        round_trips=_round_trips(record) if method == "tempering" else None,
        approximation_k=record.pareto_k,
        candidates_k=float(record.chains[0]["pareto_k"]) if method == "laplace_grid" else None,
        exact=record.origin.independent,
        light=light_tailed(draws.binding.specification),
        angles=_angles(draws),
        compared=compared_unknowns(draws.binding.program) if gradient else (),
        repeated=repeated_rows(draws.binding),
        modes=modes_visited(draws, record),
        goes_on_by="extend_study" if record.origin is Origin.SWEEPS else "extend",
    )


def _known(draws: Draws) -> set[str]:
    """Return the derived quantities that no unknown changes."""
    program = draws.binding.program
    return {
        part.name
        for part in program.parts
        if part.kind == "derived" and not rests_on_unknowns(part.expression, program.by_name)
    }


def _flat(draws: Draws) -> tuple[str, ...]:
    return tuple(part.name for part in draws.binding.program.unknowns if part.improper)


def _angles(draws: Draws) -> tuple[str, ...]:
    """Return the angles with draws near both ends of their range."""
    unknowns = draws.binding.program.unknowns
    every = draws.single([part.name for part in unknowns if part.family == "von_mises"])
    return tuple(
        name
        for name, x in every.items()
        if min((x < -_NEAR_THE_END).mean(), (x > _NEAR_THE_END).mean()) > _SHARE_AT_AN_END
    )


def _stuck(log_density: np.ndarray) -> tuple[int, ...]:
    """Return the chains (from 1) whose log density never changed."""
    if log_density.shape[1] < 2:
        return ()
    still = (log_density == log_density[:, :1]).all(axis=1)
    return tuple(int(chain) + 1 for chain in np.flatnonzero(still))


def _round_trips(record: Record) -> tuple[int, float]:
    trips = min(int(chain["round_trips"]) for chain in record.chains)
    rates = [rate for chain in record.chains for rate in chain["swap_rates"]]
    return trips, min(rates)


def _where_divergent(draws: Draws, warmup: WarmupRecord | None) -> str:
    """Name the quantity whose low or high end the divergences sit at, if there is one."""
    if warmup is None:
        return ""
    worst, words = 0.0, ""
    names = [part.name for part in draws.binding.program.unknowns]
    every = draws.single(names)
    for name, at in warmup.divergent_values(draws).items():
        at = at[np.isfinite(at)]
        if len(at) < _LEAST_TO_PLACE:
            continue
        # One of them: the middle between two may be beyond all numbers.
        middle = float(np.quantile(at, 0.5, method="lower"))
        share = float(np.mean(every[name] < middle))
        off = abs(share - 0.5)
        if off > max(worst, 0.3):
            end = "small" if share < 0.5 else "large"
            low = share if share < 0.5 else 1 - share
            worst = off
            side = "below" if share < 0.5 else "above"
            part = "under 1 %" if low < 0.01 else f"{low:.0%}"
            words = (
                f"Half of them began where `{name}` is {end}: {side} {middle:.3g}, where "
                f"{part} of the draws are."
            )
    return words
