"""Fits of one model to many data sets: compiled once for each shape, spread over workers.

Most go in batches through fixed-length trajectories in lock step (`lane_batch`); what those cannot
do, or do not do well, goes through the sampler that a single fit would have.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field, replace
from threading import Event
from typing import Any

import numpy as np

from millwright.cores import available_cores, one_thread
from millwright.errors import MillwrightError, WorkerError
from millwright.fitting.coordinates import uninformed
from millwright.fitting.fit import Fit
from millwright.fitting.in_memory import run_in_memory
from millwright.fitting.job import Job
from millwright.fitting.lane_batch import LaneBatch
from millwright.fitting.plan import FitPlan
from millwright.fitting.target import target_in_shape
from millwright.modelling.binding import Binding
from millwright.modelling.gathering import gathered
from millwright.modelling.same_shape import common_rows, padded, row_counts, without_label_names
from millwright.sampling.interrupts import Held, stops_held
from millwright.sampling.methods import FixedLength
from millwright.sampling.peaks import PeakSearch
from millwright.sampling.pools import refuse_forks
from millwright.sampling.progress import DataSetCount, Listener, Progress
from millwright.sampling.sampler import NEVER, Stop
from millwright.sampling.streams import Stream, generator_of
from millwright.sampling.warmup import LARGEST_DENSE

__all__ = ["ManyFits", "fit_many", "seed_of"]

_BATCHES = (2, 4, 8, 16, 32)
_FEWEST = 3
_SEARCHED = 3
_GRADIENTS = 3000
_MOST_NUMBERS = 20_000_000
_SECONDS_BETWEEN_LOOKS = 0.1
_LARGEST_LANE = min(50, LARGEST_DENSE)


Good = Callable[[Sequence[Fit]], list[bool]]


@dataclass(kw_only=True)
class ManyFits:
    """What came of many data sets.

    Attributes
    ----------
    fits
        By the name of the data set.
    failures
        Why others could not be fitted.
    again
        Those that were fitted again, since the quick way left doubts.
    searched
        In how many data sets separate modes were searched for, of those that went the quick way.
    """

    fits: dict[Any, Fit] = field(default_factory=dict)
    failures: dict[Any, str] = field(default_factory=dict)
    again: list[Any] = field(default_factory=list)
    searched: int = 0


def seed_of(seed: int, number: int) -> int:
    """Return the seed of a data set: its own, so that errors of two are never alike."""
    return int(generator_of(seed, Stream.DATA_SETS, number).integers(2**31))


def fit_many(
    bindings: Mapping[Any, Binding],
    plan: FitPlan,
    seeds: Mapping[Any, int],
    workers: int | Executor | None,
    good: Good,
    keep: Callable[[Any, Fit], None],
    listener: Listener,
    done: int = 0,
) -> tuple[ManyFits, bool]:
    """Fit a model to many data sets.

    Parameters
    ----------
    bindings, seeds
        The model bound to each, and the seed of each, by name.
    good
        Which fits of one batch can be used as they are; others of the quick way are made again.
    keep
        Called with each fit as soon as it is there.
    done
        How many data sets of all were fitted before, for the progress.

    Returns
    -------
    What came of them, and whether all was done (False after Ctrl-C).
    """
    run = _Run(
        bindings=bindings,
        plan=plan,
        seeds=seeds,
        good=good,
        keep=keep,
        listener=listener,
        before=done,
    )
    if isinstance(workers, Executor):
        refuse_forks(workers)
        return run.result, run.go(workers, elsewhere=True)
    count = workers or available_cores()
    with ThreadPoolExecutor(count) as threads, one_thread:
        return run.result, run.go(threads, elsewhere=False, workers=count)


@dataclass(kw_only=True)
class _Run:
    bindings: Mapping[Any, Binding]
    plan: FitPlan
    seeds: Mapping[Any, int]
    good: Good
    keep: Callable[[Any, Fit], None]
    listener: Listener
    before: int
    result: ManyFits = field(default_factory=ManyFits)
    places: dict[Any, Mapping[str, int]] = field(default_factory=dict)
    stop: Event = field(default_factory=Event)
    shares: dict[int, tuple[float, int]] = field(default_factory=dict)
    finished: int = 0
    began: float = field(default_factory=time.perf_counter)

    def go(self, executor: Executor, elsewhere: bool, workers: int = 4) -> bool:
        self._tell("compiling")
        quick = [name for name, binding in self.bindings.items() if _quick(binding, self.plan)]
        if len(quick) < _FEWEST and self.plan.method is None:
            quick = []
        with stops_held() as held:
            batches = self._batches(quick, workers) if quick else []
            quick = [name for batch in batches for name in batch.jobs]
            slow = [name for name in self.bindings if name not in set(quick)]
            submit = _submit_elsewhere if elsewhere else _submit_here
            complete = self._each(executor, submit, batches, slow, held)
        self._tell("finished" if complete else "stopped")
        return complete

    def _plan_of(self, name: Any) -> FitPlan:
        return replace(self.plan, seed=self.seeds[name])

    def _batches(self, names: Sequence[Any], workers: int) -> list[LaneBatch]:
        """Sort data sets by shape; where modes are found, leave all to the usual sampler."""
        shapes = list(_by_shape({name: self._quick_job(name) for name in names}))
        for jobs, places in shapes:
            self.places.update(dict.fromkeys(jobs, places))
        if self.plan.method is None:
            shapes = [(jobs, places) for jobs, places in shapes if len(jobs) >= _FEWEST]
        if self._several_modes(shapes):
            return []
        batches = []
        for jobs, places in shapes:
            size = _batch_size(next(iter(jobs.values())), len(jobs), workers)
            every = list(jobs.items())
            for at in range(0, len(every), size):
                part = dict(every[at : at + size])
                batches.append(LaneBatch(jobs=part, places=places, sets=size))
        return batches

    def _quick_job(self, name: Any) -> Job:
        plan = self._plan_of(name)
        blank = uninformed(self.bindings[name], plan.parameterisation)
        method = _fixed_length(plan) or FixedLength()
        return plan.job_of(blank, method)

    def _several_modes(self, shapes: Sequence[tuple[dict[Any, Job], dict[str, int]]]) -> bool:
        """Search some of the data sets for separate modes."""
        every = [(job, places) for jobs, places in shapes for job in jobs.values()]
        which = sorted({0, len(every) // 2, len(every) - 1}) if every else []
        self.result.searched = len(which[:_SEARCHED])
        for at in which[:_SEARCHED]:
            job, places = every[at]
            target = target_in_shape(job.binding, places)
            if PeakSearch(target, job.seed, _GRADIENTS).peaks().several:
                self.result.searched = 0
                return True
        return False

    def _each(
        self,
        executor: Executor,
        submit: Callable[..., Future[Any]],
        batches: Sequence[LaneBatch],
        slow: Sequence[Any],
        held: Held,
    ) -> bool:
        running: dict[Future[Any], tuple[int, Sequence[Any]]] = {}

        def one(name: Any) -> None:
            job = _Single(
                name=name,
                plan=self._plan_of(name),
                binding=self.bindings[name],
                places=self.places.get(name, {}),
            )
            running[submit(executor, job, self.stop, lambda share: None, self.good)] = (-1, [name])

        for number, batch in enumerate(batches):
            told = self._told(number, len(batch.jobs))
            running[submit(executor, batch, self.stop, told, self.good)] = (
                number,
                list(batch.jobs),
            )
        for name in slow:
            one(name)
        try:
            while running:
                over, _ = wait(running, _SECONDS_BETWEEN_LOOKS, FIRST_COMPLETED)
                for future in over:
                    number, names = running.pop(future)
                    self.shares.pop(number, None)
                    for name in self._take(future, names, number >= 0):
                        one(name)
                self._tell("sampling")
                if held.pressed:
                    return False
            return True
        finally:
            # On the way out after Ctrl-C or an error; otherwise nothing is left to stop.
            self.stop.set()
            for future in running:
                future.cancel()

    def _take(self, future: Future[Any], names: Sequence[Any], quick: bool) -> list[Any]:
        """Keep what a task gave; return the data sets that must be fitted again."""
        try:
            fits, failures, good = future.result()
        except MillwrightError as error:
            fits, failures, good = {}, {name: str(error) for name in names}, None
        except Exception as error:
            raise WorkerError(
                f"The workers failed ({type(error).__name__}: {error}) while fitting "
                f"{', '.join(map(str, names[:5]))}."
            ) from error
        checked = quick and self.plan.method is None
        if checked and good is None:
            good = dict(zip(fits, self.good(list(fits.values())), strict=True))
        again = []
        for name, why in failures.items():
            self.result.failures[name] = why
            self.finished += 1
        for name, fit in fits.items():
            if checked and not good[name]:
                again.append(name)
                self.result.again.append(name)
                continue
            self.result.fits[name] = fit
            self.keep(name, fit)
            self.finished += 1
        return again

    def _told(self, number: int, size: int) -> Callable[[float], None]:
        def told(share: float) -> None:
            self.shares[number] = (share, size)

        return told

    def _tell(self, stage: Any) -> None:
        part = sum(share * size for share, size in list(self.shares.values()))
        count = DataSetCount(
            self.before + self.finished + 0.99 * part, self.before + len(self.bindings)
        )
        self.listener(Progress(stage, time.perf_counter() - self.began, (), count))


@dataclass(frozen=True, kw_only=True)
class _Single:
    """One data set, fitted by the sampler that a fit of its own would have."""

    name: Any
    plan: FitPlan
    binding: Binding
    places: Mapping[str, int]

    def run(self, stop: Stop, told: Callable[[float], None]) -> Any:
        if stop.is_set():
            return {}, {}
        fit, _ = run_in_memory(self.plan.job(self.binding, self.places), 1, lambda event: None)
        return {self.name: fit}, {}


def _run_task(
    task: LaneBatch | _Single, stop: Stop, told: Callable[[float], None], good: Good | None
) -> Any:
    """Run a task; return fits, failures, and of a batch which fits are good, where that is known.

    Judging here, and not where all results come together, is done side by side too.
    """
    fits, failures = task.run(stop, told)
    if good is None or not isinstance(task, LaneBatch):
        return fits, failures, None
    return fits, failures, dict(zip(fits, good(list(fits.values())), strict=True))


def _submit_here(
    executor: Executor, task: Any, stop: Stop, told: Callable[[float], None], good: Good
) -> Future[Any]:
    return executor.submit(_run_task, task, stop, told, good)


def _submit_elsewhere(
    executor: Executor, task: Any, stop: Stop, told: Callable[[float], None], good: Good
) -> Future[Any]:
    import cloudpickle

    return executor.submit(_run_sent, cloudpickle.dumps(task))


def _run_sent(payload: bytes) -> Any:
    """Run a task in another process."""
    import cloudpickle

    with one_thread:
        return _run_task(cloudpickle.loads(payload), NEVER, lambda share: None, None)


def _fixed_length(plan: FitPlan) -> FixedLength | None:
    """Return the method of the quick way if it is asked for by name or with its settings."""
    if plan.method == FixedLength.name:
        return FixedLength()
    return plan.method if isinstance(plan.method, FixedLength) else None


def _quick(binding: Binding, plan: FitPlan) -> bool:
    """Whether a data set can go in lock step with others."""
    if _fixed_length(plan) is not None:
        return not binding.program.black_boxes
    usual = plan.gradient_method() == FitPlan().gradient_method()
    return (
        plan.method is None
        and usual
        and plan.start is None
        and not binding.program.black_boxes
        and binding.dimension <= _LARGEST_LANE
    )


def _by_shape(jobs: Mapping[Any, Job]) -> Iterator[tuple[dict[Any, Job], dict[str, int]]]:
    """Yield jobs whose targets have one shape, with the places that their rows are filled to."""
    counts = {name: row_counts(gathered(job.binding).binding) for name, job in jobs.items()}
    axes = {axis for found in counts.values() for axis in found}
    filled = {
        axis: common_rows([found[axis] for found in counts.values() if axis in found])
        for axis in axes
    }
    groups: dict[Any, tuple[dict[Any, Job], dict[str, int]]] = {}
    for name, job in jobs.items():
        places = {axis: filled[axis][size] for axis, size in counts[name].items()}
        binding = padded(job.binding, places) if places else gathered(job.binding).binding
        shapes = tuple(sorted((key, np.shape(v)) for key, v in binding.arguments.items()))
        key = (without_label_names(binding.program), shapes)
        groups.setdefault(key, ({}, places))[0][name] = job
    for group, places in groups.values():
        sizes = {tuple(counts[name].items()) for name in group}
        # Where all are of one length nothing has to be filled up.
        yield group, ({} if len(sizes) == 1 and sizes == {tuple(places.items())} else places)


def _batch_size(job: Job, count: int, workers: int) -> int:
    """Return how many data sets move together: fewer where draws would take too much memory."""
    each = job.chains * job.binding.dimension * (job.settings.draws + job.settings.warmup)
    most = max(_BATCHES[0], min(-(-count // workers), _MOST_NUMBERS // each))
    return next((size for size in _BATCHES if size >= most), _BATCHES[-1])
