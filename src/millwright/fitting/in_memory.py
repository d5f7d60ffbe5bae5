"""Fits whose draws stay in memory: from their start, and going on."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, replace

import numpy as np

from millwright.draws.labelled_draws import Draws, from_positions
from millwright.errors import ArgumentError
from millwright.fitting.fit import Fit, WarmupRecord
from millwright.fitting.job import Job, job_of, record_of, run
from millwright.fitting.record import Origin
from millwright.fitting.versions import now
from millwright.sampling.chain_buffer import ChainBuffer, rows_per_part
from millwright.sampling.chains import Collector
from millwright.sampling.piece import STATISTICS, Piece
from millwright.sampling.progress import Listener
from millwright.sampling.sampler import Sampler
from millwright.wording import action, setting

__all__ = ["RunResult", "extend_in_memory", "joined_fit", "run_in_memory"]


@dataclass(frozen=True, kw_only=True)
class RunResult:
    """What a run in memory gave, and what it went on from."""

    job: Job
    sampler: Sampler
    collector: Collector
    buffers: Sequence[ChainBuffer]
    seconds: Mapping[str, float]
    started: str
    complete: bool
    before: Fit | None = None


def run_in_memory(
    job: Job, workers: int | Executor | None, listener: Listener
) -> tuple[Fit | None, bool]:
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
    outcome = RunResult(
        job=job,
        sampler=sampler,
        collector=collector,
        buffers=[ChainBuffer(job.binding.dimension) for _ in range(job.chains)],
        seconds=seconds,
        started=started,
        complete=complete,
    )
    return joined_fit(outcome), complete


def extend_in_memory(
    before: Fit, draws: int, workers: int | Executor | None, listener: Listener
) -> tuple[Fit | None, bool]:
    """Add `draws` draws a chain to a fit that has a trail; what is there stays as it is."""
    after = before.warmup_record
    if before.record.origin is Origin.SWEEPS:
        raise ArgumentError(
            "These draws are sweeps of a study, which goes on as a whole: "
            f"{action('extend_study', draws)}."
        )
    if after is None:
        more = f" They are independent draws: fit with more {setting('draws')}."
        raise ArgumentError(
            "These draws cannot be extended: they do not come from chains."
            + more * before.record.origin.independent
        )
    if not after.level:
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
    complete, spent = run(job, sampler, collector, workers, listener, after.states)
    collector.states = {**after.states, **collector.states}
    seconds = {name: before.record.seconds.get(name, 0.0) + value for name, value in spent.items()}
    outcome = RunResult(
        job=job,
        sampler=sampler,
        collector=collector,
        buffers=[replace(one) for one in after.chains],
        seconds=seconds,
        started=before.record.started,
        complete=complete,
        before=before,
    )
    return joined_fit(outcome), complete


def joined_fit(run: RunResult) -> Fit | None:
    """Put old and new draws together, mapped in the same stretches as in a stored run."""
    job, before, buffers = run.job, run.before, run.buffers
    empty = Piece.empty(job.binding.dimension)
    for at, one in enumerate(buffers):
        one.add(run.collector.chains.get(at, empty))
    length = rows_per_part(job.binding.dimension)
    # Without a run before, no file's length is full yet.
    full = buffers[0].full
    n = min(full * length + len(one.positions) for one in buffers)
    if not n:
        return None
    new = n - full * length
    positions = np.stack([one.positions[:new] for one in buffers])
    rows = np.stack([one.rows[:new] for one in buffers])
    draws = from_positions(job.binding, positions, length)
    statistics = {name: rows[:, :, at] for at, name in enumerate(STATISTICS)}
    if before is not None and full:
        draws, statistics = _appended(before, draws, statistics, full * length)
    for one in buffers:
        one.drop_full(new // length, length)
    states = run.collector.states
    reports = [r for unit in sorted(states) for r in run.sampler.report(states[unit])]
    record = record_of(job, reports, run.seconds, run.started, run.complete, draws)
    return Fit(
        draws=draws,
        record=replace(record, extended=before is not None),
        statistics=statistics,
        warmup_record=WarmupRecord(dict(states), tuple(buffers)),
        sheet=None if before is None else before.sheet,
    )


def _appended(
    before: Fit, draws: Draws, statistics: Mapping[str, np.ndarray], kept: int
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
