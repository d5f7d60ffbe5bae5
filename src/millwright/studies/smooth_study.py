"""The study of a shape for which there is no formula: a Gaussian process along columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_whole
from millwright.draws.prior import draws_in, refuse_improper
from millwright.errors import ArgumentError, DataError
from millwright.language.printing import number_text
from millwright.modelling.simulate import draw_unknowns
from millwright.posterior.posterior import Posterior
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.curve_bands import Curves
from millwright.studies.findings import Findings
from millwright.studies.reading import complete_rows, find_column, numbers_in, table_of
from millwright.studies.smooth_family import (
    SMOOTH_FAMILIES,
    SmoothFamily,
    check_readings,
    family_called,
    numbers_read,
)
from millwright.studies.smooth_findings import SmoothFindings
from millwright.studies.smooth_model import (
    choices_told,
    place_name,
    smooth_model,
    usual_priors,
    with_places,
)
from millwright.studies.smooth_places import places_along
from millwright.studies.smooth_prior import length_prior, span_and_spacing
from millwright.studies.smooth_process import KERNELS, Readings, hyperparameters, prior_draws
from millwright.studies.study import Study
from millwright.wording import setting, visible

__all__ = ["SmoothStudy", "smooth"]


@dataclass(frozen=True, eq=False, kw_only=True)
class SmoothStudy(Study):
    """A smooth function of columns, seen with noise, in counts or in yes and no.

    Attributes
    ----------
    x, y
        Columns that it is a function of, and that is read.
    readings
        The rows.
    family
        How readings rest on the function.
    lengths
        Names of the lengths, one for each column.
    """

    name: ClassVar[str] = "smooth"

    x: tuple[str, ...]
    y: str
    readings: Readings = field(repr=False)
    family: SmoothFamily = field(repr=False)
    lengths: tuple[str, ...] = ("length",)

    @property
    def rows(self) -> np.ndarray:
        """Where readings were made, shape (readings, columns)."""
        return self.data[list(self.x)].to_numpy(float)

    @property
    def told(self) -> str:
        """What is told of y: itself, its rate or its probability."""
        return self.family.of(visible(self.y))

    def data_of(self, name: str) -> pd.DataFrame:
        """Return the rows; of several columns with the place that each is at."""
        return with_places(self.data, self.x, self.family, self.place)

    @property
    def written_data(self) -> pd.DataFrame:
        """The rows; of several columns with the place that each is at."""
        return self.data_of("smooth")

    @property
    def place(self) -> str:
        """What the model calls the places of several columns."""
        return place_name(self.data.columns)

    def data_lines(self) -> tuple[str, ...]:
        """Return rows and columns."""
        frame = self.data
        different = len(np.unique(self.rows, axis=0))
        binary = self.family.name == "bernoulli"
        ranges = [
            f"{name} from {frame[name].min():g} to {frame[name].max():g}"
            for name in (*self.x, *([] if binary else [self.y]))
        ]
        if binary:
            ranges.append(f"{self.y} is 1 (yes) in {int(frame[self.y].sum())} of {len(frame)}")
        return (f"{len(frame)} rows at {different} places; {', '.join(ranges)}.",)

    def prior_curves(
        self,
        x: Any = None,
        *,
        along: str | None = None,
        at: Mapping[str, float] | None = None,
        draws: int = 200,
        seed: int = 0,
    ) -> Curves:
        """Draw functions from the priors, before anything is read.

        Parameters
        ----------
        x
            Where, shape (points,); by default 100 places over the range of the data.
        along, at
            Of several columns: which one, by default the first, and where the others are held, by
            default at their medians.
        draws
            How many.
        seed
            Any whole number from 0.

        Returns
        -------
        The functions, with bands.

        Raises
        ------
        ArgumentError
            For places that are no numbers, or a number of draws or a seed that makes no sense.
        """
        check_whole("draws", draws, 2)
        check_whole("seed", seed, 0)
        values, places, _ = places_along(self.rows, self.x, x, along, at, 100)
        generator = generator_of(seed, Stream.PRIOR)
        binding = self.model.bind(self.data_of("smooth"))
        refuse_improper(binding, ())
        drawn = draws_in(binding, draw_unknowns(binding, draws, generator))
        known = hyperparameters(drawn, lengths=self.lengths)
        made = prior_draws(self.readings.kernel, known, places, generator)
        return Curves(x=values, draws=self.family.natural(made))

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return SmoothFindings(study=self, posteriors=posteriors, fit_settings=settings)


def smooth(
    data: Any,
    x: str | Sequence[str] | None = None,
    y: str | None = None,
    error: str | None = None,
    *,
    family: str = "normal",
    exposure: str | None = None,
    kernel: str = "squared_exponential",
    priors: Mapping[str, str | float] | None = None,
    missing: str = "refuse",
) -> SmoothStudy:
    """Ask for the shape of y along x where there is no formula: a Gaussian process.

    The function has an unknown level, height (its sd around the level) and length (how far apart
    places are that hardly say anything of each other; of several columns one for each). Readings
    scatter around it with a normal noise, which is summed out while sampling, and the function is
    drawn exactly afterwards; or they are counts whose log rate, or yes and no whose log odds, it
    is.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns; one row a reading. Places may repeat.
    x
        The column along which the shape is asked for, or a list of several.
    y
        The column that is read.
    error
        Column of the standard errors of y; by default the size of the noise is unknown.
    family
        `normal`, `poisson` (counts) or `bernoulli` (yes/no: 1 and 0, yes and no, true and false).
    exposure
        Column of what each count was counted over; rates are for one unit of it.
    kernel
        `squared_exponential` (very smooth), `matern52` or `matern32` (rougher, with a slope).
    priors
        Priors in place of those that the study chooses: of `level`, `height`, `noise`, `length`
        (of several columns `length_1`, ... in their order).
    missing
        What to do with rows that lack a value: `refuse` or `drop` them.

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For columns or settings that do not fit.
    DataError
        For missing values, fewer than three different places, or y that never changes.
    """
    frame = table_of(data)
    if kernel not in KERNELS:
        raise ArgumentError(f"`kernel` is {', '.join(KERNELS)}, not {kernel!r}.")
    rests = family_called(family, error, exposure)
    several = [x] if x is None or isinstance(x, str) else list(x)
    if not several:
        raise ArgumentError(f"{setting('x')} names a column, or several.")
    along = [find_column(frame, one, "x") for one in several]
    read = find_column(frame, y, "y")
    more = {
        what: find_column(frame, column, what)
        for what, column in (("error", error), ("exposure", exposure))
        if column is not None
    }
    every = [*along, read, *more.values()]
    if len(set(every)) < len(every):
        raise ArgumentError("One column is given for two things: x, y, error and exposure differ.")
    made = pd.DataFrame({name: numbers_in(frame, name, "x") for name in along})
    made[read] = numbers_read(frame, read, rests)
    for what, name in more.items():
        made[name] = numbers_in(frame, name, what)
    rows, remarks = complete_rows(made, missing)
    settings = {
        "x": along[0] if len(along) == 1 else along,
        "y": read,
        "error": more.get("error"),
        "family": family,
        "exposure": more.get("exposure"),
        "kernel": kernel,
        "priors": dict(priors or {}),
    }
    return build(rows.reset_index(drop=True), settings, remarks)


def build(
    frame: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> SmoothStudy:
    """Return the study of complete rows under plain settings."""
    given = settings["x"]
    x = (given,) if isinstance(given, str) else tuple(given)
    y, error, exposure = settings["y"], settings["error"], settings.get("exposure")
    family = SMOOTH_FAMILIES[settings.get("family", "normal")]
    if len(frame) < 4:
        raise DataError(f"There are {len(frame)} rows; a shape takes four or more.")
    values = frame[y].to_numpy(float)
    check_readings(values, y, family)
    for what, column in (("standard errors", error), ("exposures", exposure)):
        if column is not None:
            _check_positive(frame, column, what)
    ranges = [span_and_spacing(frame[name].to_numpy(), name) for name in x]
    names = ("length",) if len(x) == 1 else tuple(f"length_{at}" for at in range(1, len(x) + 1))
    usual = usual_priors(frame, y, family, exposure)
    for name, (span, spacing) in zip(names, ranges, strict=True):
        shape, scale = length_prior(span, spacing)
        usual[name] = f"inverse_gamma(shape={number_text(shape)}, scale={number_text(scale)})"
    if not family.latent and error is None:
        usual["noise"] = usual["height"]
    model = smooth_model(frame, settings, x, names, family, usual)
    readings = Readings(
        kernel=settings["kernel"],
        x=np.unique(frame[list(x)].to_numpy(float), axis=0)
        if family.latent
        else frame[list(x)].to_numpy(float),
        y=values,
        errors=np.ones(len(frame)) if error is None else frame[error].to_numpy(float),
    )
    of = dict(zip(names, ranges, strict=True))
    *others, last = [f"`{name}`" for name in x]
    along = f"{', '.join(others)} and {last}" if others else last
    return SmoothStudy(
        question=f"What shape has `{y}` along {along}?",
        data=frame,
        models={"smooth": model},
        choices=choices_told(settings, family, of, len(readings.x)),
        remarks=remarks,
        settings=settings,
        x=x,
        y=y,
        readings=readings,
        family=family,
        lengths=names,
    )


def _check_positive(frame: pd.DataFrame, column: str, what: str) -> None:
    wrong = np.flatnonzero(~(frame[column] > 0).to_numpy())
    if len(wrong):
        raise DataError(
            f"`{column}` is {frame[column].iloc[wrong[0]]:g} in row {wrong[0] + 1}; {what} "
            "must be above 0."
        )


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> SmoothStudy:
    """Return a stored study."""
    return build(data, settings, remarks)
