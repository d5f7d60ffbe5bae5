"""Chains of the no-U-turn sampler: start, warm-up, draws."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.special import chdtri

from millwright.errors import StartError
from millwright.sampling.block import TransitionBlock, block_for, block_length
from millwright.sampling.block_tuples import Moments, PhasePoint, Settings, StepSize
from millwright.sampling.gradient_metric import FEWEST, scale_by_gradients
from millwright.sampling.methods import NoUTurn
from millwright.sampling.piece import STATISTICS, Piece, path_of, thinned_statistics
from millwright.sampling.sampler import FitSettings
from millwright.sampling.start_points import (
    LOWEST_START,
    pulled_in,
    spread_of,
    start_candidates,
)
from millwright.sampling.state import Generators, restored
from millwright.sampling.target import TargetDensity
from millwright.sampling.warmup import (
    LARGEST_DENSE,
    STRONGLY_CORRELATED,
    dense_scale,
    deviations_of,
    plan,
    refined_scale,
    split_first,
    wants_dense,
    without_overflow,
)
from millwright.sampling.windowed import WindowedSampler, WindowedState, closed

__all__ = ["ChainState", "NoUTurnSampler"]

_DIVERGENT = STATISTICS.index("diverged")
_ACCEPTANCE = STATISTICS.index("acceptance")
_STEPS = STATISTICS.index("evaluations")


# Fewer dimensions soon have the draws that a covariance takes.
_MANY = 27
# There the steps before the metric is first learned are most of the warm-up.
_SOON = 0.03
_TRAVEL = 10
"""Transitions after which a chain is looked at, whether it has come to the bulk."""
_IN_THE_BULK = 1e-6
_OFTEN = 0.002
_AROUND = 1.0
"""Standard deviations at the peak, for a chain that is put there."""
_RAISE = 0.75
_SHORTER = 0.55
"""What a raised acceptance makes of a step, as chains that had time to settle it found."""


@dataclass(frozen=True, kw_only=True)
class ChainState(WindowedState):
    """Where a chain is, and all that it has learned.

    Attributes
    ----------
    position, gradient, log_density
        The point; the gradient in standardised coordinates.
    step_size
        The five numbers of the dual averaging.
    scale, deviations
        The metric in force, and its standard deviations, shape (dimension,).
    means, squares
        Running moments of the window's draws.
    window_gradients
        Gradients at the window's draws, in standardised coordinates.
    momenta, choices
        States of the two random generators.
    late_divergences
        Divergences in the later half of the window.
    arrived
        Whether the chain came to the bulk around the one peak, and took the metric there.
    warmup_steps, steps, divergences
        Leapfrog steps in warm-up and in all, and divergent transitions after warm-up.
    """

    position: np.ndarray
    gradient: np.ndarray
    log_density: float
    step_size: np.ndarray
    target_acceptance: float
    scale: np.ndarray
    deviations: np.ndarray
    means: np.ndarray
    squares: np.ndarray
    window_gradients: np.ndarray
    momenta: Generators
    choices: Generators
    late_divergences: int = 0
    arrived: bool = False
    warmup_steps: int = 0
    steps: int = 0
    divergences: int = 0

    @property
    def dense(self) -> bool:
        """Whether the metric has correlations."""
        return self.scale.ndim == 2

    @property
    def scales(self) -> list[np.ndarray]:
        """Standard deviations of the metric."""
        return [self.deviations]

    @property
    def place(self) -> tuple[np.ndarray, float]:
        """The point with its log density."""
        return self.position, self.log_density


class NoUTurnSampler(WindowedSampler[ChainState, NoUTurn]):
    """The no-U-turn sampler on a target; each chain is a unit."""

    def __init__(
        self, target: TargetDensity, settings: FitSettings, chains: int, seed: int, method: NoUTurn
    ) -> None:
        super().__init__(
            target, settings, chains, seed, method, longest=block_length(target.dimension)
        )
        self.run_block: dict[bool, Callable[..., TransitionBlock]] = {}
        if target.dimension >= _MANY:
            self.windows = plan(settings.warmup, first_share=_SOON)
        if self._at_peak is not None:
            self.windows = split_first(self.windows, _TRAVEL)

    def prepare(self) -> None:
        """Compile the block."""
        self._run_block(dense=False)

    @property
    def _at_peak(self) -> np.ndarray | None:
        """The metric at the peak that holds everything, if there is one and it is known."""
        peaks = self.target.peaks
        if peaks is None or peaks.scale is None:
            return None
        return deviations_of(peaks.scale) if self.method.metric == "diagonal" else peaks.scale

    def _taken_from_peak(self, state: ChainState) -> ChainState:
        """Take the metric at the peak for a chain that has come to the bulk around it.

        On its way there, from draws of a wide prior, the prior's own scales are faster.
        """
        peaks, scale = self.target.peaks, self._at_peak
        if state.arrived or peaks is None or scale is None:
            return state
        if self._below_the_bulk(state, peaks.log_densities[0]):
            return state
        return replace(self._with_metric(state, scale, deviations_of(scale)), arrived=True)

    def _below_the_bulk(self, state: ChainState, highest: float) -> bool:
        """Whether a chain has not come to the bulk around the peak.

        Around a normal peak the density is lower by a half of a chi-squared number.
        """
        away = 0.5 * chdtri(self.target.dimension, _IN_THE_BULK)
        return bool(state.log_density < highest - away)

    def _begun_again(self, state: ChainState) -> ChainState:
        """Put a chain that is lost to a place around the peak that holds everything.

        From far down the flank of an exponential every trajectory flies over the peak, and the
        chain never moves; at a peak that holds nothing a chain can be caught.
        """
        peaks, scale = self.target.peaks, self._at_peak
        # In its first transitions a chain may still look for its step size.
        early = state.window == 0 or state.within < _TRAVEL
        if early or peaks is None or scale is None or not len(peaks.positions):
            return state
        never_moved = not state.squares.any()
        # Where chains were told to begin they may stay: it is asked what they find from there.
        caught = peaks.several and self.target.begin_at is None
        if not (never_moved or caught):
            return state
        # A peak that holds nothing is lower by far more than this.
        if not self._below_the_bulk(state, peaks.log_densities[0]):
            return state
        normal = restored(state.momenta)
        step = _AROUND * normal.standard_normal(self.target.dimension)
        position = peaks.positions[0] + (scale * step if scale.ndim == 1 else scale @ step)
        point = self._evaluate(position, state)
        if not (np.isfinite(point.log_density) and np.isfinite(point.gradient).all()):
            return state
        return replace(
            state,
            position=position,
            gradient=_shrunk(state.scale, point.gradient),
            log_density=float(point.log_density),
            momenta=normal.bit_generator.state,
        )

    def start(self, unit: int) -> ChainState:
        """Find a starting point with a finite log density and gradient, and a step size."""
        began = time.perf_counter()
        children = np.random.SeedSequence(self.seed, spawn_key=(unit,)).spawn(3)
        _, momenta, choices = map(np.random.default_rng, children)
        candidates = start_candidates(self.target, self.seed, unit)
        scale = spread_of(candidates)
        beginning, lowest = self.target.beginning(unit), LOWEST_START
        if beginning is not None:
            candidates, lowest = np.concatenate([beginning[None], candidates]), -np.inf
        dimension = self.target.dimension
        state = ChainState(
            unit=unit,
            position=candidates[0],
            gradient=np.zeros(dimension),
            log_density=0.0,
            step_size=np.array(StepSize.starting_at(1.0)),
            target_acceptance=self.method.target_acceptance,
            scale=scale,
            deviations=scale,
            means=np.zeros(dimension),
            squares=np.zeros(dimension),
            window_draws=np.zeros((0, dimension)),
            window_gradients=np.zeros((0, dimension)),
            momenta=momenta.bit_generator.state,
            choices=choices.bit_generator.state,
        )
        state = self._first_point(state, candidates[:100], lowest)
        state, size = self._first_step(state, 1.0)
        began_at = np.array(StepSize.starting_at(size, reach=10.0))
        return replace(state, step_size=began_at, warmup_seconds=time.perf_counter() - began)

    def _counts(self, state: ChainState) -> tuple[int, int]:
        return state.divergences, state.steps

    def report(self, state: ChainState) -> tuple[dict[str, Any], ...]:
        """Return the step size, metric and cost of the chain."""
        step_size = StepSize(*state.step_size)
        found = self._report(
            state,
            step_size=float(np.exp(step_size.log_mean)),
            target_acceptance=state.target_acceptance,
            metric="dense" if state.dense else "diagonal",
        )
        return ({**found, "warmup_steps": state.warmup_steps, "steps": state.steps},)

    def _first_point(self, state: ChainState, candidates: np.ndarray, lowest: float) -> ChainState:
        found = self._highest(state, candidates, lowest)
        if found is None:
            found = self._highest(state, pulled_in(candidates), np.inf)
        if found is not None:
            return replace(
                state,
                position=found.q,
                gradient=_shrunk(state.scale, found.gradient),
                log_density=float(found.log_density),
            )
        raise StartError(
            "No starting point: the log density was not finite at any of 100 points drawn from "
            f"the prior, nor nearer to its middle. {self.target.explain(candidates)}"
        )

    def _highest(
        self, state: ChainState, candidates: np.ndarray, lowest: float
    ) -> PhasePoint | None:
        """Return the first candidate above the lowest log density, or else the highest."""
        found: PhasePoint | None = None
        for position in candidates:
            point = self._evaluate(position, state)
            finite = np.isfinite(point.log_density) and np.isfinite(point.gradient).all()
            if finite and (found is None or point.log_density > found.log_density):
                found = point._replace(q=position)
                if found.log_density > lowest:
                    break
        return found

    def _evaluate(self, position: np.ndarray, state: ChainState) -> PhasePoint:
        """Return log density and gradient at a position.

        A trajectory of one step of length zero from a point of density zero always accepts,
        so the block needs no second gradient.
        """
        nowhere = replace(
            state,
            position=position,
            gradient=np.zeros_like(position),
            log_density=-np.inf,
            step_size=np.array([0.0, -np.inf, -np.inf, 0.0, 0.0]),
            scale=np.ones_like(position),
        )
        return self._block(nowhere, 1, False, fresh=False).state

    def _block(
        self, state: ChainState, count: int, adapting: bool, fresh: bool = True
    ) -> TransitionBlock:
        """Run a block without moving the state on; `fresh` blocks need momenta."""
        return self._moved(state, count, adapting, 1, fresh)[1]

    def _moved(
        self,
        state: ChainState,
        count: int,
        adapting: bool,
        max_depth: int | None = None,
        fresh: bool = True,
    ) -> tuple[ChainState, TransitionBlock]:
        dimension = self.target.dimension
        momenta: Any = np.zeros((count, dimension))
        seeds: Any = np.zeros(count, dtype=np.uint64)
        if fresh:
            normal, choices = restored(state.momenta), restored(state.choices)
            momenta = normal.standard_normal((count, dimension))
            seeds = choices.integers(0, 2**64, size=count, dtype=np.uint64)
            state = replace(
                state,
                momenta=normal.bit_generator.state,
                choices=choices.bit_generator.state,
            )
        settings = Settings(
            np.int64(count),
            np.bool_(adapting),
            state.scale,
            np.float64(state.target_acceptance),
            np.int32(self.method.max_depth if max_depth is None else max_depth),
        )
        block = self._run_block(state.dense)(
            PhasePoint(state.position, state.gradient, np.float64(state.log_density)),
            StepSize(*state.step_size),
            Moments(np.float64(state.within), state.means, state.squares),
            settings,
            momenta,
            seeds,
        )
        return state, block

    def _run_block(self, dense: bool) -> Callable[..., TransitionBlock]:
        if dense not in self.run_block:
            self.run_block[dense] = block_for(self.target, dense)
        return self.run_block[dense]

    def _after(self, state: ChainState, block: TransitionBlock) -> ChainState:
        """Return the state after a block that counts."""
        return replace(
            state,
            done=state.done + len(block.draws),
            position=block.state.q,
            gradient=block.state.gradient,
            log_density=float(block.state.log_density),
            step_size=np.array(block.step_size),
            steps=state.steps + int(block.statistics[:, _STEPS].sum()),
        )

    def _warm_up(self, state: ChainState) -> tuple[ChainState, tuple[Piece, ...]]:
        """Go on in the present window; learn from it at its end."""
        window = self.windows[state.window]
        count = min(self.pace.of(state.unit), window.length - state.within)
        state, block = self._moved(state, count, True)
        state = self._after(state, block)
        numbers = np.arange(state.within, state.within + count)
        late = block.statistics[numbers >= window.length // 2, _DIVERGENT].sum()
        draws, gradients = state.window_draws, state.window_gradients
        if window.metric and self._keeps_window:
            draws = np.concatenate([draws, block.draws])
            gradients = np.concatenate([gradients, block.gradients])
        state = replace(
            state,
            within=state.within + count,
            means=block.moments.mean,
            squares=block.moments.squares,
            window_draws=draws,
            window_gradients=gradients,
            late_divergences=state.late_divergences + int(late),
            warmup_steps=state.steps,
        )
        if state.within == window.length:
            state = self._close_window(state)
        piece = Piece.empty(self.target.dimension)
        piece = replace(piece, warmup=block.statistics, path=path_of(block.draws))
        return state, (piece,)

    @property
    def _keeps_window(self) -> bool:
        small = self.target.dimension <= LARGEST_DENSE
        return self.method.metric == "dense" or (self.method.metric == "automatic" and small)

    def _close_window(self, state: ChainState) -> ChainState:
        window = self.windows[state.window]
        before = state.arrived
        if state.window < len(self.windows) - 1:
            state = self._taken_from_peak(self._begun_again(state))
        arriving = state.arrived and not before
        if window.metric and not arriving:
            state = self._learn(state)
            state = self._raise_acceptance(state, window.length)
        if window.metric or arriving:
            size = float(np.exp(StepSize(*state.step_size).log_mean))
            state, size = self._first_step(state, size)
            # The size is about right by now: reaching further would only diverge.
            state = replace(state, step_size=np.array(StepSize.starting_at(size, reach=2.0)))
        if state.window == len(self.windows) - 1:
            state = self._last_step(state, window.length)
        nothing, none = np.zeros(self.target.dimension), state.window_gradients[:0]
        fresh = {"means": nothing, "squares": nothing, "window_gradients": none}
        return closed(state, late_divergences=0, **fresh)

    @without_overflow
    def _learn(self, state: ChainState) -> ChainState:
        """Estimate the metric from a window; it turns dense where that pays.

        With few unknowns it stays so; with many each window decides anew, since fewer draws a
        dimension made the choice before.
        """
        n, draws = state.within, state.window_draws
        sd = np.sqrt(state.squares / max(1, n - 1))
        deviations = refined_scale(n, state.means, sd, state.deviations)
        wanted = self.method.metric
        dense = (state.dense and self.target.dimension < _MANY) or (
            self._keeps_window
            and (wanted == "dense" or (wanted == "automatic" and wants_dense(draws, deviations)))
        )
        scale = self._scale_by_gradients(state, deviations)
        if scale is None:
            scale = dense_scale(draws, deviations) if dense else deviations
        return self._with_metric(state, scale, deviations)

    @staticmethod
    def _with_metric(state: ChainState, scale: np.ndarray, deviations: np.ndarray) -> ChainState:
        gradient = _shrunk(scale, _grown(state.scale, state.gradient))
        return replace(state, scale=scale, deviations=deviations, gradient=gradient)

    def _scale_by_gradients(self, state: ChainState, deviations: np.ndarray) -> np.ndarray | None:
        """Return a dense metric from fewer draws than their covariance takes, if they say one."""
        draws = state.window_draws
        if len(draws) < FEWEST or self.target.dimension == 1:
            return None
        # All at once: in blocks, whose lengths differ, the solution would round otherwise.
        gradients = _grown(state.scale, state.window_gradients)
        return scale_by_gradients(draws, gradients, deviations, STRONGLY_CORRELATED)

    def _raise_acceptance(self, state: ChainState, length: int) -> ChainState:
        """Ask for smaller steps if the later half of a long enough window still diverged.

        On a curved ridge (a banana) one divergence is enough to lose a tail. Measured there, over
        25 fits: no divergences for 13, a 1 % tail of 0.98 % for 1.12 %, for a third more steps;
        targets without such ridges are left as they are.
        """
        late = length - length // 2
        often = state.late_divergences >= max(1, _OFTEN * late)
        wanted = state.target_acceptance
        if late >= 50 and often and wanted < 0.98:
            return replace(state, target_acceptance=wanted + _RAISE * (1 - wanted))
        return state

    def _last_step(self, state: ChainState, length: int) -> ChainState:
        """Take shorter steps where those settled on diverged: a chain may first meet a ridge here.

        Nothing is left of the warm-up to settle them again.
        """
        raised = self._raise_acceptance(state, length)
        if raised is state:
            return state
        step_size = StepSize(*state.step_size)
        shorter = step_size.log_mean + np.log(_SHORTER)
        return replace(raised, step_size=np.array(step_size._replace(log_mean=shorter)))

    def _first_step(self, state: ChainState, size: float) -> tuple[ChainState, float]:
        """Find a step size whose acceptance crosses one half (Hoffman and Gelman, alg. 4)."""
        state, accepted = self._one_step_acceptance(state, size)
        rising = accepted > 0.5
        factor = 2.0 if rising else 0.5
        for _ in range(100):
            following = size * factor
            state, accepted = self._one_step_acceptance(state, following)
            if (accepted > 0.5) != rising:
                return state, size if rising else following
            size = following
        return state, size

    def _one_step_acceptance(self, state: ChainState, size: float) -> tuple[ChainState, float]:
        trying = replace(state, step_size=np.array(StepSize.starting_at(size)))
        after, block = self._moved(trying, 1, False, max_depth=1)
        state = replace(state, momenta=after.momenta, choices=after.choices)
        return state, float(block.statistics[0, _ACCEPTANCE])

    def _draw(self, state: ChainState) -> tuple[ChainState, tuple[Piece, ...]]:
        """Make kept draws: a block of transitions, or several where many make one draw."""
        thin = self.settings.thin
        wanted = self._next_draws(state)
        first = (state.done - self.settings.warmup) // thin
        blocks: list[TransitionBlock] = []
        while wanted:
            state, block = self._moved(state, min(self.longest, wanted), False)
            state = self._after(state, block)
            blocks.append(block)
            wanted -= len(block.draws)
        draws, statistics, ends = (
            np.concatenate([getattr(block, name) for block in blocks])
            for name in ("draws", "statistics", "ends")
        )
        failed = np.flatnonzero(statistics[:, _DIVERGENT])
        state = replace(state, divergences=state.divergences + len(failed))
        piece = Piece(
            draws[thin - 1 :: thin],
            thinned_statistics(statistics, thin),
            np.zeros((0, len(STATISTICS))),
            ends[failed],
            first + failed // thin + 1.0,
            draws[:0],
        )
        return state, (piece,)


def _shrunk(scale: np.ndarray, gradient: np.ndarray) -> np.ndarray:
    """Return a gradient in standardised coordinates."""
    return scale * gradient if scale.ndim == 1 else gradient @ scale


def _grown(scale: np.ndarray, gradient: np.ndarray) -> np.ndarray:
    """Undo `_shrunk`."""
    if scale.ndim == 1:
        return gradient / scale
    # Heavy, and needed where a chain with a dense metric runs only.
    from scipy.linalg import solve_triangular

    return np.asarray(solve_triangular(scale, gradient.T, trans="T", lower=True).T)
