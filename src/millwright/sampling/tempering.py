"""Parallel tempering: a ladder of flatter and flatter copies that exchange their points.

Temperature k has the density prior x likelihood^b_k, or, where a search has found several peaks,
mixture^(1 - b_k) x density^b_k with the mixture of Student-t distributions at those peaks, from
which the highest temperature is drawn independently. Even and odd pairs of neighbours offer
each other their points in turn, which lets a point travel straight up and down the ladder; in
warm-up the powers b_k are spaced so that every pair refuses equally often. Both after Syed,
Bouchard-Cote, Deligiannidis and Doucet (2022), "Non-reversible parallel tempering: a scalable
highly parallel MCMC scheme", Journal of the Royal Statistical Society B 84(2).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.sampling.ladder_moves import Ladder, Plan, moves_for
from millwright.sampling.methods import Tempering
from millwright.sampling.piece import STATISTICS, Piece, thinned_statistics
from millwright.sampling.reference import PeakMixture, Towards, draw_from, log_mixture, mixture_at
from millwright.sampling.sampler import FitSettings
from millwright.sampling.state import Generators, restored, widths
from millwright.sampling.target import TargetDensity
from millwright.sampling.walking import (
    acceptance_for,
    first_scale,
    good_start,
    learned_factor,
    steps_for,
)
from millwright.sampling.windowed import WindowedSampler, WindowedState, closed

__all__ = ["LadderState", "TemperingSampler", "spaced_powers"]

_COLUMN = {name: at for at, name in enumerate(STATISTICS)}
_UP, _DOWN = 1, -1


@dataclass(frozen=True, kw_only=True)
class LadderState(WindowedState):
    """One chain's ladder; arrays have the temperatures as their first axis, the posterior first.

    Attributes
    ----------
    powers
        Power of the likelihood at each temperature, from 1 down.
    priors, likelihoods
        Log prior and log likelihood of each temperature's point.
    refused, offered
        Sum of refusal probabilities, and offers, of each pair of neighbours: in the window
        during warm-up, then over all draws.
    travellers
        Which of the original points stands at each temperature.
    heading
        For each traveller: 1 after it was at the posterior's temperature, -1 after the
        highest.
    round_trips
        Completed journeys down the ladder and back after warm-up, over all travellers.
    """

    positions: np.ndarray
    priors: np.ndarray
    likelihoods: np.ndarray
    powers: np.ndarray
    factors: np.ndarray
    log_scales: np.ndarray
    refused: np.ndarray
    offered: np.ndarray
    travellers: np.ndarray
    heading: np.ndarray
    bits: Generators
    round_trips: int = 0
    exchanges: int = 0

    @property
    def scales(self) -> list[np.ndarray]:
        """Standard deviations of the steps' covariance at the posterior's temperature."""
        return [widths(self.factors[0])]

    @property
    def place(self) -> tuple[np.ndarray, float]:
        """The point at the posterior's temperature with its log density."""
        return self.positions[0], float(self.priors[0] + self.likelihoods[0])


