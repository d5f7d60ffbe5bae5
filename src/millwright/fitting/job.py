"""A fit as a job: what decides its draws, and running it."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any

import numpy as np

from millwright.cores import one_thread
from millwright.draws.labelled_draws import Draws
from millwright.fitting.coordinates import group_record
from millwright.fitting.record import Origin, Record
from millwright.fitting.starting import Start, start_from
from millwright.fitting.target import in_parts, target_in_shape, target_of
from millwright.fitting.versions import versions
from millwright.modelling.binding import Binding
from millwright.sampling.chains import Sink, drive
from millwright.sampling.methods import (
    LaplaceGrid,
    Method,
    Rejection,
    Tempering,
    method_from,
    method_record,
)
from millwright.sampling.peaks import Peaks, PeakSearch
from millwright.sampling.pools import Pool, pool_for, spread_over_workers
from millwright.sampling.progress import Listener, Progress
from millwright.sampling.sampler import FitSettings, Sampler
from millwright.sampling.samplers import build
from millwright.sampling.state import UnitState

__all__ = ["Job", "job_of", "record_of", "run"]

_FEWEST_GRADIENTS = 500
_MOST_GRADIENTS = 3000


@dataclass(frozen=True, kw_only=True)
class Job:
    """All that decides the draws of a fit.

    Attributes
    ----------
    places
        To how many places the rows of each axis are filled up, so that other data sets share
        what is compiled.
    """

    binding: Binding
    settings: FitSettings
    method: Method
    chains: int
    seed: int
    trial: bool = False
    peaks: Peaks | None = None
    start: Start | None = None
    places: Mapping[str, int] = field(default_factory=dict)

    def sampler(self) -> Sampler:
        """Return the sampler."""
        target = target_in_shape(self.binding, self.places)
        begin_at = None if self.peaks is None else self.peaks.to_begin_at
        if self.start is not None:
            begin_at = self.start.positions(self.chains)
        target = replace(target, begin_at=begin_at, peaks=self.peaks)
        if isinstance(self.method, LaplaceGrid):
            target = in_parts(target)
        return build(target, self.settings, self.chains, self.seed, self.method)

    @one_thread
    def searched(self, listener: Listener) -> Job:
        """Return the job after a search for separate modes, where there is a gradient for it."""
        if self.peaks is not None or isinstance(self.method, Rejection | LaplaceGrid):
            return self
        target = target_in_shape(self.binding, self.places)
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


def job_of(record: Record, binding: Binding) -> Job:
    """Return the job that a record is of."""
    start = record.settings.get("begun_at")
    settings = FitSettings(**{f.name: record.settings[f.name] for f in fields(FitSettings)})
    return Job(
        binding=binding,
        settings=settings,
        method=method_from(record.method),
        chains=int(record.settings["chains"]),
        seed=record.seed,
        trial=bool(record.settings["trial"]),
        peaks=Peaks.from_record(record.modes) if record.modes else None,
        start=start_from(binding, start, record.seed) if start else None,
    )


def run(
    job: Job,
    sampler: Sampler,
    sink: Sink,
    workers: int | Executor | None,
    listener: Listener,
    states: Mapping[int, UnitState] | None = None,
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
    method_settings = method_record(job.method)
    del method_settings["method"]
    missing = "predict" if binding.parted else "drop" if binding.dropped else "refuse"
    settings = {
        "method": job.method.words,
        "chains": job.chains,
        **asdict(job.settings),
        **method_settings,
        "missing": missing,
        "trial": job.trial,
    }
    if job.start is not None:
        settings["begun_at"] = job.start.given
    return Record(
        origin=Origin.CHAINS,
        seed=job.seed,
        settings=settings,
        versions=versions(),
        fingerprint=binding.fingerprint,
        chains=tuple(reports),
        seconds=dict(seconds),
        started=started,
        complete=complete,
        groups=group_record(draws) if draws is not None else {},
        dropped=dict(binding.dropped),
        method=method_record(job.method),
        modes=job.peaks.record if job.peaks is not None else {},
    )
