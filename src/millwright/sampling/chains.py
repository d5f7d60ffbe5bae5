"""Several chains side by side: in threads, in processes, or wherever an executor runs them."""

from __future__ import annotations

import time
from collections.abc import Mapping
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from dataclasses import dataclass, field
from threading import Event
from typing import Any, Protocol

import numpy as np

from millwright.sampling.interrupts import stops_held
from millwright.sampling.methods import Method, NoUTurn
from millwright.sampling.piece import Piece, joined
from millwright.sampling.pools import Pool, pool_for
from millwright.sampling.progress import ChainProgress, Listener, Progress
from millwright.sampling.sampler import FitSettings, Sampler, chains_of
from millwright.sampling.samplers import build
from millwright.sampling.state import UnitState
from millwright.sampling.target import TargetDensity

__all__ = ["Collector", "Sampled", "Sink", "drive", "sample"]


class Sink(Protocol):
    """Takes what chains leave, in order within a unit."""

    def receive(self, state: UnitState, pieces: tuple[Piece, ...]) -> None:
        """Take the new state of a unit and a piece of each of its chains."""


@dataclass
class Collector:
    """A sink that keeps everything in memory."""

    states: dict[int, UnitState] = field(default_factory=dict)
    _pieces: dict[int, list[tuple[Piece, ...]]] = field(default_factory=dict)

    def receive(self, state: UnitState, pieces: tuple[Piece, ...]) -> None:
        """Keep a state and pieces."""
        self.states[state.unit] = state
        self._pieces.setdefault(state.unit, []).append(pieces)

    @property
    def chains(self) -> dict[int, Piece]:
        """All that each chain has left so far, by its number from 0."""
        return {
            chain: joined(pieces)
            for unit, found in self._pieces.items()
            for chain, pieces in zip(
                chains_of(unit, len(found[0])), zip(*found, strict=True), strict=True
            )
        }


@dataclass(frozen=True, kw_only=True)
class Sampled:
    """The chains of a fit.

    Attributes
    ----------
    chains
        What each chain left, in order.
    reports
        What each chain settled on.
    sampling
        Seconds spent.
    complete
        False if the fit was stopped before its end.
    """

    chains: tuple[Piece, ...]
    reports: tuple[dict[str, Any], ...]
    sampling: float
    complete: bool

    @property
    def positions(self) -> np.ndarray:
        """Unconstrained draws, shape (chains, draws, dimension); cut to the shortest chain."""
        n = min(len(chain.positions) for chain in self.chains)
        return np.stack([chain.positions[:n] for chain in self.chains])

    @property
    def statistics(self) -> np.ndarray:
        """Statistics of the draws, shape (chains, draws, 7)."""
        n = min(len(chain.statistics) for chain in self.chains)
        return np.stack([chain.statistics[:n] for chain in self.chains])


def sample(
    target: TargetDensity,
    settings: FitSettings,
    chains: int,
    seed: int,
    workers: int | Executor | None = None,
    listener: Listener = lambda progress: None,
    method: Method | None = None,
) -> Sampled:
    """Run the chains of a method on a target and keep their draws in memory.

    The draws depend on target, seed, settings and the number of chains asked for before a
    given one, not on `workers`.

    Raises
    ------
    StartError
        If no starting point is found.
    """
    sampler = build(target, settings, chains, seed, method or NoUTurn())
    collector = Collector()
    began = time.perf_counter()
    listener(Progress("compiling", 0.0))
    sampler.prepare()
    complete = drive(sampler, pool_for(sampler, workers), collector, listener)
    states = [collector.states[unit] for unit in sorted(collector.states)]
    reports = tuple(report for state in states for report in sampler.report(state))
    chains_left = collector.chains
    ordered = tuple(chains_left[chain] for chain in sorted(chains_left))
    return Sampled(
        chains=ordered, reports=reports, sampling=time.perf_counter() - began, complete=complete
    )


def drive(
    sampler: Sampler,
    pool: Pool,
    sink: Sink,
    listener: Listener,
    states: Mapping[int, UnitState] | None = None,
) -> bool:
    """Run all units to their end; return False if Ctrl-C stopped them.

    A unit goes from worker to worker in slices of time. Only this thread gives to the sink and
    the listener. Whatever ends the work, workers are stopped and what they had done is kept.

    Parameters
    ----------
    states
        Where to go on; units without a state are started.
    """
    return _Run(
        sampler=sampler, pool=pool, sink=sink, listener=listener, states=dict(states or {})
    ).to_the_end()


@dataclass(kw_only=True)
class _Run:
    sampler: Sampler
    pool: Pool
    sink: Sink
    listener: Listener
    states: dict[int, Any]
    stop: Event = field(default_factory=Event)
    began: float = field(default_factory=time.perf_counter)
    tries: dict[int, int] = field(default_factory=dict)

    def to_the_end(self) -> bool:
        running: dict[Future[Any], int] = {}
        with self.pool, stops_held() as held:
            try:
                for unit in range(self.sampler.units):
                    if not self._finished(unit):
                        running[self._submit(unit)] = unit
                self._tell("sampling")
                while running:
                    held.check()
                    done, _ = wait(running, timeout=0.1, return_when=FIRST_COMPLETED)
                    for future in done:
                        unit = running.pop(future)
                        if not self._take(future, unit):
                            running[self._submit(unit)] = unit
                    self._tell("sampling")
                held.check()
            except KeyboardInterrupt:
                self._wind_up(running)
                self._tell("stopped")
                return False
            except BaseException:
                self._wind_up(running)
                raise
        self._tell("finished")
        return True

    def _submit(self, unit: int) -> Future[Any]:
        return self.pool.submit(self.sampler, unit, self.states.get(unit), self.stop)

    def _take(self, future: Future[Any], unit: int) -> bool:
        """Take the result of a slice; return whether the unit is at its end."""
        error = future.exception()
        if error is not None:
            self.tries[unit] = self.tries.get(unit, 0) + 1
            self.pool.recover(error, self.tries[unit])
            return False
        state, pieces = future.result()
        self.states[unit] = state
        self.sink.receive(state, pieces)
        return self._finished(unit)

    def _finished(self, unit: int) -> bool:
        state = self.states.get(unit)
        return state is not None and state.done >= self.sampler.settings.total

    def _wind_up(self, running: dict[Future[Any], int]) -> None:
        """Stop the workers and keep what they had done."""
        self.stop.set()
        for future in running:
            future.cancel()
        wait(running, timeout=self.pool.patience)
        for future in running:
            if future.done() and not future.cancelled() and future.exception() is None:
                self.sink.receive(*future.result())

    def _tell(self, stage: Any) -> None:
        states = [self.states[unit] for unit in sorted(self.states)]
        known = {c.chain: c for state in states for c in self.sampler.progress(state)}
        total = self.sampler.settings.total
        every = tuple(
            known.get(
                chain,
                ChainProgress(
                    chain=chain, warming=True, done=0, total=total, divergences=0, steps=0
                ),
            )
            for chain in range(self.sampler.chains)
        )
        self.listener(Progress(stage, time.perf_counter() - self.began, every))
