"""What every study is: a question, the data as they are used, and visible models."""

from __future__ import annotations

import inspect
from abc import abstractmethod
from collections.abc import Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar

import pandas as pd

from millwright.checks import check_path
from millwright.display import Shown
from millwright.draws.simulated import Simulated
from millwright.errors import ArgumentError, Interrupted, StorageError, nearest
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.sampling.progress import Listener
from millwright.storage.place import check_new
from millwright.studies.findings import Findings
from millwright.studies.folder import StoredStudy, StudyFolder, ending_of, write_table
from millwright.studies.sentences import bulleted
from millwright.wording import visible

__all__ = ["Fitting", "Simulations", "Study"]


class Simulations(Shown, dict[str, Simulated]):
    """What the priors of each model allow, by the name of the model."""

    def __str__(self) -> str:
        return "\n\n".join(f"Model `{name}`\n{one}" for name, one in self.items())

    __repr__ = __str__


@dataclass(frozen=True, kw_only=True)
class Fitting:
    """How a model of a study is to be fitted.

    Attributes
    ----------
    save
        A folder for the run; one that is there goes on.
    settings, workers, progress
        As for `Model.fit`.
    """

    save: Path | None
    settings: Mapping[str, Any]
    workers: int | Executor | None
    progress: bool | Listener


