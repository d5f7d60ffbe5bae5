"""Chains of sweeps side by side, block by block, with progress and a stop between blocks."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.sampling.progress import ChainProgress, Listener, Progress
from millwright.sampling.streams import Stream, generator_of
from millwright.sweeps.chain import sweep
from millwright.sweeps.problem import Kept, Problem, State, begun, room

__all__ = ["Plan", "Stop", "stacked", "swept"]

_BLOCK_SECONDS = 0.2
_FIRST_BLOCK = 5
_LARGEST_BLOCK = 500
_POLL = 0.1


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
        self.done = 0

    def go(self, stopped: threading.Event) -> None:
        """Make all draws, unless stopped between two blocks."""
        block, total = _FIRST_BLOCK, self.plan.warmup + self.plan.draws
        while self.done < total and not stopped.is_set():
            warming = self.done < self.plan.warmup
            end = self.plan.warmup if warming else total
            count = min(block, end - self.done)
            begin = -1 if warming else self.done - self.plan.warmup
            began = time.monotonic()
            sweep(
                self.problem,
                self.state,
                self.kept,
                begin,
                count,
                self.plan.thin,
                self.generator,
            )
            self.done += count
            # Draws do not depend on the sizes of blocks, which only set how often one looks up.
            if time.monotonic() - began < _BLOCK_SECONDS:
                block = min(2 * block, _LARGEST_BLOCK)

    @property
    def progress(self) -> ChainProgress:
        """How far it is."""
        return ChainProgress(
            chain=self.number,
            warming=self.done < self.plan.warmup,
            done=self.done,
            total=self.plan.warmup + self.plan.draws,
            divergences=0,
            steps=self.done * self.plan.thin,
        )


def swept(
    problem: Problem,
    plan: Plan,
    workers: int | None,
    listener: Listener,
    stops: Sequence[Stop] = (),
) -> tuple[list[Kept], list[Mapping[str, Any]]]:
    """Run chains in threads; return their draws, and states of their generators at the end.

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
    KeyboardInterrupt
        On Ctrl-C, once every chain has ended its block.
    """
    began = time.monotonic()
    listener(Progress("compiling", 0.0))
    chains = [
        _Chain(problem, plan, number, stops[number] if stops else None)
        for number in range(plan.chains)
    ]
    stopped = threading.Event()
    with ThreadPoolExecutor(max_workers=workers or os.cpu_count() or 1) as pool:
        waiting = [pool.submit(chain.go, stopped) for chain in chains]
        try:
            while not all(one.done() for one in waiting):
                wait(waiting, timeout=_POLL)
                if any(chain.done for chain in chains):
                    told = tuple(chain.progress for chain in chains)
                    listener(Progress("sampling", time.monotonic() - began, told))
        except BaseException:
            stopped.set()
            raise
    for one in waiting:
        one.result()
    told = tuple(chain.progress for chain in chains)
    listener(Progress("finished", time.monotonic() - began, told))
    return (
        [chain.kept for chain in chains],
        [dict(chain.generator.bit_generator.state) for chain in chains],
    )


def stacked(kept: list[Kept]) -> Kept:
    """Return the draws of all chains with the chains as the first axis."""
    return Kept(*(np.stack(parts) for parts in zip(*kept, strict=True)))
