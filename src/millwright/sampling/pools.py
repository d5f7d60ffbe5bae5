"""Where units of work run: threads of this process, processes of its own, or any executor."""

from __future__ import annotations

import hashlib
import os
import signal
from collections import OrderedDict
from collections.abc import Callable, Iterator
from concurrent.futures import (
    BrokenExecutor,
    Executor,
    Future,
    ThreadPoolExecutor,
)
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from types import TracebackType
from typing import Any, Protocol, Self

import numpy as np

from millwright.cores import available_cores, one_thread
from millwright.errors import ArgumentError, MillwrightError, WorkerError
from millwright.sampling.sampler import NEVER, Sampler, Stop
from millwright.sampling.target import TargetDensity
from millwright.wording import action, setting

__all__ = [
    "Pool",
    "check_workers",
    "for_a_while",
    "pool_for",
    "refuse_forks",
    "spread_over_workers",
]

Recipe = Callable[[], Any]

_SLICE_IN_THREADS = 0.1
_SLICE_ELSEWHERE = 1.0
_TRIES = 3


class Pool(Protocol):
    """Runs slices of units somewhere."""

    patience: float | None
    """How many seconds to wait for workers that were asked to stop; None for ever."""

    def __enter__(self) -> Self:
        """Start."""

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        """Let the workers go."""

    def submit(self, sampler: Sampler, unit: int, state: Any, stop: Stop) -> Future[Any]:
        """Start the next slice of a unit; a unit without a state is started first."""

    def recover(self, error: BaseException, tries: int) -> None:
        """Return if the slice may be tried again after this error, else raise it."""


def _slice(
    sampler: Sampler, unit: int, state: Any, seconds: float, stop: Stop
) -> tuple[Any, tuple[Any, ...]]:
    begun = sampler.start(unit) if state is None else state
    return sampler.advance(begun, seconds, stop)


class Threads:
    """Threads of this process. Compiled code and good array code let go of the interpreter.

    BLAS is held to one thread meanwhile: its threads would fight the chains for the cores.
    """

    patience: float | None = None

    def __init__(self, workers: int) -> None:
        self.executor = ThreadPoolExecutor(workers)

    def __enter__(self) -> Self:
        one_thread.__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        self.executor.shutdown()
        one_thread.__exit__(*_)

    def submit(self, sampler: Sampler, unit: int, state: Any, stop: Stop) -> Future[Any]:
        return self.executor.submit(_slice, sampler, unit, state, _SLICE_IN_THREADS, stop)

    def recover(self, error: BaseException, tries: int) -> None:
        raise error


@dataclass(frozen=True)
class Shipped:
    """How to make a sampler, as bytes that any process of the same environment can read."""

    payload: bytes = field(repr=False)
    token: str

    @classmethod
    def of(cls, recipe: Recipe) -> Shipped:
        # Only those who use processes wait for it.
        import cloudpickle

        try:
            payload = cloudpickle.dumps(recipe)
        except Exception as error:
            raise WorkerError(
                f"The model cannot be sent to other processes ({type(error).__name__}: {error}). "
                "Its functions must not hold open files, locks or the like."
            ) from error
        return cls(payload, hashlib.sha256(payload).hexdigest())


_KEPT = 4
_made: OrderedDict[str, Any] = OrderedDict()


def _made_from(shipped: Shipped) -> Any:
    """Make a sampler or target in a worker; the last few are kept, with compiled code."""
    import cloudpickle

    if shipped.token not in _made:
        _made[shipped.token] = cloudpickle.loads(shipped.payload)()
        while len(_made) > _KEPT:
            _made.popitem(last=False)
    return _made[shipped.token]


def _slice_elsewhere(shipped: Shipped, unit: int, state: Any, seconds: float) -> Any:
    with one_thread:
        return _slice(_made_from(shipped), unit, state, seconds, NEVER)


def _check_elsewhere(shipped: Shipped) -> int:
    """Make the sampler and its first state in a worker; return the worker's process number."""
    _made_from(shipped).start(0)
    return os.getpid()


class Elsewhere:
    """An executor of the user's, such as a process pool or a cluster's.

    Slices are pure: one whose worker died is simply sent again.
    """

    patience: float | None = 60.0

    def __init__(self, executor: Executor, recipe: Recipe) -> None:
        refuse_forks(executor)
        self.executor = executor
        self.shipped = Shipped.of(recipe)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        return None

    def submit(self, sampler: Sampler, unit: int, state: Any, stop: Stop) -> Future[Any]:
        try:
            return self.executor.submit(
                _slice_elsewhere, self.shipped, unit, state, _SLICE_ELSEWHERE
            )
        except (BrokenExecutor, RuntimeError) as error:
            raise _dead(error) from error

    def recover(self, error: BaseException, tries: int) -> None:
        if isinstance(error, MillwrightError):
            raise error
        if isinstance(error, BrokenExecutor) or tries >= _TRIES:
            raise _dead(error) from error


def _dead(error: BaseException) -> WorkerError:
    return WorkerError(
        f"The workers failed ({type(error).__name__}: {error}). If the fit was given "
        f"{setting('save')}, "
        f"{action('resume')} goes on from what is stored, with these or other workers."
    )