class TemperingSampler(WindowedSampler[LadderState, Tempering]):
    """Parallel tempering with random-walk moves; each chain with its ladder is a unit."""

    def __init__(
        self,
        target: TargetDensity,
        settings: FitSettings,
        chains: int,
        seed: int,
        method: Tempering,
    ) -> None:
        self.steps = method.steps or steps_for(target.dimension)
        super().__init__(
            target, settings, chains, seed, method, cost=self.steps * method.temperatures
        )
        self.wanted = acceptance_for(target.dimension)
        self.mixture = mixture_at(target.peaks) if target.peaks is not None else None
        self.path = target if self.mixture is None else _towards(target, self.mixture)

    @cached_property
    def move(self) -> Callable[[Ladder, Plan], Ladder]:
        """Moves all temperatures."""
        return moves_for(self.path, self.method.temperatures, self.steps)

    def prepare(self) -> None:
        """Compile the moves."""
        _ = self.move

    def start(self, unit: int) -> LadderState:
        """Place a point at each temperature."""
        children = np.random.SeedSequence(self.seed, spawn_key=(unit,)).spawn(2)
        starts, bits = map(np.random.default_rng, children)
        temperatures, dimension = self.method.temperatures, self.target.dimension
        found = [good_start(self.target, starts) for _ in range(temperatures)]
        positions = np.concatenate([points for points, _, _ in found])
        smallest_power = self.method.smallest_power
        if self.mixture is not None:
            positions, smallest_power = draw_from(self.mixture, starts, temperatures), 0.0
        priors, likelihoods = self.path.split(positions)
        spread = found[0][2]
        powers = np.geomspace(1.0, max(smallest_power, 1e-4), temperatures)
        powers[-1] = smallest_power
        return LadderState(
            unit=unit,
            positions=positions,
            priors=priors,
            likelihoods=likelihoods,
            powers=powers,
            factors=np.stack([np.diag(spread)] * temperatures),
            log_scales=np.full(temperatures, first_scale(dimension)),
            window_draws=np.zeros((temperatures, 0, dimension)),
            refused=np.zeros(temperatures - 1),
            offered=np.zeros(temperatures - 1),
            travellers=np.arange(temperatures, dtype=float),
            heading=np.zeros(temperatures),
            bits=bits.bit_generator.state,
        )

    def report(self, state: LadderState) -> tuple[dict[str, Any], ...]:
        """Return the ladder: powers, how often neighbours exchange, and round trips."""
        rates = 1.0 - state.refused / np.maximum(state.offered, 1.0)
        return (
            self._report(
                state,
                step_size=float(np.exp(state.log_scales[0])),
                target_acceptance=self.wanted,
                metric="dense",
                powers=state.powers.tolist(),
                swap_rates=rates.tolist(),
                round_trips=state.round_trips,
            ),
        )

    def _draw(self, state: LadderState) -> tuple[LadderState, tuple[Piece, ...]]:
        """Make one kept draw."""
        rows = []
        for _ in range(self.settings.thin):
            state, row = self._one_draw(state, adapting=False)
            rows.append(row)
        statistics = thinned_statistics(np.concatenate(rows), self.settings.thin)
        empty = Piece.empty(self.target.dimension)
        return state, (replace(empty, positions=state.positions[:1], statistics=statistics),)

    def _one_draw(self, state: LadderState, adapting: bool) -> tuple[LadderState, np.ndarray]:
        """Move every temperature, then let neighbours exchange."""
        generator = restored(state.bits)
        state, accepted = self._move(state, generator, adapting)
        state = _exchange(state, generator, counting=not adapting)
        row = np.zeros((1, len(STATISTICS)))
        row[0, _COLUMN["log_density"]] = state.priors[0] + state.likelihoods[0]
        row[0, _COLUMN["acceptance"]] = accepted
        row[0, _COLUMN["evaluations"]] = self.cost
        row[0, _COLUMN["energy"]] = np.nan
        row[0, _COLUMN["step_size"]] = np.exp(state.log_scales[0])
        return replace(state, done=state.done + 1, bits=generator.bit_generator.state), row

    def _move(
        self, state: LadderState, generator: np.random.Generator, adapting: bool
    ) -> tuple[LadderState, float]:
        temperatures, dimension = state.positions.shape
        normal = generator.standard_normal((self.steps, temperatures, dimension))
        noise = np.einsum("kij,skj->ski", state.factors, normal)
        chances = np.log(generator.random((self.steps, temperatures)))
        fresh = np.zeros((self.steps, dimension))
        if self.mixture is not None:
            fresh = draw_from(self.mixture, generator, self.steps)
        rate = 1 / np.sqrt(1 + state.within * self.steps / 10) if adapting else 0.0
        at = Ladder(
            state.positions,
            state.priors,
            state.likelihoods,
            state.log_scales,
            np.float64(0),
        )
        plan = Plan(
            state.powers,
            noise,
            chances,
            np.float64(self.wanted),
            np.float64(rate),
            fresh,
            np.bool_(self.mixture is not None),
        )
        with np.errstate(invalid="ignore"):
            moved = self.move(at, plan)
        state = replace(
            state,
            positions=moved.positions,
            priors=moved.priors,
            likelihoods=moved.likelihoods,
            log_scales=moved.log_scales,
        )
        return state, float(moved.accepted)

    def _warm_up(self, state: LadderState) -> tuple[LadderState, tuple[Piece, ...]]:
        """Make a draw of the window; learn proposals and powers at its end."""
        window = self.windows[state.window]
        state, row = self._one_draw(state, adapting=True)
        kept = state.window_draws
        if window.metric:
            kept = np.concatenate([kept, state.positions[:, None]], axis=1)
        state = replace(state, within=state.within + 1, window_draws=kept)
        if state.within == window.length:
            pairs, heading = (
                np.zeros(self.method.temperatures - 1),
                np.zeros(self.method.temperatures),
            )
            learned = _learned(state) if window.metric else {}
            state = closed(state, refused=pairs, offered=pairs, heading=heading, **learned)
        return state, (replace(Piece.empty(self.target.dimension), warmup=row),)


