"""A batch of data sets of one shape, fitted in lock step by fixed-length trajectories."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from millwright.errors import StartError
from millwright.fitting.coordinates import informed, wants_information
from millwright.fitting.fit import Fit
from millwright.fitting.in_memory import RunResult, joined_fit
from millwright.fitting.job import Job
from millwright.fitting.target import target_in_shape
from millwright.fitting.versions import now
from millwright.modelling.same_shape import padded
from millwright.sampling.chain_buffer import ChainBuffer
from millwright.sampling.chains import Collector
from millwright.sampling.lane_state import LaneState
from millwright.sampling.lanes import Lanes
from millwright.sampling.methods import FixedLength
from millwright.sampling.sampler import FitSettings, Stop

__all__ = ["LaneBatch"]

_PILOT = FitSettings(draws=50, warmup=200)

Told = Callable[[float], None]


@dataclass(frozen=True, kw_only=True)
class LaneBatch:
    """Jobs whose targets have one shape once their rows are filled up.

    Attributes
    ----------
    jobs
        By the name of the data set; group effects are not informed by the data yet.
    places
        How many places the rows of each axis are filled up to.
    sets
        For how many data sets at a time to compile.
    """

    jobs: Mapping[Any, Job] = field(repr=False)
    places: Mapping[str, int]
    sets: int

    def run(self, stop: Stop, told: Told) -> tuple[dict[Any, Fit], dict[Any, str]]:
        """Fit all; return the fits, and why others failed, by name.

        `told` is called with the share that is done. A batch that is stopped gives nothing.
        """
        names, jobs = list(self.jobs), list(self.jobs.values())
        started = now()
        if wants_information(jobs[0].binding):
            jobs, names, failures = self._informed(names, jobs, stop)
        else:
            failures = {}
        if stop.is_set() or not jobs:
            return {}, failures
        lanes, states, kept, failed = self._begun(jobs, jobs[0].settings)
        failures |= {names[at]: why for at, why in failed.items()}
        jobs, names = [jobs[at] for at in kept], [names[at] for at in kept]
        collectors = [Collector() for _ in jobs]
        if not jobs or not _to_the_end(lanes, states, collectors, stop, told):
            return {}, failures
        fits = {
            name: _fit(job, collector, started)
            for name, job, collector in zip(names, jobs, collectors, strict=True)
        }
        return fits, failures

    def _begun(
        self, jobs: Sequence[Job], settings: FitSettings
    ) -> tuple[Lanes, list[LaneState], list[int], dict[int, str]]:
        """Return lanes with their first states, the jobs that these are of, and failures."""
        targets = [target_in_shape(job.binding, self.places) for job in jobs]
        first = jobs[0]
        method = first.method if isinstance(first.method, FixedLength) else FixedLength()

        def lanes_of(which: Sequence[int]) -> Lanes:
            seeds = [jobs[at].seed for at in which]
            some = [targets[at] for at in which]
            made = Lanes(some, settings, first.chains, seeds, method, self.sets)
            made.prepare()
            return made

        every = list(range(len(jobs)))
        lanes = lanes_of(every)
        found = lanes.start()
        failed = {at: str(one) for at, one in enumerate(found) if isinstance(one, StartError)}
        kept = [at for at in every if at not in failed]
        if failed and kept:
            lanes = lanes_of(kept)
            found = lanes.start()
        states = [one for one in found if isinstance(one, LaneState)]
        return lanes, states, kept, failed

    def _informed(
        self, names: Sequence[Any], jobs: Sequence[Job], stop: Stop
    ) -> tuple[list[Job], list[Any], dict[Any, str]]:
        """Sample for a moment, and let the data at the mean inform the coordinates."""
        settings = replace(_PILOT, warmup=min(_PILOT.warmup, max(50, jobs[0].settings.warmup)))
        lanes, states, kept, failed = self._begun(jobs, settings)
        failures = {names[at]: why for at, why in failed.items()}
        collectors = [Collector() for _ in kept]
        if not kept or not _to_the_end(lanes, states, collectors, stop, lambda share: None):
            return [], [], failures
        result = []
        for at, collector in zip(kept, collectors, strict=True):
            blank = jobs[at].binding
            chains = collector.chains.values()
            pilot = np.concatenate([piece.positions for piece in chains]).mean(axis=0)
            known = informed(blank, pilot, padded(blank, self.places))
            result.append(replace(jobs[at], binding=known))
        return result, [names[at] for at in kept], failures


def _to_the_end(
    lanes: Lanes,
    states: list[LaneState],
    collectors: Sequence[Collector],
    stop: Stop,
    told: Told,
) -> bool:
    """Run all lanes; return whether they came to their end."""
    total = lanes.settings.total
    while states[0].done < total:
        if stop.is_set():
            return False
        states, pieces = lanes.advance(states)
        for collector, state, left in zip(collectors, states, pieces, strict=True):
            collector.receive(state, left)
        told(states[0].done / total)
    return True


def _fit(job: Job, collector: Collector, started: str) -> Fit:
    spent = sum(state.warmup_seconds + state.seconds for state in collector.states.values())
    outcome = RunResult(
        job=job,
        sampler=job.sampler(),
        collector=collector,
        buffers=[ChainBuffer(job.binding.dimension) for _ in range(job.chains)],
        seconds={"sampling": spent},
        started=started,
        complete=True,
    )
    fit = joined_fit(outcome)
    # Only a run without any draw gives nothing.
    assert fit is not None
    return fit
