"""The sampler of each method."""

from __future__ import annotations

from millwright.sampling.black_box_walk import BlackBoxWalk, WalksState
from millwright.sampling.ensemble import EnsembleSampler, EnsembleState
from millwright.sampling.fixed_length import FixedLengthSampler
from millwright.sampling.grid_chains import GridSampler, GridState
from millwright.sampling.lane_state import LaneState
from millwright.sampling.methods import (
    Ensemble,
    FixedLength,
    LaplaceGrid,
    Method,
    NoUTurn,
    RandomWalk,
    Tempering,
)
from millwright.sampling.no_u_turn import ChainState, NoUTurnSampler
from millwright.sampling.random_walk import RandomWalkSampler, WalkState
from millwright.sampling.rejection import RejectionSampler, RejectionState
from millwright.sampling.sampler import FitSettings, Sampler
from millwright.sampling.state import UnitState
from millwright.sampling.target import TargetDensity
from millwright.sampling.tempering import LadderState, TemperingSampler

__all__ = ["STATES", "build"]

STATES: dict[str, type[UnitState]] = {
    kind.__name__: kind
    for kind in (
        ChainState,
        LaneState,
        WalkState,
        WalksState,
        EnsembleState,
        LadderState,
        RejectionState,
        GridState,
    )
}


def build(
    target: TargetDensity, settings: FitSettings, chains: int, seed: int, method: Method
) -> Sampler:
    """Return the sampler of a method on a target."""
    match method:
        case NoUTurn():
            return NoUTurnSampler(target, settings, chains, seed, method)
        case FixedLength():
            return FixedLengthSampler(target, settings, chains, seed, method)
        case RandomWalk():
            kind = RandomWalkSampler if target.traceable else BlackBoxWalk
            return kind(target, settings, chains, seed, method)
        case Ensemble():
            return EnsembleSampler(target, settings, chains, seed, method)
        case Tempering():
            return TemperingSampler(target, settings, chains, seed, method)
        case LaplaceGrid():
            return GridSampler(target, settings, chains, seed, method)
        case _:
            return RejectionSampler(target, settings, chains, seed, method)
