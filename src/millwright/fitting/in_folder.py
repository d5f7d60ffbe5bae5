"""Fits in run folders: starting one, reading one, going on with one."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import Any

import numpy as np
from filelock import FileLock

from millwright.draws.labelled_draws import Draws, from_positions
from millwright.errors import ArgumentError, MillwrightError, ModelError
from millwright.fitting.fit import Fit, WarmupRecord
from millwright.fitting.job import Job, job_of, record_of, run
from millwright.fitting.record import Origin, Record
from millwright.fitting.target import target_of
from millwright.fitting.versions import now, versions
from millwright.modelling.binding import Binding, bind
from millwright.modelling.foreign import Foreign, lent
from millwright.modelling.specification import Specification
from millwright.sampling.chain_buffer import ChainBuffer, rows_per_part
from millwright.sampling.methods import method_record
from millwright.sampling.progress import Listener
from millwright.sampling.samplers import STATES
from millwright.sampling.state import UnitState, unpacked
from millwright.storage.damage import damaged
from millwright.storage.lock import locked
from millwright.storage.run import FORMAT, Header, StoredRun, check_is_run, create_run, read_run
from millwright.storage.sheet import sheet_text, specification_from
from millwright.storage.writing import RunWriter

__all__ = ["Opened", "differences", "open_fit", "resume_in_folder", "run_in_folder", "store"]

_ENTRIES = (
    *(f.name for f in fields(Record)),
    "axes",
    "labels",
    "forms",
    "functions",
)


@dataclass(frozen=True, kw_only=True)
class Opened:
    """A fit read from a folder.

    `fit` is None if it holds no draws yet, `job` if its draws do not come from chains.
    """

    job: Job | None
    fit: Fit | None
    sheet: str | None
    states: Mapping[int, UnitState]


def _json_record(binding: Binding, record: Record) -> dict[str, Any]:
    unknowns = [part.name for part in binding.program.unknowns]
    return {
        "format": FORMAT,
        **{f.name: getattr(record, f.name) for f in fields(Record)},
        "axes": {name: list(binding.axes[name]) for name in unknowns},
        "labels": {name: list(labels) for name, labels in binding.labels.items()},
        "forms": [list(form) for form in binding.program.forms],
        "functions": [foreign.record for foreign in binding.program.foreign],
        "model_fingerprint": _digest(sheet_text(binding.specification)),
    }


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8")).hexdigest()


def _header(binding: Binding, record: Record, sheet: str | None) -> Header:
    constants = {
        key: np.asarray(value)
        for key, value in binding.arguments.items()
        if key[0] in ("information", "pull", "mixed")
    }
    return Header(
        record=_json_record(binding, record),
        model=sheet_text(binding.specification),
        sheet=sheet,
        data=binding.given or binding.tables,
        coordinates=constants,
    )


def _writer(
    path: Path,
    binding: Binding,
    report: Callable[[Any], Sequence[Mapping[str, Any]]],
    chains: Mapping[int, ChainBuffer],
    lock: FileLock,
) -> RunWriter:
    record = {
        "labels": {name: list(labels) for name, labels in binding.labels.items()},
        "axes": {part.name: list(binding.axes[part.name]) for part in binding.program.unknowns},
    }
    length = rows_per_part(binding.dimension)

    def values(positions: np.ndarray) -> dict[str, np.ndarray]:
        draws = from_positions(binding, positions[None], length)
        return {name: value[0] for name, value in draws.values.items()}

    return RunWriter(path, binding.dimension, values, record, report, chains, lock)


def run_in_folder(
    job: Job,
    path: Path,
    replace_old: bool,
    sheet: str | None,
    workers: int | Executor | None,
    listener: Listener,
) -> bool:
    """Run a job from its start, with its draws going to a folder; return whether it is whole."""
    # In the record from the start, so that a run that was killed goes on as it began.
    job = job.searched(listener)
    started = now()
    empty = record_of(job, [], {}, started, False, None)
    create_run(path, _header(job.binding, empty, sheet), replace_old)
    before = _Before(states={}, chains={}, record={"started": started}, extended=False)
    return _run_in(path, job, before, locked(path), workers, listener)


def resume_in_folder(
    path: Path,
    model: Any,
    draws: int | None,
    workers: int | Executor | None,
    listener: Listener,
) -> bool:
    """Go on with the fit in a folder to its planned end, or to `draws` a chain.

    Raises
    ------
    StorageError
        If it is not a run, is damaged or in use.
    ArgumentError
        If it has more draws already.
    ModelError
        If the functions that it needs are missing, or give another density.
    """
    check_is_run(path)
    lock = locked(path)
    try:
        stored = read_run(path, _ENTRIES)
        opened = _opened(stored, model)
        job = opened.job
        if job is None or (opened.fit is not None and not opened.states):
            raise ArgumentError(f"The run in {path} cannot go on: its draws are not a chain's.")
        planned, more = job.settings.total, False
        if draws is not None:
            if draws < job.settings.draws:
                raise ArgumentError(
                    f"The run is planned to have {job.settings.draws} draws a chain; `draws` can "
                    f"only be more, not {draws}."
                )
            more = draws > job.settings.draws
            job = replace(job, settings=replace(job.settings, draws=draws))
        _check_same_density(job, opened.states)
        extended = (
            more
            and bool(opened.states)
            and all(state.done >= planned for state in opened.states.values())
        )
        chains = {c: f for unit in stored.units.values() for c, f in unit.chains.items()}
        before = _Before(
            states=opened.states, chains=chains, record=stored.header.record, extended=extended
        )
        return _run_in(path, job, before, lock, workers, listener)
    finally:
        lock.release()


@dataclass(frozen=True, kw_only=True)
class _Before:
    """What a run goes on from; `record` is its run.json."""

    states: Mapping[int, UnitState]
    chains: Mapping[int, ChainBuffer]
    record: Mapping[str, Any]
    extended: bool


def _run_in(
    path: Path,
    job: Job,
    before: _Before,
    lock: FileLock,
    workers: int | Executor | None,
    listener: Listener,
) -> bool:
    sampler = job.sampler()
    writer = _writer(path, job.binding, sampler.report, before.chains, lock)
    writer.states.update(before.states)
    try:
        complete, seconds = run(job, sampler, writer, workers, listener, before.states)
        writer.commit_all()
        reports = [
            report
            for _, state in sorted(writer.states.items())
            for report in sampler.report(state)
        ]
        draws = _draws_in(path, job.binding)
        spent = before.record.get("seconds", {})
        total = {name: spent.get(name, 0.0) + value for name, value in seconds.items()}
        record = record_of(job, reports, total, before.record["started"], complete, draws)
        if before.states:
            record = _gone_on(record, before.record, before.extended)
        writer.finish(_json_record(job.binding, record))
    finally:
        writer.close()
    return complete


def _gone_on(record: Record, old: Mapping[str, Any], extended: bool) -> Record:
    """Note that a run went on, and with which versions it began."""
    began = old["versions"]
    others = {name: found for name, found in began.items() if versions().get(name) != found}
    return replace(
        record,
        extended=extended or bool(old["extended"]),
        began_with={**old["began_with"], **others},
        # Those of the search before the first draw; a single peak's place is not kept.
        modes=old["modes"] or record.modes,
    )


def _draws_in(path: Path, binding: Binding) -> Draws | None:
    found = read_run(path, _ENTRIES).draws
    return Draws(binding, found) if found.shape[1] else None


def open_fit(path: Path, model: Any = None) -> Opened:
    """Read the fit in a folder.

    Parameters
    ----------
    model
        The model or target that made it, where its own functions are not registered here.

    Raises
    ------
    StorageError
        If it is not a run, or a part of it is missing or damaged.
    """
    return _opened(read_run(path, _ENTRIES), model)


def _opened(stored: StoredRun, model: Any) -> Opened:
    record = _record_from(stored)
    binding = _binding_from(stored, record, model)
    job = job_of(record, binding) if record.origin is Origin.CHAINS else None
    states = {
        number: unpacked(STATES[unit.kind], unit.numbers, unit.arrays)
        for number, unit in stored.units.items()
    }
    if not stored.draws.shape[1]:
        return Opened(job=job, fit=None, sheet=stored.header.sheet, states=states)
    reports = tuple(r for number in sorted(stored.units) for r in stored.units[number].reports)
    record = record if record.chains else replace(record, chains=reports)
    chains = {c: files for unit in stored.units.values() for c, files in unit.chains.items()}
    warmup = WarmupRecord(states, tuple(chains[c] for c in sorted(chains))) if chains else None
    fit = Fit(
        draws=Draws(binding, stored.draws),
        record=record,
        statistics=stored.statistics,
        warmup_record=warmup,
        sheet=stored.header.sheet,
    )
    return Opened(job=job, fit=fit, sheet=stored.header.sheet, states=states)


def _record_from(stored: StoredRun) -> Record:
    content = stored.header.record
    try:
        given = {f.name: content[f.name] for f in fields(Record)}
        given |= {name: tuple(given[name]) for name in ("chains", "lost")}
        return Record(**{**given, "origin": Origin(given["origin"])})
    except (TypeError, ValueError) as error:
        raise damaged(stored.path / "run.json", f"is not a record of a fit ({error})") from error


def _binding_from(stored: StoredRun, record: Record, model: Any) -> Binding:
    """Bind the stored model to the stored data, in the coordinates of the fit."""
    content = stored.header.record
    # Runs of version 0.1 have no fingerprint of their model.
    if content.get("model_fingerprint", _digest(stored.header.model)) != _digest(
        stored.header.model
    ):
        raise damaged(stored.path / "model.toml", "is not the model that the draws are of")
    functions = _functions(stored, model)
    with lent(functions):
        try:
            specification = specification_from(stored.header.model, "model.toml")
        except MillwrightError as error:
            raise damaged(
                stored.path / "model.toml", f"cannot be read ({error.marked})"
            ) from error
        return _bound(stored, record, specification, functions)


def _bound(
    stored: StoredRun,
    record: Record,
    specification: Specification,
    functions: tuple[Foreign, ...],
) -> Binding:
    content = stored.header.record
    labels = {name: tuple(values) for name, values in content["labels"].items()}
    binding = bind(
        specification,
        stored.header.data,
        labels,
        missing=record.settings["missing"],
        functions=functions,
    )
    if record.origin.known_model and binding.fingerprint != record.fingerprint:
        raise damaged(stored.path / "data" / "tables.json", "goes with other data than the fit's")
    forms = tuple((name, form) for name, form in content["forms"])
    if not forms:
        return binding
    return replace(
        binding,
        program=replace(binding.program, forms=forms),
        arguments={**binding.arguments, **stored.header.coordinates},
    )


def differences(job: Job, stored: Job | None) -> list[str]:
    """Name what differs between a job and a stored one, apart from the number of draws."""
    if stored is None:
        return ["methods"]
    pairs: dict[str, list[Any]] = {
        "the models": [sheet_text(one.binding.specification) for one in (job, stored)],
        "the data": [one.binding.fingerprint for one in (job, stored)],
        "the seeds": [one.seed for one in (job, stored)],
        "the methods": [method_record(one.method) for one in (job, stored)],
        "the numbers of chains": [one.chains for one in (job, stored)],
        "the warm-ups": [one.settings.warmup for one in (job, stored)],
        "the thinning": [one.settings.thin for one in (job, stored)],
    }
    return [name for name, (one, other) in pairs.items() if one != other]


def _functions(stored: StoredRun, model: Any) -> tuple[Foreign, ...]:
    own = {foreign.name: foreign for foreign in getattr(model, "functions", ())}
    records = stored.header.record["functions"]
    try:
        return tuple(own.get(record["name"]) or Foreign.known_as(record) for record in records)
    except (TypeError, KeyError, ValueError, AttributeError) as error:
        raise damaged(
            stored.path / "run.json", f"describes functions that are none ({error!r})"
        ) from error


def _check_same_density(job: Job, states: Mapping[int, UnitState]) -> None:
    """Compare the log density at stored positions with the stored ones."""
    target = target_of(job.binding)
    for place in (state.place for state in states.values()):
        if place is None:
            continue
        position, stored = place
        value = float(target.plain(position[None])[0])
        if not np.isclose(value, stored, rtol=1e-6, atol=1e-6):
            raise ModelError(
                f"This is not the density that the run was made with: at a stored point its "
                f"logarithm is {value:.8g}, stored is {stored:.8g}. Give the same functions."
            )


def store(path: Path, fit: Fit, replace_old: bool) -> None:
    """Write a finished fit to a folder.

    Raises
    ------
    StorageError
        If something is in the way or the disk cannot be written.
    """
    draws, record, warmup = fit.draws, fit.record, fit.warmup_record
    if warmup is not None and not warmup.level:
        # What is stored is cut to the shortest chain, which no longer matches the states.
        warmup = None
    # Read before an old run there makes way, in case it is the one that they come from.
    values = {name: draws.values[name] for name in draws.values}
    numbers = {name: fit.statistics[name] for name in fit.statistics}
    create_run(path, _header(draws.binding, record, fit.sheet), replace_old)

    def report(state: UnitState) -> Sequence[Mapping[str, Any]]:
        together = warmup is not None and len(warmup.states) == 1
        return record.chains if together else record.chains[state.unit : state.unit + 1]

    chains = dict(enumerate(warmup.chains)) if warmup else {}
    writer = _writer(path, draws.binding, report, chains, locked(path))
    try:
        writer.write_values(values, numbers)
        if warmup is not None:
            writer.states.update(warmup.states)
        writer.commit_all()
    finally:
        writer.close()
