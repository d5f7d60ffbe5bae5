"""A fit as a job: what decides its draws, running it, and going on with it in memory."""

from __future__ import annotations

import datetime
import platform
import time
from collections.abc import Mapping, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import asdict, dataclass, fields, replace
from importlib.metadata import version
from typing import Any

import numpy as np

from millwright.draws.labelled_draws import Draws, from_positions
from millwright.errors import ArgumentError
from millwright.fitting.record import Record
from millwright.fitting.starting import Start, start_from
from millwright.fitting.target import group_record, target_of
from millwright.modelling.binding import Binding
from millwright.sampling.chains import Collector, Sink, drive
from millwright.sampling.ensemble import walkers_for
from millwright.sampling.methods import (
    Ensemble,
    Method,
    Rejection,
    Tempering,
    method_from,
    method_record,
)
from millwright.sampling.peaks import Peaks, PeakSearch
from millwright.sampling.piece import STATISTICS, Piece
from millwright.sampling.pools import Pool, pool_for, spread_over_workers
from millwright.sampling.progress import Listener, Progress
from millwright.sampling.sampler import FitSettings, Sampler
from millwright.sampling.samplers import build
from millwright.sampling.state import State
from millwright.sampling.unwritten import ChainFiles, rows_per_part
from millwright.wording import action

__all__ = [
    "Fitted",
    "Job",
    "Trail",
    "chains_for",
    "extend_in_memory",
    "job_of",
    "now",
    "run",
    "run_in_memory",
    "statistics_of",
    "versions",
]


_FEWEST_GRADIENTS = 500
_MOST_GRADIENTS = 3000


@dataclass(frozen=True)
class Job:
    """All that decides the draws of a fit."""

    binding: Binding
    settings: FitSettings
    method: Method
    chains: int
    seed: int
    trial: bool = False
    peaks: Peaks | None = None
    start: Start | None = None

    def sampler(self) -> Sampler:
        """Return the sampler."""
        target = target_of(self.binding)
        begin_at = None if self.peaks is None else self.peaks.to_begin_at
        if self.start is not None:
            begin_at = self.start.positions(self.chains)
        target = replace(target, begin_at=begin_at, peaks=self.peaks)
        return build(target, self.settings, self.chains, self.seed, self.method)

    def searched(self, listener: Listener) -> Job:
        """Return the job after a search for separate modes, where there is a gradient for it."""
        if self.peaks is not None or isinstance(self.method, Rejection):
            return self
        target = target_of(self.binding)
        if not target.traceable:
            return self
        listener(Progress("searching", 0.0))
        most = int(np.clip(3 * self.settings.warmup, _FEWEST_GRADIENTS, _MOST_GRADIENTS))
        most = max(200, int(most * min(1.0, 200 / target.dimension)))
        search = PeakSearch(target, self.seed, most)
        if isinstance(self.method, Tempering):
            return replace(self, peaks=search.peaks())
        # The other core compiles meanwhile what the chains will run.
        with ThreadPoolExecutor(1) as other:
            preparing = other.submit(self.sampler().prepare)
            found = search.peaks()
            preparing.result()
        return replace(self, peaks=found)


@dataclass(frozen=True)
class Trail:
    """What chains leave besides draws, so that they can go on.

    Attributes
    ----------
    states
        The state of each unit of work.
    chains
        What of each chain is not in full parts.
    """

    states: Mapping[int, State]
    chains: tuple[ChainFiles, ...]

    @property
    def level(self) -> bool:
        """Whether all chains have equally many full parts: those of a stopped run may not."""
        return len({one.full for one in self.chains}) == 1

    def warmup_values(self, draws: Draws) -> Draws | None:
        """Return the warm-up's draws, cut to the shortest chain; None if they are not kept."""
        n = min(len(chain.path) for chain in self.chains)
        if not n or any(len(chain.path) != len(chain.warmup) for chain in self.chains):
            return None
        return from_positions(draws.binding, np.stack([one.path[:n] for one in self.chains]))

    def divergent_values(self, draws: Draws) -> dict[str, np.ndarray]:
        """Return each unknown number where trajectories diverged, chain after chain."""
        places = np.concatenate([chain.failures for chain in self.chains])
        names = [part.name for part in draws.binding.program.unknowns]
        if not len(places):
            return dict.fromkeys(draws.single(names), np.zeros(0))
        found = from_positions(draws.binding, places[None]).single(names)
        return {name: values[0] for name, values in found.items()}


