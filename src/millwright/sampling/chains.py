"""Several chains side by side, each in a thread of its own."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from concurrent.futures import FIRST_EXCEPTION, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from threading import Event
from typing import Literal

import numpy as np
from threadpoolctl import threadpool_limits

from millwright.sampling.block import block_for
from millwright.sampling.chain import Chain, ChainResult, FitSettings
from millwright.sampling.progress import ChainProgress, Listener, Progress
from millwright.sampling.random_walk import MetropolisWalk
from millwright.sampling.target import Target

__all__ = ["Method", "Sampled", "available_cores", "sample"]


Method = Literal["no_u_turn", "random_walk"]


@dataclass(frozen=True)
class Sampled:
    """The chains of a fit.

    Attributes
    ----------
    chains
        One result a chain, in order.
    compiling, sampling
        Seconds spent.
    complete
        False if the fit was stopped before its end.
    """

    chains: tuple[ChainResult, ...]
    compiling: float
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


def available_cores() -> int:
    """Return how many cores this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


def sample(
    target: Target,
    settings: FitSettings,
    chains: int,
    seed: int,
    workers: int | None = None,
    listener: Listener = lambda progress: None,
    method: Method = "no_u_turn",
) -> Sampled:
    """Run chains of the no-U-turn sampler, or of random-walk Metropolis.

    The draws depend on target, seed, settings and the number of chains asked for before a
    given one, not on `workers`. BLAS is held to one thread meanwhile: its threads would fight
    the chains for the cores.

    Raises
    ------
    StartError
        If no starting point is found.
    """
    began = time.perf_counter()
    listener(Progress("compiling", 0.0))
    stop = Event()
    if method == "random_walk":
        walk = MetropolisWalk(target, settings, chains, seed, stop)
        tasks: list[Callable[[], tuple[ChainResult, ...]]] = [walk.run]
    else:
        run_block = block_for(target)
        running = [Chain(target, run_block, settings, seed, n, stop) for n in range(chains)]
        tasks = [_alone(chain) for chain in running]
    compiling = time.perf_counter() - began

    def reached() -> tuple[ChainProgress, ...]:
        if method == "random_walk":
            return walk.progress
        return tuple(chain.progress for chain in running)

    with (
        threadpool_limits(1, user_api="blas"),
        ThreadPoolExecutor(min(len(tasks), workers or available_cores())) as pool,
    ):
        futures = [pool.submit(task) for task in tasks]
        complete = _watch(futures, reached, stop, listener, began)
    results = tuple(result for future in futures for result in future.result())
    seconds = time.perf_counter() - began
    listener(Progress("finished" if complete else "stopped", seconds, reached()))
    return Sampled(results, compiling, seconds - compiling, complete)


def _alone(chain: Chain) -> Callable[[], tuple[ChainResult, ...]]:
    return lambda: (chain.run(),)


def _watch(
    futures: list[Future[tuple[ChainResult, ...]]],
    reached: Callable[[], tuple[ChainProgress, ...]],
    stop: Event,
    listener: Listener,
    began: float,
) -> bool:
    """Report until all chains are done; stop them at the next block on Ctrl-C or an error."""
    try:
        while True:
            done, pending = wait(futures, timeout=0.1, return_when=FIRST_EXCEPTION)
            if any(future.exception() for future in done):
                stop.set()
                wait(futures)
                return True
            if not pending:
                return True
            seconds = time.perf_counter() - began
            listener(Progress("sampling", seconds, reached()))
    except KeyboardInterrupt:
        stop.set()
        wait(futures)
        return False
    except BaseException:
        stop.set()
        raise
