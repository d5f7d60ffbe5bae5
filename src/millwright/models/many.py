"""Many data sets fitted by one model, and their folders."""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import replace
from pathlib import Path
from typing import Any

from millwright.checks import check_path
from millwright.errors import ArgumentError, Interrupted, MillwrightError, StorageError
from millwright.fitting.fit import Fit
from millwright.fitting.many import ManyFits, fit_many, seed_of
from millwright.fitting.method import chosen_method
from millwright.fitting.plan import FitPlan
from millwright.modelling.binding import Binding
from millwright.models.runs import load
from millwright.posterior.posterior import Posterior
from millwright.posterior.posteriors import Posteriors, judged
from millwright.sampling.methods import NoUTurn, method_record
from millwright.sampling.progress import Listener
from millwright.storage.own_files import write_whole
from millwright.storage.sheet import sheet_text
from millwright.wording import setting

__all__ = ["RunsPlace", "doubtful", "fit_data_sets", "load_each"]

_INDEX = "data-sets.json"
_FORMAT = 1


def fit_data_sets(
    data: Mapping[Any, Any],
    bind: Callable[[Any], Binding],
    plan: FitPlan,
    place: RunsPlace | None,
    workers: int | Executor | None,
    listener: Listener,
    sheet: str | None,
    by: str | None,
) -> Posteriors:
    """Fit a model to many data sets; see `Model.fit_each`."""
    seeds = {name: seed_of(plan.seed, at) for at, name in enumerate(data, start=1)}
    bindings: dict[Any, Binding] = {}
    failures: dict[Any, str] = {}
    for name, one in data.items():
        try:
            bindings[name] = bind(one)
        except MillwrightError as error:
            failures[name] = str(error)
    if not bindings:
        first = next(iter(failures))
        raise ArgumentError(
            f"None of the {len(data)} data sets fits the model. {first!r}: {failures[first]}"
        )
    stored = {} if place is None else place.opened(list(data), bindings, plan, seeds)
    known: dict[int, Posterior] = {}

    def good(fits: Sequence[Fit]) -> list[bool]:
        posteriors = judged([replace(fit, sheet=sheet) for fit in fits])
        known.update({id(fit): one for fit, one in zip(fits, posteriors, strict=True)})
        return [not doubtful(one, plan.trial) for one in posteriors]

    def keep(name: Any, fit: Fit) -> None:
        if place is not None:
            place.store(name, replace(fit, sheet=sheet))

    left = {name: one for name, one in bindings.items() if name not in stored}
    found, complete = ManyFits(), True
    if left:
        found, complete = fit_many(left, plan, seeds, workers, good, keep, listener, len(stored))
    fits = {
        name: known.get(id(fit)) or Posterior(replace(fit, sheet=sheet))
        for name, fit in found.fits.items()
    }
    every = {name: stored.get(name) or fits.get(name) for name in data}
    result = Posteriors(
        posteriors={name: one for name, one in every.items() if one is not None},
        failures={**failures, **found.failures},
        again=tuple(found.again),
        searched=found.searched,
        by=by,
    )
    if complete:
        return result
    kept = f"; those are stored in {place.path}" if place is not None else ""
    raise Interrupted(
        f"The fits were stopped after {len(result)} of {len(data)} data sets{kept}. "
        + (
            f"{setting('resume', True)} goes on with the others."
            if place is not None
            else f"Give {setting('save')} to be able to go on after a stop."
        ),
        result,
    )


def doubtful(posterior: Posterior, trial: bool) -> bool:
    """Whether another sampler is to be tried; a trial's few draws are no reason for that."""
    weights = ("stop",) if trial else ("stop", "caution")
    findings = posterior.verdict.findings
    return any(one.weight in weights and not one.of_plan and not one.of_data for one in findings)


