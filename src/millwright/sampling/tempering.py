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

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from millwright.distributions import on_numpy
from millwright.sampling.ladder_block import Block, ladder_for, ladder_length
from millwright.sampling.ladder_moves import Drawn, Ladder, Numbers, Plan
from millwright.sampling.methods import Tempering
from millwright.sampling.peaks import DF
from millwright.sampling.piece import STATISTICS, Piece, thinned_statistics
from millwright.sampling.reference import (
    PeakMixture,
    Towards,
    draw_from,
    drawn_with,
    log_mixture,
    mixture_at,
)
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

_COUNTS = ("round_trips", "exchanges")


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
        temperatures = method.temperatures
        longest = ladder_length(target.dimension, temperatures, self.steps)
        cost = self.steps * temperatures
        super().__init__(target, settings, chains, seed, method, longest, cost)
        self.wanted = acceptance_for(target.dimension)
        self.mixture = mixture_at(target.peaks) if target.peaks is not None else None
        self.path = target if self.mixture is None else _towards(target, self.mixture)

    @cached_property
    def block(self) -> Block:
        """Makes draws of a ladder."""
        return ladder_for(self.path, self.method.temperatures, self.steps)

    def prepare(self) -> None:
        """Compile the block."""
        _ = self.block

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
            travellers=np.arange(temperatures),
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
        """Make a block of kept draws."""
        thin, wanted = self.settings.thin, self._next_draws(state)
        positions, rows = [], []
        while wanted:
            count = min(wanted, self.longest)
            state, drawn = self._drawn(state, count, adapting=False)
            positions.append(drawn.positions[:, 0])
            rows.append(self._rows(drawn))
            wanted -= count
        kept = np.concatenate(positions)[thin - 1 :: thin]
        statistics = thinned_statistics(np.concatenate(rows), thin)
        empty = Piece.empty(self.target.dimension)
        return state, (replace(empty, positions=kept, statistics=statistics),)

    def _drawn(self, state: LadderState, count: int, adapting: bool) -> tuple[LadderState, Drawn]:
        generator = restored(state.bits)
        numbers = self._numbers(state, generator, count, adapting)
        plan = Plan(
            powers=state.powers,
            wanted=np.float64(self.wanted),
            independent=np.bool_(self.mixture is not None),
            counting=np.bool_(not adapting),
        )
        before = Ladder(*(getattr(state, name) for name in Ladder._fields))
        with np.errstate(invalid="ignore"):
            after, drawn = self.block(before, numbers, plan)
        moved = after._asdict() | {name: int(getattr(after, name)) for name in _COUNTS}
        bits = generator.bit_generator.state
        return replace(state, **moved, done=state.done + count, bits=bits), drawn

    def _numbers(
        self, state: LadderState, generator: np.random.Generator, count: int, adapting: bool
    ) -> Numbers:
        """Draw what a block needs, one draw after the other: blocks of any length draw alike."""
        temperatures, dimension = state.positions.shape
        normal = np.empty((count, self.steps, temperatures, dimension))
        chances = np.empty((count, self.steps, temperatures))
        swaps = np.ones((count, temperatures - 1))
        fresh = np.zeros((count, self.steps, dimension))
        which, chi_square = (np.empty((count, self.steps)) for _ in range(2))
        for draw in range(count):
            generator.standard_normal(out=normal[draw])
            generator.random(out=chances[draw])
            if self.mixture is not None:
                generator.random(out=which[draw])
                generator.standard_normal(out=fresh[draw])
                chi_square[draw] = generator.chisquare(DF, self.steps)
            offering = swaps[draw, (state.exchanges + draw) % 2 :: 2]
            offering[:] = generator.random(len(offering))
        if self.mixture is not None:
            fresh = drawn_with(self.mixture, which, fresh, chi_square)
        within = state.within + np.arange(count)
        rate = 1 / np.sqrt(1 + within * self.steps / 10) if adapting else np.zeros(count)
        noise = np.einsum("kij,nskj->nski", state.factors, normal)
        return Numbers(noise, np.log(chances), np.log(swaps), fresh, rate)

    def _rows(self, drawn: Drawn) -> np.ndarray:
        """Return the statistics of a block; a ladder has no energy and no depth."""
        columns = {
            "log_density": drawn.log_density,
            "acceptance": drawn.accepted,
            "evaluations": np.full(len(drawn.accepted), float(self.cost)),
            "energy": np.full(len(drawn.accepted), np.nan),
            "step_size": np.exp(drawn.log_scale),
        }
        nothing = np.zeros(len(drawn.accepted))
        return np.stack([columns.get(name, nothing) for name in STATISTICS], axis=1)

    def _warm_up(self, state: LadderState) -> tuple[LadderState, tuple[Piece, ...]]:
        """Go on in the window; learn proposals and powers at its end."""
        window = self.windows[state.window]
        count = min(self.pace.of(state.unit), window.length - state.within)
        state, drawn = self._drawn(state, count, adapting=True)
        kept = state.window_draws
        if window.metric:
            kept = np.concatenate([kept, np.moveaxis(drawn.positions, 1, 0)], axis=1)
        state = replace(state, within=state.within + count, window_draws=kept)
        if state.within == window.length:
            pairs, heading = (
                np.zeros(self.method.temperatures - 1),
                np.zeros(self.method.temperatures),
            )
            learned = _learned(state) if window.metric else {}
            state = closed(state, refused=pairs, offered=pairs, heading=heading, **learned)
        piece = replace(Piece.empty(self.target.dimension), warmup=self._rows(drawn))
        return state, (piece,)


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