class Processes(Elsewhere):
    """Processes of our own; when one dies all are replaced."""

    def __init__(self, workers: int, recipe: Recipe) -> None:
        self.workers = workers
        super().__init__(own_processes(workers), recipe)

    def __exit__(self, *_: object) -> None:
        _end(self.executor)

    def submit(self, sampler: Sampler, unit: int, state: Any, stop: Stop) -> Future[Any]:
        try:
            return super().submit(sampler, unit, state, stop)
        except WorkerError:
            self.executor = own_processes(self.workers)
            return super().submit(sampler, unit, state, stop)

    def recover(self, error: BaseException, tries: int) -> None:
        if isinstance(error, BrokenExecutor) and tries < _TRIES:
            return
        super().recover(error, tries)


def own_processes(workers: int) -> Executor:
    """Return a pool of fresh processes that leave Ctrl-C to this one.

    They never run the user's script again, so it needs no guard around its main part.
    """
    from loky.process_executor import ProcessPoolExecutor

    executor: Executor = ProcessPoolExecutor(workers, initializer=_leave_interrupts)
    return executor


def _end(executor: Any) -> None:
    """Stop processes of our own at once: what they still compute is of no use."""
    executor.shutdown(kill_workers=True)


@contextmanager
def for_a_while(workers: int) -> Iterator[Executor]:
    """Lend processes of our own."""
    executor = own_processes(workers)
    try:
        yield executor
    finally:
        _end(executor)


def _leave_interrupts() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def refuse_forks(executor: Executor) -> None:
    """Refuse processes that are forked: JAX's threads do not survive a fork."""
    context = getattr(executor, "_mp_context", None)
    if context is not None and context.get_start_method() == "fork":
        raise ArgumentError(
            "Worker processes must be spawned, not forked: "
            "ProcessPoolExecutor(mp_context=multiprocessing.get_context('spawn'))."
        )


def pool_for(
    sampler: Sampler,
    workers: int | Executor | None,
    recipe: Recipe | None = None,
    processes: bool = False,
) -> Pool:
    """Return where to run the units of a sampler.

    Parameters
    ----------
    workers
        How many at a time (by default one a core), or an executor.
    recipe
        Makes the sampler anew in another process.
    processes
        Whether a number of workers asks for processes, since the target holds on to the
        interpreter.

    Raises
    ------
    ArgumentError
        For an executor that forks.
    WorkerError
        If the sampler cannot be sent.
    """
    if isinstance(workers, Executor) and recipe is not None:
        return Elsewhere(workers, recipe)
    number = workers if isinstance(workers, int) else available_cores()
    number = max(1, min(number, sampler.units))
    if processes and recipe is not None and isinstance(workers, int) and workers > 1:
        return Processes(number, recipe)
    return Threads(number)


def spread_over_workers(
    sampler: Any, workers: int | Executor | None, recipe: Callable[[], TargetDensity]
) -> Pool:
    """Return a pool in which a sampler of black boxes has its points evaluated by workers.

    The sampler itself runs in a thread here; each of its calls goes to the workers in pieces.
    """
    executor = workers if isinstance(workers, Executor) else None
    return Evaluators(sampler, executor, workers if isinstance(workers, int) else 0, recipe)


class Evaluators(Threads):
    """One thread for the sampler, and worker processes that evaluate its points."""

    def __init__(
        self,
        sampler: Any,
        executor: Executor | None,
        workers: int,
        recipe: Callable[[], TargetDensity],
    ) -> None:
        super().__init__(1)
        self.own = executor is None
        self.workers = workers or 4
        self.evaluators = executor or own_processes(workers)
        refuse_forks(self.evaluators)
        self.shipped = Shipped.of(recipe)
        target = sampler.target
        sampler.target = replace(target, plain=self._plain, split=self._split)

    def __exit__(self, *_: object) -> None:
        super().__exit__()
        if self.own:
            _end(self.evaluators)

    def _plain(self, positions: np.ndarray) -> np.ndarray:
        prior, likelihood = self._split(positions)
        return prior + likelihood

    def _split(self, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        pieces = np.array_split(positions, min(len(positions), self.workers))
        tries = 0
        while True:
            try:
                futures = [
                    self.evaluators.submit(_values_elsewhere, self.shipped, piece)
                    for piece in pieces
                ]
                priors, likelihoods = zip(*(future.result() for future in futures), strict=True)
                return np.concatenate(priors), np.concatenate(likelihoods)
            except MillwrightError:
                raise
            except Exception as error:
                tries += 1
                broken = isinstance(error, BrokenExecutor)
                if tries == _TRIES or (broken and not self.own):
                    raise _dead(error) from error
                if broken:
                    self.evaluators = own_processes(self.workers)


def _values_elsewhere(shipped: Shipped, positions: np.ndarray) -> Any:
    with one_thread:
        return _made_from(shipped).split(positions)


def check_workers(executor: Executor, recipe: Recipe, tasks: int = 4) -> int:
    """Let workers make the sampler and evaluate its target once; return how many answered.

    Raises
    ------
    ArgumentError, WorkerError
        If the workers cannot be used.
    """
    if not isinstance(executor, Executor):
        raise ArgumentError(
            "`workers` must be a concurrent.futures.Executor here, such as a ProcessPoolExecutor, "
            f"not {executor!r}."
        )
    shipped = Elsewhere(executor, recipe).shipped
    try:
        futures = [executor.submit(_check_elsewhere, shipped) for _ in range(tasks)]
        return len({future.result() for future in futures})
    except MillwrightError:
        raise
    except Exception as error:
        raise WorkerError(
            f"The workers cannot evaluate the model ({type(error).__name__}: {error}). They need "
            "the same environment as this process, and any module that its functions import."
        ) from error
