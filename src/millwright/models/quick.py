"""Fits of few unknowns to few rows, as the ready-made studies make them.

Chains move in lock step (`FixedLength`), and rows are filled up to one of few numbers, so that
data of another length compile nothing. Where that leaves a doubt, the usual sampler is asked.
"""

from __future__ import annotations

from collections.abc import Mapping
from concurrent.futures import Executor
from pathlib import Path
from typing import Any

from millwright.errors import StorageError
from millwright.fitting.plan import FitPlan
from millwright.modelling.binding import Binding
from millwright.modelling.gathering import gathered
from millwright.modelling.same_shape import row_counts
from millwright.models.many import doubtful
from millwright.models.model import Model
from millwright.models.runs import fit, load
from millwright.posterior.posterior import Posterior
from millwright.sampling.methods import FixedLength
from millwright.sampling.progress import Listener
from millwright.terminal.progress import chosen_listener

__all__ = ["fit_small"]

_PLACES = (32, 64, 256, 1024)
_SETTINGS = {"seed", "chains", "draws", "warmup", "thin", "trial"}


def fit_small(
    model: Model,
    data: Any,
    save: Path | None,
    settings: Mapping[str, Any],
    workers: int | Executor | None,
    progress: bool | Listener,
) -> Posterior:
    """Fit a model of few unknowns, quickly where that leaves no doubt.

    Parameters
    ----------
    save
        A folder for the run; one that is there goes on as it was begun.
    settings
        Of `Model.fit`; with any that is the no-U-turn sampler's, or `method`, as there.

    Returns
    -------
    The posterior.

    Raises
    ------
    MillwrightError
        As `Model.fit`.
    """
    if settings.keys() <= _SETTINGS:
        if save is not None and save.exists():
            stored = _quick_run(save)
        else:
            stored = _quick(model, data, settings, workers, progress)
            if stored is not None and save is not None:
                stored.save(save)
        if stored is not None:
            return stored
    return model.fit(
        data,
        save=save,
        resume=save is not None,
        workers=workers,
        progress=progress,
        **settings,
    )


def _quick_run(folder: Path) -> Posterior | None:
    """Return a stored run if it was made quickly: those are stored whole."""
    try:
        posterior = load(folder)
    except StorageError:
        # The usual way says what is wrong with it, or begins it.
        return None
    return posterior if posterior.record.method.get("method") == FixedLength.name else None


def _quick(
    model: Model,
    data: Any,
    settings: Mapping[str, Any],
    workers: int | Executor | None,
    progress: bool | Listener,
) -> Posterior | None:
    """Fit by trajectories of fixed length; None for many rows, or where the draws leave doubts."""
    binding = model.bind(data)
    places = _places(binding)
    if places is None:
        return None
    plan = FitPlan(method=FixedLength.name, **settings)
    job = plan.job(binding, places)
    posterior = fit(job, model, None, None, workers, chosen_listener(progress))
    return None if doubtful(posterior, plan.trial) else posterior


def _places(binding: Binding) -> dict[str, int] | None:
    """Return to how many places rows are filled up; None if there are many."""
    counts = row_counts(gathered(binding).binding)
    if any(count > _PLACES[-1] for count in counts.values()):
        return None
    return {axis: next(p for p in _PLACES if p >= count) for axis, count in counts.items()}