@dataclass(frozen=True)
class Fitted:
    """The result of a job.

    Attributes
    ----------
    statistics
        The sampler's numbers by name, shape (chains, draws).
    """

    draws: Draws
    record: Record
    statistics: Mapping[str, np.ndarray]
    trail: Trail | None


def job_of(record: Record, binding: Binding) -> Job:
    """Return the job that a record is of."""
    start = record.settings.get("begun_at")
    settings = FitSettings(**{f.name: record.settings[f.name] for f in fields(FitSettings)})
    return Job(
        binding,
        settings,
        method_from(record.method),
        int(record.settings["chains"]),
        record.seed,
        bool(record.settings["trial"]),
        Peaks.from_record(record.modes) if record.modes else None,
        start_from(binding, start, record.seed) if start else None,
    )


def now() -> str:
    """Return the time, for the record."""
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")


def versions() -> dict[str, str]:
    """Return the versions of what computes."""
    names = ("millwright", "jax", "numpy", "scipy")
    return {
        **{name: version(name) for name in names},
        "python": platform.python_version(),
        "processor": platform.machine(),
    }


def run(
    job: Job,
    sampler: Sampler,
    sink: Sink,
    workers: int | Executor | None,
    listener: Listener,
    states: Mapping[int, State] | None = None,
) -> tuple[bool, dict[str, float]]:
    """Run a job into a sink.

    Returns
    -------
    Whether it came to its end, and seconds spent compiling and sampling.
    """
    began = time.perf_counter()
    listener(Progress("compiling", 0.0))
    sampler.prepare()
    pool = _pool(job, sampler, workers)
    compiled = time.perf_counter()
    complete = drive(sampler, pool, sink, listener, states)
    seconds = {"compiling": compiled - began, "sampling": time.perf_counter() - compiled}
    return complete, seconds


def _pool(job: Job, sampler: Sampler, workers: int | Executor | None) -> Pool:
    """Choose where to run; black boxes are evaluated point by point in worker processes."""
    black_box = bool(job.binding.program.black_boxes)
    many = isinstance(workers, Executor) or (workers or 1) > 1
    if sampler.units == 1 and job.chains > 1 and black_box and many:
        return spread_over_workers(sampler, workers, lambda: target_of(job.binding))
    return pool_for(sampler, workers, job.sampler, processes=black_box)


def run_in_memory(
    job: Job, workers: int | Executor | None, listener: Listener
) -> tuple[Fitted | None, bool]:
    """Run a job from its start.

    Returns
    -------
    The result (None if it was stopped before every chain had a draw), and whether it is whole.
    """
    collector = Collector()
    started, began = now(), time.perf_counter()
    job = job.searched(listener)
    searching = time.perf_counter() - began
    sampler = job.sampler()
    complete, seconds = run(job, sampler, collector, workers, listener)
    seconds = {"searching": searching, **seconds}
    files = [ChainFiles(job.binding.dimension) for _ in range(job.chains)]
    return _gathered(job, collector, files, None, sampler, seconds, started, complete), complete


def extend_in_memory(
    before: Fitted, draws: int, workers: int | Executor | None, listener: Listener
) -> tuple[Fitted | None, bool]:
    """Add `draws` draws a chain to a fit that has a trail; what is there stays as it is."""
    trail = before.trail
    if trail is None:
        raise ArgumentError("These draws cannot be extended: they do not come from chains.")
    if not trail.level:
        raise ArgumentError(
            f"The chains of this stopped run are not equally long: {action('resume')} "
            "goes on with it in "
            "its folder; what that gives can be extended."
        )
    job = job_of(before.record, before.draws.binding)
    planned = job.settings.draws if before.record.complete else before.draws.shape[1]
    job = replace(job, settings=replace(job.settings, draws=planned + draws))
    collector = Collector()
    sampler = job.sampler()
    complete, spent = run(job, sampler, collector, workers, listener, trail.states)
    collector.states = {**trail.states, **collector.states}
    seconds = {name: before.record.seconds.get(name, 0.0) + value for name, value in spent.items()}
    files = [replace(one) for one in trail.chains]
    found = _gathered(
        job, collector, files, before, sampler, seconds, before.record.started, complete
    )
    return found, complete


