"""Chains of sweeps side by side, block by block, with progress and a stop between blocks."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.cores import available_cores, one_thread
from millwright.sampling.progress import ChainProgress, Listener, Progress
from millwright.sampling.streams import Stream, generator_of
from millwright.sweeps.chain import sweep
from millwright.sweeps.problem import Kept, Problem, State, any_moves, begun, room, writable

__all__ = ["Halted", "Plan", "Stop", "Swept", "stacked", "swept"]

_BLOCK_SECONDS = 0.2
_FIRST_BLOCK = 5
_LARGEST_BLOCK = 500
_POLL = 0.1
_MARKS = 20
"""At so many places along the kept draws a chain notes its generator, to go on from there."""


@dataclass(frozen=True, kw_only=True)
class Plan:
    """How many chains, draws of warm-up, kept draws, and sweeps a draw."""

    chains: int
    warmup: int
    draws: int
    thin: int
    seed: int


@dataclass(frozen=True, kw_only=True)
class Stop:
    """Where a chain stopped: what it goes on from, and the state of its generator."""

    state: State
    generator: Mapping[str, Any]


@dataclass(frozen=True, kw_only=True)
class Swept:
    """Draws of every chain, equally many, and the states of their generators after the last."""

    kept: list[Kept]
    generators: list[Mapping[str, Any]]


class Halted(KeyboardInterrupt):
    """Sweeps were stopped by Ctrl-C; `done` is what every chain had kept, or None."""

    def __init__(self, done: Swept | None) -> None:
        super().__init__("The sweeps were stopped.")
        self.done = done


class _Chain:
    """One chain: what it needs to go on, and how far it is."""

    def __init__(self, problem: Problem, plan: Plan, number: int, stop: Stop | None) -> None:
        self.problem, self.plan, self.number = problem, plan, number
        self.generator = generator_of(plan.seed, Stream.SWEEPS, number)
        if stop is None:
            self.state = begun(problem, self.generator)
        else:
            self.state = stop.state
            self.generator.bit_generator.state = stop.generator
        self.kept = room(problem, plan.draws)
        self.done, self.total, self.size = 0, plan.warmup + plan.draws, _FIRST_BLOCK
        self.marks: dict[int, Mapping[str, Any]] = {}

    def block(self) -> _Chain:
        """Make a block of draws."""
        warmup, apart = self.plan.warmup, max(1, self.plan.draws // _MARKS)
        warming = self.done < warmup
        begin = -1 if warming else self.done - warmup
        end = warmup if warming else min(self.total, warmup + (begin // apart + 1) * apart)
        count = min(self.size, end - self.done)
        began = time.monotonic()
        sweep(
            self.problem,
            self.state,
            self.kept,
            begin,
            count,
            self.plan.thin,
            self.generator,
            True if any_moves(self.problem.size_scale) else None,
        )
        self.done += count
        if self.done == end and not warming:
            self.marks[end - warmup] = dict(self.generator.bit_generator.state)
        # Draws do not depend on the sizes of blocks, which only set how often one looks up.
        if time.monotonic() - began < _BLOCK_SECONDS:
            self.size = min(2 * self.size, _LARGEST_BLOCK)
        return self

    def up_to(self, draws: int) -> Kept:
        """Return its first draws."""
        return Kept(*(part[:draws] for part in self.kept))

    @property
    def progress(self) -> ChainProgress:
        """How far it is."""
        return ChainProgress(
            chain=self.number,
            warming=self.done < self.plan.warmup,
            done=self.done,
            total=self.total,
            divergences=0,
            steps=self.done * self.plan.thin,
        )


def swept(
    problem: Problem,
    plan: Plan,
    workers: int | None,
    listener: Listener,
    stops: Sequence[Stop] = (),
) -> Swept:
    """Run chains in threads, a block of each in turn.

    Parameters
    ----------
    workers
        Chains at a time; by default one a core.
    listener
        Told how far the chains are.
    stops
        Where each chain goes on from; by default they begin.

    Raises
    ------
    Halted
        On Ctrl-C, once every chain has ended its block.
    """
    began = time.monotonic()
    listener(Progress("compiling", 0.0))
    problem = writable(problem)
    chains = [
        _Chain(problem, plan, number, stops[number] if stops else None)
        for number in range(plan.chains)
    ]
    try:
        with one_thread, ThreadPoolExecutor(max_workers=workers or available_cores()) as pool:
            waiting = {pool.submit(chain.block) for chain in chains}
            while waiting:
                waiting = _next_blocks(pool, waiting)
                if any(chain.done for chain in chains):
                    told = tuple(chain.progress for chain in chains)
                    listener(Progress("sampling", time.monotonic() - began, told))
    except KeyboardInterrupt as stop:
        raise Halted(_common(chains)) from stop
    told = tuple(chain.progress for chain in chains)
    listener(Progress("finished", time.monotonic() - began, told))
    found = _common(chains)
    assert found is not None
    return found


def _next_blocks(pool: ThreadPoolExecutor, waiting: set[Future[_Chain]]) -> set[Future[_Chain]]:
    """Wait for blocks, and begin the next of each chain that is not at its end."""
    done, waiting = wait(waiting, timeout=_POLL, return_when=FIRST_COMPLETED)
    ended = [one.result() for one in done]
    return waiting | {pool.submit(chain.block) for chain in ended if chain.done < chain.total}


def _common(chains: Sequence[_Chain]) -> Swept | None:
    """Return the draws that all chains have, up to the last place where each could go on."""
    marks = set.intersection(*(set(chain.marks) for chain in chains))
    if not marks:
        return None
    last = max(marks)
    return Swept(
        kept=[chain.up_to(last) for chain in chains],
        generators=[chain.marks[last] for chain in chains],
    )


def stacked(kept: list[Kept]) -> Kept:
    """Return the draws of all chains with the chains as the first axis."""
    return Kept(*(np.stack(parts) for parts in zip(*kept, strict=True)))
