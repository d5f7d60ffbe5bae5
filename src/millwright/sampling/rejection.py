"""Rejection sampling: independent draws under an envelope (von Neumann 1951)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from scipy.special import gammaln

from millwright.errors import ArgumentError, SamplingError
from millwright.sampling.independent import Independent
from millwright.sampling.methods import Rejection
from millwright.sampling.mode import find_peak
from millwright.sampling.piece import STATISTICS, Piece
from millwright.sampling.state import Generators, UnitState, restored
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.target import TargetDensity
from millwright.wording import either, setting

__all__ = ["RejectionSampler", "RejectionState"]

_COLUMN = {name: at for at, name in enumerate(STATISTICS)}
_BATCH = 500
_MARGIN = 0.01
_HOPELESS = 400_000
_RUNAWAY = 10.0


@dataclass(frozen=True, kw_only=True)
class RejectionState(UnitState):
    """How far a stream of candidates is.

    Attributes
    ----------
    waiting, waiting_values, waiting_tries
        Points kept beyond the draws made so far, their log densities, and how many candidates
        each took.
    tried, kept
        Candidates so far, and how many were kept.
    since
        Candidates since the last kept one.
    """

    waiting: np.ndarray
    waiting_values: np.ndarray
    waiting_tries: np.ndarray
    bits: Generators
    tried: int = 0
    kept: int = 0
    since: int = 0


class RejectionSampler(Independent[RejectionState, Rejection]):
    """Rejection sampling; each chain is a stream of candidates of its own."""

    @cached_property
    def candidate(self) -> _Candidate:
        """The distribution that candidates come from."""
        if self.method.candidate == "prior":
            return _prior(self.target)
        return _around_mode(self.target, self.method, self.seed)

    @cached_property
    def envelope(self) -> float:
        """Logarithm of the largest ratio of target to candidate."""
        if self.method.envelope is not None:
            return self.method.envelope
        generator = generator_of(self.seed, Stream.REJECTION)
        return _highest_ratio(self.candidate, self.target, generator) + _MARGIN

    def prepare(self) -> None:
        """Find the candidate distribution and the envelope."""
        _ = self.envelope

    def start(self, unit: int) -> RejectionState:
        """Return a stream at its beginning."""
        bits = np.random.default_rng(np.random.SeedSequence(self.seed, spawn_key=(unit,)))
        dimension = self.target.dimension
        nothing = np.zeros(0)
        return RejectionState(
            unit=unit,
            waiting=np.zeros((0, dimension)),
            waiting_values=nothing,
            waiting_tries=nothing,
            bits=bits.bit_generator.state,
        )

    def batch(self, state: RejectionState) -> tuple[RejectionState, Piece]:
        """Give out what waits, after a batch of candidates if nothing does."""
        if not len(state.waiting):
            state = self._tried_again(state)
        take = min(len(state.waiting), self.settings.total - state.done)
        piece = self._piece(state, take)
        state = replace(
            state,
            done=state.done + take,
            waiting=state.waiting[take:],
            waiting_values=state.waiting_values[take:],
            waiting_tries=state.waiting_tries[take:],
        )
        return state, piece

    def tried(self, state: RejectionState) -> int:
        """Return how many candidates a chain went through so far."""
        return state.tried

    def report(self, state: RejectionState) -> tuple[dict[str, Any], ...]:
        """Return the envelope and the share of candidates that were kept."""
        return (
            {
                "step_size": 1.0,
                "target_acceptance": None,
                "metric": self.method.candidate,
                "envelope": self.envelope,
                "efficiency": state.kept / max(1, state.tried),
                "warmup_steps": 0,
                "steps": state.tried,
                "seconds": [0.0, state.seconds],
            },
        )

    def _tried_again(self, state: RejectionState) -> RejectionState:
        """Try a batch of candidates.

        Raises
        ------
        SamplingError
            If one shows that the envelope is too low, or hardly any is kept.
        """
        generator = restored(state.bits)
        points = self.candidate.draw(generator, _BATCH)
        values, log_ratio = self.candidate.compare(points)
        self._check(points, log_ratio)
        taken = np.log(generator.random(_BATCH)) < log_ratio - self.envelope
        at = np.flatnonzero(taken)
        tries = np.diff(np.concatenate([[-1 - state.since], at])).astype(float)
        since = _BATCH - 1 - int(at[-1]) if len(at) else state.since + _BATCH
        tried, kept = state.tried + _BATCH, state.kept + len(at)
        if tried >= _HOPELESS and kept < 1e-4 * tried:
            raise SamplingError(
                f"Rejection sampling keeps {kept} of {tried} candidates: the candidate "
                "distribution is too far from the posterior. Try another stretch= or df=, "
                f"{setting('method', 'no_u_turn')} or, for separate modes, "
                f"{setting('method', 'tempering')}."
            )
        return replace(
            state,
            waiting=points[taken],
            waiting_values=values[taken],
            waiting_tries=tries,
            bits=generator.bit_generator.state,
            tried=tried,
            kept=kept,
            since=since,
        )

    def _check(self, points: np.ndarray, log_ratio: np.ndarray) -> None:
        highest = int(np.argmax(log_ratio))
        if log_ratio[highest] <= self.envelope + 1e-9:
            return
        where = ", ".join(f"{x:.4g}" for x in points[highest])
        given = self.method.envelope is not None
        advice = (
            f"Give envelope={np.ceil(log_ratio[highest] + 1):g} or more."
            if given
            else "Give a wider candidate (a larger stretch, a smaller df), or an envelope= above "
            "that; where the posterior has heavier tails than any candidate, use another method."
        )
        raise SamplingError(
            "The posterior is above the envelope: at the unconstrained point "
            f"({where}) the logarithm of the ratio of posterior to candidate is "
            f"{log_ratio[highest]:.4g}, above the envelope of {self.envelope:.4g}. Draws would "
            f"be biased, so none are given. {advice}"
        )

    def _piece(self, state: RejectionState, take: int) -> Piece:
        rows = np.zeros((take, len(STATISTICS)))
        rows[:, _COLUMN["log_density"]] = state.waiting_values[:take]
        # The mean of one over the tries would be far above the share that is kept.
        rows[:, _COLUMN["acceptance"]] = state.kept / state.tried
        rows[:, _COLUMN["evaluations"]] = state.waiting_tries[:take]
        rows[:, _COLUMN["energy"]] = np.nan
        rows[:, _COLUMN["step_size"]] = 1.0
        empty = Piece.empty(self.target.dimension)
        return replace(empty, positions=state.waiting[:take], statistics=rows)


@dataclass(frozen=True)
class _Candidate:
    """A distribution to draw from.

    Attributes
    ----------
    draw
        `draw(generator, n)` gives points, shape (n, dimension).
    compare
        `compare(points)` gives the target's log density and the log ratio of target to
        candidate; -inf where the target is not finite.
    """

    draw: Callable[[np.random.Generator, int], np.ndarray]
    compare: Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]


def _prior(target: TargetDensity) -> _Candidate:
    if target.prior_draws is None:
        raise ArgumentError(
            "candidate='prior' needs a prior that can be drawn from; this one is not proper, or "
            "has terms added to the log density. Use candidate='student_t'."
        )

    def compare(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        prior, likelihood = target.split(points)
        ratio = np.where(np.isnan(likelihood), -np.inf, likelihood)
        return prior + likelihood, ratio

    return _Candidate(target.prior_draws, compare)


def _around_mode(target: TargetDensity, method: Rejection, seed: int) -> _Candidate:
    """Return a Student-t around the mode, with the curvature there."""
    if not target.traceable:
        raise ArgumentError(
            "candidate='student_t' needs a gradient, which a black box does not have: use "
            + either("candidate='prior'", "--setting candidate=prior")
            + f" with proper priors, or {setting('method', 'ensemble')}."
        )
    peak = find_peak(target, seed)
    try:
        factor = method.stretch * np.linalg.cholesky(np.linalg.inv(-peak.hessian))
    except np.linalg.LinAlgError:
        raise ArgumentError(
            "candidate='student_t': the curvature at the highest point found is not that of a "
            "peak. Use candidate='prior' or another method."
        ) from None
    df, d = method.df, target.dimension
    constant = (
        gammaln((df + d) / 2)
        - gammaln(df / 2)
        - d / 2 * np.log(df * np.pi)
        - np.log(np.diag(factor)).sum()
    )

    def draw(generator: np.random.Generator, n: int) -> np.ndarray:
        normal = generator.standard_normal((n, d))
        scale = np.sqrt(df / (2.0 * generator.standard_gamma(df / 2, n)))
        return peak.position + np.einsum("ij,nj->ni", factor, normal * scale[:, None])

    def compare(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        z = np.linalg.solve(factor, (points - peak.position).T)
        log_candidate = constant - (df + d) / 2 * np.log1p((z**2).sum(axis=0) / df)
        values = target.plain(points)
        ratio = values - log_candidate
        return values, np.where(np.isnan(ratio), -np.inf, ratio)

    return _Candidate(draw, compare)


def _highest_ratio(
    candidate: _Candidate, target: TargetDensity, generator: np.random.Generator
) -> float:
    """Search for the largest log ratio, from the best of many candidates and starting points.

    The candidates alone would not see a mode that they hardly reach.
    """
    # Heavy, and not needed for other methods.
    from scipy import optimize

    drawn = candidate.draw(generator, 4000)
    points = np.concatenate([drawn, target.starts(generator, 4000)])
    _, ratio = candidate.compare(points)
    best = np.concatenate(
        [
            start + np.argsort(-ratio[start : start + 4000], kind="stable")[:5]
            for start in (0, 4000)
        ]
    )
    highest, away = float(ratio[best].max()), 0.0
    if not np.isfinite(highest):
        raise SamplingError(
            "No candidate of 8000 has a finite density: the candidate distribution does not "
            "cover the posterior."
        )
    centre = np.median(drawn, axis=0)
    reach = np.abs(points - centre).max(axis=0)

    def downhill(q: np.ndarray) -> float:
        found = float(candidate.compare(q[None])[1][0])
        return -found if np.isfinite(found) else np.inf

    for at in best:
        if np.isfinite(ratio[at]):
            end = optimize.minimize(
                downhill,
                points[at],
                method="Nelder-Mead",
                options={"maxfev": 400 * len(points[at])},
            )
            highest = max(highest, -float(end.fun))
            away = max(away, float(np.max(np.abs(end.x - centre) / reach)))
    if away > _RUNAWAY:
        raise SamplingError(
            "No envelope is high enough: the ratio of posterior to candidate keeps growing away "
            "from the mode, so the posterior has heavier tails than the candidate. Give a wider "
            "candidate (a smaller df), or use another method."
        )
    return highest
