"""The study of a shape for which there is no formula: a Gaussian process along one column."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_whole
from millwright.draws.prior import draws_in, refuse_improper
from millwright.errors import ArgumentError, DataError
from millwright.language.printing import number_text
from millwright.modelling.simulate import draw_unknowns
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.curve_bands import Curves, places_of
from millwright.studies.findings import Findings
from millwright.studies.priors import with_priors
from millwright.studies.reading import complete_rows, find_column, named, numbers_in, table_of
from millwright.studies.scales import middle_and_spread, spread_text
from millwright.studies.smooth_findings import SmoothFindings
from millwright.studies.smooth_prior import length_prior, span_and_spacing
from millwright.studies.smooth_process import KERNELS, Readings, hyperparameters, prior_draws
from millwright.studies.study import Study

__all__ = ["SmoothStudy", "smooth"]

_MANY = 400


@dataclass(frozen=True, eq=False, kw_only=True)
class SmoothStudy(Study):
    """A smooth function of one column, seen with noise.

    Attributes
    ----------
    x, y
        Columns.
    readings
        The rows.
    """

    name: ClassVar[str] = "smooth"

    x: str
    y: str
    readings: Readings = field(repr=False)

    def data_lines(self) -> tuple[str, ...]:
        """Return rows and columns."""
        frame = self.data
        different = frame[self.x].nunique()
        return (
            f"{len(frame)} rows at {different} places; {self.x} from {frame[self.x].min():g} to "
            f"{frame[self.x].max():g}, {self.y} from {frame[self.y].min():g} to "
            f"{frame[self.y].max():g}.",
        )

    def prior_curves(self, x: Any = None, *, draws: int = 200, seed: int = 0) -> Curves:
        """Draw functions from the priors, before anything is read.

        Parameters
        ----------
        x
            Where, shape (points,); by default 100 places over the range of the data.
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
        places = places_of(self.readings.x, x, 100)
        generator = generator_of(seed, Stream.PRIOR)
        binding = self.model.bind(self.data)
        refuse_improper(binding, ())
        drawn = draws_in(binding, draw_unknowns(binding, draws, generator))
        made = prior_draws(self.readings.kernel, hyperparameters(drawn), places, generator)
        return Curves(x=places, draws=made)

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return SmoothFindings(study=self, posteriors=posteriors, fit_settings=settings)


def smooth(
    data: Any,
    x: str | None = None,
    y: str | None = None,
    error: str | None = None,
    *,
    kernel: str = "squared_exponential",
    priors: Mapping[str, str | float] | None = None,
    missing: str = "refuse",
) -> SmoothStudy:
    """Ask for the shape of y along x where there is no formula: a Gaussian process.

    The function has an unknown level, height (its sd around the level) and length (how far apart
    places are that hardly say anything of each other); readings scatter around it with a normal
    noise. The function itself is summed out while sampling, and drawn exactly afterwards.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns; one row a reading. Places may repeat.
    x
        The column along which the shape is asked for.
    y
        The column that is read.
    error
        Column of the standard errors of y; by default the size of the noise is unknown.
    kernel
        `squared_exponential` (very smooth), `matern52` or `matern32` (rougher, with a slope).
    priors
        Priors in place of those that the study chooses: of `level`, `height`, `length`, `noise`.
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
    columns = {"x": find_column(frame, x, "x"), "y": find_column(frame, y, "y")}
    if error is not None:
        columns["error"] = find_column(frame, error, "error")
    if len(set(columns.values())) < len(columns):
        raise ArgumentError("One column is given for two things: x, y and error differ.")
    made = pd.DataFrame({c: numbers_in(frame, c, what) for what, c in columns.items()})
    rows, remarks = complete_rows(made, missing)
    settings = {"error": None, **columns, "kernel": kernel, "priors": dict(priors or {})}
    return build(rows.reset_index(drop=True), settings, remarks)


def build(
    frame: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> SmoothStudy:
    """Return the study of complete rows under plain settings."""
    x, y, kernel = settings["x"], settings["y"], settings["kernel"]
    if len(frame) < 4:
        raise DataError(f"There are {len(frame)} rows; a shape takes four or more.")
    span, spacing = span_and_spacing(frame[x].to_numpy(), x)
    middle, spread = middle_and_spread(frame[y].to_numpy(), y)
    shape, scale = length_prior(span, spacing)
    usual = {
        "level": f"normal({number_text(middle)}, {spread_text(spread)})",
        "height": f"half_normal({spread_text(spread)})",
        "length": f"inverse_gamma(shape={number_text(shape)}, scale={number_text(scale)})",
        "noise": f"half_normal({spread_text(spread)})",
    }
    error = settings["error"]
    if error is not None:
        _check_errors(frame, error)
        del usual["noise"]
    names = named({x: "x", y: "y"} | ({} if error is None else {error: "error_of_y"}), usual)
    noise = "noise" if error is None else names.of[error]
    model = Model(
        title=f"{y} as a smooth function of {x}",
        priors=with_priors(usual, settings["priors"]),
        likelihood={
            names.of[y]: f"gaussian_process(level, noise={noise}, "
            f"kernel={kernel}({names.of[x]}, scale=height, length=length))"
        },
        columns=dict(names.aliases),
    )
    readings = Readings(
        kernel=kernel,
        x=frame[x].to_numpy(float),
        y=frame[y].to_numpy(float),
        errors=np.ones(len(frame)) if error is None else frame[error].to_numpy(float),
    )
    return SmoothStudy(
        question=f"What shape has `{y}` along `{x}`?",
        data=frame,
        models={"smooth": model},
        choices=_choices(settings, spacing, span, len(frame)),
        remarks=remarks,
        settings=settings,
        x=x,
        y=y,
        readings=readings,
    )


def _check_errors(frame: pd.DataFrame, error: str) -> None:
    wrong = np.flatnonzero(~(frame[error] > 0).to_numpy())
    if len(wrong):
        raise DataError(
            f"`{error}` is {frame[error].iloc[wrong[0]]:g} in row {wrong[0] + 1}; standard errors "
            "must be above 0."
        )


def _choices(
    settings: Mapping[str, Any], spacing: float, span: float, rows: int
) -> tuple[str, ...]:
    given = settings["priors"]
    lines = [f"Kernel: {settings['kernel']}."]
    if "length" not in given:
        lines.append(
            f"Length: inverse gamma with 1 % below {spacing:.3g}, the median distance of "
            f"neighbouring places, and 1 % above {span:.3g}, their span: the data cannot tell "
            "lengths outside."
        )
    if not {"level", "height", "noise"} & set(given):
        scales = "height and noise" if settings["error"] is None else "height"
        lines.append(f"Level around the mean of y; {scales} half-normal: all with its sd.")
    if rows > _MANY:
        lines.append(
            f"{rows} rows: each step factors a matrix of so many rows and columns, which takes "
            "long; means of neighbouring rows would be quicker."
        )
    return tuple(lines)


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> SmoothStudy:
    """Return a stored study."""
    return build(data, settings, remarks)