def _gathered(
    job: Job,
    collector: Collector,
    files: Sequence[ChainFiles],
    before: Fitted | None,
    sampler: Sampler,
    seconds: Mapping[str, float],
    started: str,
    complete: bool,
) -> Fitted | None:
    """Put old and new draws together, mapped in the same stretches as in a stored run."""
    pieces = collector.chains
    empty = Piece.empty(job.binding.dimension)
    for at, one in enumerate(files):
        one.add(pieces.get(at, empty))
    length = rows_per_part(job.binding.dimension)
    # Without a run before, nothing is in full parts yet.
    full = files[0].full
    n = min(full * length + len(one.positions) for one in files)
    if not n:
        return None
    new = n - full * length
    positions = np.stack([one.positions[:new] for one in files])
    rows = np.stack([one.rows[:new] for one in files])
    draws = from_positions(job.binding, positions, length)
    statistics = statistics_of(rows)
    if before is not None and full:
        draws, statistics = _after(before, draws, statistics, full * length)
    more = new // length
    for one in files:
        one.full += more
        one.positions, one.rows = one.positions[more * length :], one.rows[more * length :]
    states = [collector.states[unit] for unit in sorted(collector.states)]
    reports = [report for state in states for report in sampler.report(state)]
    record = record_of(job, reports, seconds, started, complete, draws)
    if before is not None:
        record = replace(record, extended=True)
    trail = Trail(dict(collector.states), tuple(files))
    return Fitted(draws, record, statistics, trail)


def _after(
    before: Fitted, draws: Draws, statistics: Mapping[str, np.ndarray], kept: int
) -> tuple[Draws, dict[str, np.ndarray]]:
    values = {
        name: np.concatenate([before.draws.values[name][:, :kept], value], axis=1)
        for name, value in draws.values.items()
    }
    numbers = {
        name: np.concatenate([before.statistics[name][:, :kept], value], axis=1)
        for name, value in statistics.items()
    }
    return Draws(draws.binding, values), numbers


def statistics_of(rows: np.ndarray) -> dict[str, np.ndarray]:
    """Return statistics by name from an array of shape (chains, draws, 7)."""
    return {name: rows[:, :, at] for at, name in enumerate(STATISTICS)}


def record_of(
    job: Job,
    reports: Sequence[Mapping[str, Any]],
    seconds: Mapping[str, float],
    started: str,
    complete: bool,
    draws: Draws | None,
) -> Record:
    """Return what made the draws of a job."""
    binding = job.binding
    choices = method_record(job.method)
    del choices["method"]
    missing = "predict" if binding.parted else "drop" if binding.dropped else "refuse"
    settings = {
        "method": job.method.words,
        "chains": job.chains,
        **asdict(job.settings),
        **choices,
        "missing": missing,
        "trial": job.trial,
    }
    if job.start is not None:
        settings["begun_at"] = job.start.given
    return Record(
        job.seed,
        settings,
        versions(),
        binding.fingerprint,
        tuple(reports),
        dict(seconds),
        started,
        complete,
        group_record(draws) if draws is not None else {},
        dict(binding.dropped),
        method_record(job.method),
        modes=job.peaks.record if job.peaks is not None else {},
    )


def chains_for(method: Method, wanted: int | None, dimension: int) -> int:
    """Return the number of chains of a fit: for an ensemble, of its walkers."""
    if wanted is not None:
        return wanted
    return walkers_for(dimension) if isinstance(method, Ensemble) else 4