class RunsPlace:
    """A folder with one run for each data set.

    Raises
    ------
    ArgumentError
        For both `replace` and `resume`.
    StorageError
        If something is in the way.
    """

    def __init__(self, path: Path, replace: bool, resume: bool) -> None:
        if replace and resume:
            raise ArgumentError(
                "Give either `replace` or `resume`: runs are overwritten, or gone on with."
            )
        self.path = path
        self.folders: dict[str, str] = {}
        self.resume = resume and path.exists()
        if path.exists() and not self.resume:
            if not replace:
                raise StorageError(
                    f"{path} exists already. Choose another folder, give "
                    f"{setting('replace', True)} to overwrite the runs in it, or "
                    f"{setting('resume', True)} to go on with them."
                )
            if not (path / _INDEX).is_file():
                raise StorageError(
                    f"{path} does not hold runs of many data sets, so it is not replaced. "
                    "Choose another folder."
                )
            shutil.rmtree(path)

    def opened(
        self,
        names: list[Any],
        bindings: Mapping[Any, Binding],
        plan: FitPlan,
        seeds: Mapping[Any, int],
    ) -> dict[Any, Posterior]:
        """Write the list of data sets, or return what is stored of them already.

        Raises
        ------
        StorageError
            If what is stored is of other data, another model, seed or settings.
        """
        if self.resume:
            self.folders = _read_index(self.path)
        else:
            self.path.mkdir(parents=True)
        self.folders = _folders(names, self.folders)
        _write_index(self.path, self.folders)
        found = {}
        for name, binding in bindings.items():
            folder = self.path / self.folders[str(name)]
            if folder.exists():
                found[name] = _same(folder, name, binding, plan, seeds[name])
        return found

    def store(self, name: Any, fit: Fit) -> None:
        """Write a fit to its folder, which is there as a whole or not at all."""
        # What writes folders takes long to load.
        from millwright.fitting.in_folder import store

        folder = self.path / self.folders[str(name)]
        unfinished = folder.with_name(f".{folder.name}.unfinished")
        if unfinished.exists():
            shutil.rmtree(unfinished)
        store(unfinished, fit, False)
        unfinished.rename(folder)


def load_each(path: str | Path, *, model: Any = None) -> Posteriors:
    """Load the runs that `Model.fit_each(save=...)` stored.

    Parameters
    ----------
    path
        The folder.
    model
        As for `load`.

    Returns
    -------
    The posteriors that are there, by the names of their data sets (texts).

    Raises
    ------
    StorageError
        If it holds no such runs, or a run is damaged.
    """
    folder = check_path("path", path)
    folders = _read_index(folder)
    found = {
        name: load(folder / own, model=model)
        for name, own in folders.items()
        if (folder / own).exists()
    }
    missing = {
        name: "there is no run of it in the folder" for name in folders if name not in found
    }
    return Posteriors(posteriors=found, failures=missing)


def _same(folder: Path, name: Any, binding: Binding, plan: FitPlan, seed: int) -> Posterior:
    """Load a stored run if it is of the same model, data, seed and settings."""
    posterior = load(folder)
    stored, record = posterior.draws.binding, posterior.record
    wanted = replace(plan, seed=seed).settings_for(binding)
    pairs: dict[str, tuple[Any, Any]] = {
        "the models": (sheet_text(binding.specification), sheet_text(stored.specification)),
        "the data": (binding.fingerprint, stored.fingerprint),
        "the seeds": (seed, record.seed),
        "the settings": (wanted, {key: record.settings[key] for key in wanted}),
    }
    if plan.method is not None or record.method["method"] == NoUTurn.name:
        method = chosen_method(plan.method, binding, plan.gradient_method())
        pairs["the methods"] = (method_record(method), dict(record.method))
    different = [what for what, (one, other) in pairs.items() if one != other]
    if different:
        raise StorageError(
            f"The run of {name!r} in {folder} is not of this fit: {', '.join(different)} differ. "
            f"Choose another folder, or give {setting('replace', True)}."
        )
    return posterior


def _folders(names: list[Any], known: Mapping[str, str]) -> dict[str, str]:
    """Return a folder for each name: readable, of safe characters, and different from others."""
    result = dict(known)
    for at, name in enumerate(map(str, names), start=len(known) + 1):
        if name not in result:
            words = re.sub(r"[^\w-]+", "-", name).strip("-")[:40]
            result[name] = f"{at:03d}-{words}" if words else f"{at:03d}"
    return result


def _write_index(path: Path, folders: Mapping[str, str]) -> None:
    content = json.dumps({"format": _FORMAT, "folders": dict(folders)}, indent=1)
    write_whole(path / _INDEX, lambda stream: stream.write(content.encode("utf-8")))


def _read_index(path: Path) -> dict[str, str]:
    try:
        content = json.loads((path / _INDEX).read_text(encoding="utf-8"))
        folders = {str(name): str(folder) for name, folder in content["folders"].items()}
    except FileNotFoundError:
        raise StorageError(f"{path} does not hold runs of many data sets.") from None
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise StorageError(f"{path / _INDEX} cannot be read: {error}.") from error
    if any(Path(folder).name != folder or folder.startswith(".") for folder in folders.values()):
        raise StorageError(f"{path / _INDEX} names folders that are not inside {path}.")
    return folders