@dataclass(frozen=True, eq=False, kw_only=True)
class Study(Shown):
    """A question asked of data by one or several visible models. Nothing is sampled yet.

    Attributes
    ----------
    question
        What is asked.
    data
        The rows and columns that are used.
    models
        The models by name; the first gives the answer, the others weigh it.
    choices
        What the study chose, each with the rule that chose it.
    remarks
        What is to be known of the data: rows left out, labels with a single row.
    settings
        All that makes the study anew from its data, as plain values.
    """

    name: ClassVar[str]
    keeps_draws: ClassVar[bool] = True
    """Whether a fit that is stopped keeps the draws that are made."""

    question: str
    data: pd.DataFrame = field(repr=False)
    models: Mapping[str, Model] = field(repr=False)
    choices: tuple[str, ...] = field(repr=False)
    remarks: tuple[str, ...] = field(default=(), repr=False)
    settings: Mapping[str, Any] = field(repr=False)

    @property
    def kind(self) -> str:
        """What the study is called."""
        return self.name

    @property
    def model(self) -> Model:
        """The model that gives the answer."""
        return next(iter(self.models.values()))

    @property
    def first_priors(self) -> tuple[str, ...] | None:
        """Unknowns of the main model whose priors are to be looked at first; None for all."""
        return None

    def data_of(self, name: str) -> pd.DataFrame:
        """Return the rows that a model uses."""
        return self.data

    @property
    def written_data(self) -> pd.DataFrame:
        """The table that `write` puts beside the sheets."""
        return self.data

    @property
    def told_first(self) -> str:
        """What is known before anything is sampled, such as a point fit; nothing for most."""
        return ""

    @abstractmethod
    def data_lines(self) -> tuple[str, ...]:
        """Return what the data hold, in sentences."""

    @abstractmethod
    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        """Return the findings of fits."""

    def __str__(self) -> str:
        parts = [
            f"Question: {visible(self.question)}",
            _under("Data", (*self.data_lines(), *self.remarks)),
            _under("Chosen, and by which rule; all of it can be replaced", self.choices),
            *(
                f"Model `{visible(name)}`\n{model.describe()}"
                for name, model in self.models.items()
            ),
            "Nothing is sampled yet: .simulate(seed=1) shows what these priors allow, "
            ".fit(seed=1) answers.",
        ]
        return "\n\n".join(part for part in parts if part)

    def simulate(self, *, draws: int = 500, seed: int = 0) -> Simulations:
        """Draw unknowns and data sets from the priors of every model.

        Parameters
        ----------
        draws
            How many data sets.
        seed
            Any whole number from 0.

        Returns
        -------
        What the priors allow, by model; each as of `Model.simulate`.

        Raises
        ------
        ArgumentError
            For a number of draws or a seed that makes no sense.
        """
        return Simulations(
            {
                name: model.simulate(
                    self.data_of(name), draws=draws, seed=seed, given=self._held(name)
                )
                for name, model in self.models.items()
            }
        )

    def _held(self, name: str) -> Mapping[str, Any]:
        """Return values at which unknowns with improper priors are held in a simulation."""
        return {}

    def write(self, folder: str | Path, replace: bool = False) -> Path:
        """Write the sheet of every model, and the data, into a folder.

        Parameters
        ----------
        folder
            Made if it is not there.
        replace
            Whether to overwrite files that are there.

        Returns
        -------
        The folder: a sheet for each model, `NAME.toml`, and `data.csv` (`data.parquet` where
        text such as labels `1` and `2` would come back from CSV as numbers).

        Raises
        ------
        StorageError
            If a file exists, or cannot be written.
        """
        place = check_path("folder", folder)
        files = {name: place / f"{name.replace(' ', '-')}.toml" for name in self.models}
        data = self.written_data
        return self._written(files, {place / f"data{ending_of(data)}": data}, replace)

    def _written(
        self, sheets: Mapping[str, Path], tables: Mapping[Path, pd.DataFrame], replace: bool
    ) -> Path:
        """Write sheets and tables into one folder, if nothing is in the way."""
        for file in (*sheets.values(), *tables):
            check_new(file, replace)
        place = next(iter(tables)).parent
        try:
            place.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise StorageError(f"The folder {place} cannot be made: {error.strerror}.") from error
        for name, file in sheets.items():
            self.models[name].write(file, replace)
        for file, table in tables.items():
            write_table(table, file)
        return place

    def fit(
        self,
        *,
        seed: int = 0,
        save: str | Path | None = None,
        replace: bool = False,
        workers: int | Executor | None = None,
        progress: bool | Listener = True,
        **settings: Any,
    ) -> Findings:
        """Fit the models, and answer.

        Parameters
        ----------
        seed
            Any whole number from 0.
        save
            A folder for the study and the runs of its models; `mw.studies.load` reads it.
        replace
            Whether to overwrite a study that is there.
        workers, progress
            As for `Model.fit`.
        settings
            Further settings of `Model.fit`, such as `draws=4000`.

        Returns
        -------
        The answer, with the posterior of every model.

        Raises
        ------
        ArgumentError
            For a setting that makes no sense.
        StorageError
            If something is in the way.
        Interrupted
            On Ctrl-C; with `save` the study goes on by `mw.studies.resume`.
        """
        _check_settings(settings)
        shared = {"seed": seed, **settings}
        folder = None
        if save is not None:
            folder = StudyFolder(check_path("save", save))
            folder.begin(self.stored(shared, self._sampled()), replace)
        return self._fitted(folder, shared, workers, progress)

    def stored(self, fit: Mapping[str, Any], models: tuple[str, ...]) -> StoredStudy:
        """Return what a folder holds of the study."""
        return StoredStudy(
            name=self.name,
            settings=self.settings,
            remarks=self.remarks,
            fit=fit,
            models=models,
            data=self.data,
        )

    def _fitted(
        self,
        folder: StudyFolder | None,
        settings: Mapping[str, Any],
        workers: int | Executor | None,
        progress: bool | Listener,
    ) -> Findings:
        """Fit every model, going on in the folder with what is there."""
        posteriors: dict[str, Posterior] = {}
        for name in self._sampled():
            save = None if folder is None else folder.run(name)
            try:
                how = Fitting(save=save, settings=settings, workers=workers, progress=progress)
                posteriors[name] = self._fit_one(name, how)
            except Interrupted as stop:
                if folder is None:
                    raise
                kept = self.keeps_draws or stop.posterior is not None
                going = "goes on" if kept else "begins this model again"
                raise Interrupted(
                    f"The study was stopped while `{name}` was fitted; what is done is in "
                    f"{folder.path}, and {folder.going_on} {going}.",
                    stop.posterior,
                ) from stop
        return self._found(posteriors, settings)

    def extended(
        self,
        name: str,
        posterior: Posterior,
        more: int,
        workers: int | Executor | None,
        progress: bool | Listener,
    ) -> Posterior:
        """Return the posterior of a model with more draws a chain.

        Parameters
        ----------
        name, posterior
            The model, and what it is so far.
        more
            How many draws to add to each chain.
        workers, progress
            As for `fit`.

        Returns
        -------
        A new posterior.

        Raises
        ------
        ArgumentError
            If the draws are exact ones, which do not go on.
        """
        return posterior.extend(more, workers=workers, progress=progress)

    def _sampled(self) -> tuple[str, ...]:
        """Return the models that are fitted; others are weighed without being sampled."""
        return tuple(self.models)

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        """Fit one model."""
        return self.models[name].fit(
            self.data_of(name),
            save=how.save,
            resume=how.save is not None,
            workers=how.workers,
            progress=how.progress,
            **how.settings,
        )


def _check_settings(settings: Mapping[str, Any]) -> None:
    """Refuse what is no setting of a fit, before a folder is begun.

    Raises
    ------
    ArgumentError
        Which names the nearest setting.
    """
    own = {"self", "data", "seed", "save", "replace", "resume", "workers", "progress", "missing"}
    known = [name for name in inspect.signature(Model.fit).parameters if name not in own]
    for name in settings:
        if name not in known:
            raise ArgumentError(
                f"The fit of a study has no setting `{name}`.{nearest(name, known)} Settings: "
                f"{', '.join(known)}."
            )


def _under(heading: str, lines: tuple[str, ...]) -> str:
    return f"{heading}\n{bulleted(lines)}" if lines else ""