def _towards(target: TargetDensity, mixture: PeakMixture) -> TargetDensity:
    """Return the target with the mixture in the place of its prior."""

    def split(positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        prior, likelihood = target.split(positions)
        base = np.asarray(log_mixture(on_numpy, positions, mixture))
        return base, prior + likelihood - base

    density = target.split_density
    return replace(
        target,
        split=split,
        split_density=None if density is None else Towards(density),
        arguments=(target.arguments, mixture),
    )


def _learned(state: LadderState) -> dict[str, np.ndarray]:
    """Return the proposals and powers that a window suggests."""
    factors = [
        learned_factor(draws, before)
        for draws, before in zip(state.window_draws, state.factors, strict=True)
    ]
    refusals = state.refused / np.maximum(state.offered, 1.0)
    return {"factors": np.stack(factors), "powers": spaced_powers(state.powers, refusals)}


def _exchange(state: LadderState, generator: np.random.Generator, counting: bool) -> LadderState:
    """Let even or odd pairs of neighbours offer each other their points."""
    temperatures = len(state.powers)
    first = np.arange(state.exchanges % 2, temperatures - 1, 2)
    second = first + 1
    with np.errstate(invalid="ignore"):
        gain = state.likelihoods[second] - state.likelihoods[first]
        log_ratio = np.minimum(0.0, (state.powers[first] - state.powers[second]) * gain)
    log_ratio = np.where(np.isnan(log_ratio), -np.inf, log_ratio)
    taken = np.log(generator.random(len(first))) < log_ratio
    order = np.arange(temperatures)
    order[first[taken]], order[second[taken]] = second[taken], first[taken]
    refused, offered = state.refused.copy(), state.offered.copy()
    refused[first] += 1.0 - np.exp(log_ratio)
    offered[first] += 1.0
    travellers, heading = state.travellers[order], state.heading.copy()
    coldest, smallest_power = int(travellers[0]), int(travellers[-1])
    trips = int(heading[coldest] == _DOWN) if counting else 0
    heading[coldest] = _UP
    # Only a traveller that has been at the posterior's temperature begins a round trip.
    heading[smallest_power] = _DOWN if heading[smallest_power] != 0 else 0
    return replace(
        state,
        positions=state.positions[order],
        priors=state.priors[order],
        likelihoods=state.likelihoods[order],
        travellers=travellers,
        heading=heading,
        refused=refused,
        offered=offered,
        exchanges=state.exchanges + 1,
        round_trips=state.round_trips + trips,
    )


def spaced_powers(powers: np.ndarray, refusals: np.ndarray) -> np.ndarray:
    """Return powers at which all pairs refuse equally often (Syed et al. 2022, algorithm 2).

    Parameters
    ----------
    powers
        From 1 down, shape (temperatures,).
    refusals
        Mean refusal probability of each pair, shape (temperatures - 1,).
    """
    # A pair that never refuses still has some width, so that no two powers fall together.
    barrier = np.concatenate([[0.0], np.cumsum(np.maximum(refusals, 1e-3))])
    wanted = np.linspace(0.0, barrier[-1], len(powers))
    found = np.interp(wanted, barrier, powers)
    found[0], found[-1] = powers[0], powers[-1]
    return found
