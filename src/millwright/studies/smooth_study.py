"""The study of a shape for which there is no formula: a Gaussian process along columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_list, check_mapping, check_whole, is_among
from millwright.distributions.matern import MATERN
from millwright.draws.prior import draws_in, refuse_improper
from millwright.errors import ArgumentError, DataError
from millwright.language.printing import number_text
from millwright.modelling.simulate import draw_unknowns
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.curve_bands import Curves
from millwright.studies.findings import Findings
from millwright.studies.reading import complete_rows, find_column, numbers_in, table_of
from millwright.studies.smooth_family import (
    SMOOTH_FAMILIES,
    SmoothFamily,
    check_readings,
    exposures,
    family_called,
    numbers_read,
)
from millwright.studies.smooth_findings import SmoothFindings
from millwright.studies.smooth_gathering import (
    NEGLIGIBLE,
    Gathered,
    enough_for_function,
    enough_nodes,
    gathered,
)
from millwright.studies.smooth_grid import asks_for_a_sampler, by_grid, takes_grid
from millwright.studies.smooth_model import (
    at_nodes,
    choices_told,
    method_words,
    place_name,
    smooth_model,
    usual_priors,
    with_places,
    with_shares,
)
from millwright.studies.smooth_places import places_along
from millwright.studies.smooth_prior import length_prior, span_and_spacing
from millwright.studies.smooth_process import KERNELS, Readings, hyperparameters, prior_draws
from millwright.studies.study import Fitting, Simulations, Study
from millwright.wording import setting, visible

__all__ = ["SmoothStudy", "smooth"]

_FEW_ROWS = 40
_MANY_ROWS = 100
_SAVING = 0.7
_QUICK_IN_ORDER, _IN_ORDER = 500, 5000
"""Rows of a rough kernel that are gone through one after the other, which loses nothing: always,
and where nodes would lose something."""
_SIMULATED = 200
_MOST_FOR_A_GRID = 1000
"""Rows of a function with values at nodes: its curvature there goes through all rows."""


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
    gathered
        The readings at nodes that stand for the rows, if they do.
    by_rows
        The model of the rows one by one.
    """

    name: ClassVar[str] = "smooth"

    x: tuple[str, ...]
    y: str
    readings: Readings = field(repr=False)
    family: SmoothFamily = field(repr=False)
    lengths: tuple[str, ...] = ("length",)
    gathered: Gathered | None = field(default=None, repr=False)
    by_rows: Model = field(repr=False)

    @property
    def rows(self) -> np.ndarray:
        """Where readings were made, shape (readings, columns)."""
        return self.data[list(self.x)].to_numpy(float)

    @property
    def told(self) -> str:
        """What is told of y: itself, its rate or its probability."""
        return self.family.of(visible(self.y))

    def data_of(self, name: str) -> pd.DataFrame:
        """Return the rows, with the place that each is at of several columns; or the nodes."""
        if self.gathered is not None and self.family.latent:
            return with_shares(self.data, self.gathered)
        if self.gathered is not None:
            return at_nodes(self.data, self.x[0], self.y, self.gathered)
        return with_places(self.data, self.x, self.family, self.place)

    @property
    def written_data(self) -> pd.DataFrame:
        """What the model is fitted to: the rows, or the nodes."""
        return self.data_of("smooth")

    @property
    def information_of_one(self) -> float:
        """What a row says on average of the function, in units of the noise."""
        values = self.data[self.y].to_numpy(float)
        over = exposures(self.data, self.settings.get("exposure"))
        return self.family.roughly(values, over)[3] / len(values)

    @property
    def error_of_one(self) -> float:
        """How large the error of a reading is, in units of the noise: the median of the rows."""
        error = self.settings["error"]
        return 1.0 if error is None else float(self.data[error].median())

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

    def simulate(self, *, draws: int = 500, seed: int = 0) -> Simulations:
        """Draw unknowns and data sets from the priors, as `Study.simulate` does.

        Of many rows some hundred are drawn, evenly taken from all.
        """
        if self.family.latent or (self.gathered is None and len(self.data) <= _SIMULATED):
            return super().simulate(draws=draws, seed=seed)
        drawn = self.by_rows.simulate(self._some_rows, draws=draws, seed=seed)
        return Simulations({next(iter(self.models)): drawn})

    @property
    def _some_rows(self) -> pd.DataFrame:
        """Some hundred rows, evenly taken: a model goes through a matrix of all that it has."""
        order = np.argsort(self.rows[:, 0], kind="stable")
        return self.data.iloc[order[:: -(-len(order) // _SIMULATED)]].reset_index(drop=True)

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
            Where, shape (points,); by default 100 places over the range of the data. Or a table
            of places, with every column that the shape is along.
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
        on = places_along(self.rows, self.x, x, along, at, 100)
        generator = generator_of(seed, Stream.PRIOR)
        by_rows = self.gathered is not None and not self.family.latent
        model, data = (
            (self.by_rows, self._some_rows) if by_rows else (self.model, self.data_of("smooth"))
        )
        binding = model.bind(data)
        refuse_improper(binding, ())
        drawn = draws_in(binding, draw_unknowns(binding, draws, generator))
        known = hyperparameters(drawn, lengths=self.lengths)
        made = prior_draws(self.readings.kernel, known, on.places, generator)
        return Curves(x=on.values, draws=self.family.natural(made), places=on.table)

    @cached_property
    def by_grid(self) -> bool:
        """Whether a grid with Laplace's approximation fits it, if no method is asked for."""
        quick = self.gathered is None or len(self.data) <= _MOST_FOR_A_GRID
        return self.family.latent and quick and takes_grid(self.model, self.data_of(self.name))

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        def fit(how: Fitting) -> Posterior:
            return super(SmoothStudy, self)._fit_one(name, how)

        if self.by_grid and not asks_for_a_sampler(how.settings):
            return by_grid(fit, how, self.models[name])
        return fit(how)

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
    nodes: int | None = None,
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
        `normal`, `poisson` (counts), `negative_binomial` (counts that vary more) or `bernoulli`
        (yes/no: 1 and 0, yes and no, true and false).
    exposure
        Column of what each count was counted over; rates are for one unit of it.
    kernel
        `squared_exponential` (very smooth), `matern52` or `matern32` (rougher, with a slope).
    nodes
        At how many nodes of a Gauss rule the rows are gathered, along one column; 0 for every row
        by itself, of counts and yes/no every place. By default every one up to 40 (of rough
        kernels read with a normal noise up to 500, and to 5000 where nodes would lose something),
        and above as few nodes as lose nothing that shows.
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
    if not is_among(kernel, KERNELS):
        raise ArgumentError(f"`kernel` is {', '.join(KERNELS)}, not {kernel!r}.")
    rests = family_called(family, error, exposure)
    _check_nodes(nodes)
    several = [x] if x is None else check_list("x", x)
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
        "nodes": nodes,
        "priors": check_mapping("priors", priors),
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
    at = _at_nodes(frame, x, settings, family)
    by_rows = smooth_model(frame, settings, x, names, family, usual, None)
    readings = _readings(frame, x, settings, family, at)
    of = dict(zip(names, ranges, strict=True))
    *others, last = [f"`{name}`" for name in x]
    along = f"{', '.join(others)} and {last}" if others else last
    made = SmoothStudy(
        question=f"What shape has `{y}` along {along}?",
        data=frame,
        models={
            "smooth": by_rows
            if at is None
            else smooth_model(frame, settings, x, names, family, usual, at)
        },
        choices=choices_told(settings, family, of, len(readings.x), at),
        remarks=remarks,
        # Told again, a study takes the nodes that it took.
        settings={**settings, "nodes": 0 if at is None else at.count},
        x=x,
        y=y,
        readings=readings,
        family=family,
        lengths=names,
        gathered=at,
        by_rows=by_rows,
    )
    return replace(made, choices=(*made.choices, method_words())) if made.by_grid else made


def _check_nodes(nodes: int | None) -> None:
    if nodes is not None and nodes != 0:
        check_whole("nodes", nodes, 4)


def _at_nodes(
    frame: pd.DataFrame, x: tuple[str, ...], settings: Mapping[str, Any], family: SmoothFamily
) -> Gathered | None:
    """Gather the rows if it is asked for, or loses nothing and saves something."""
    wanted, error = settings["nodes"], settings["error"]
    if len(x) > 1:
        if wanted:
            raise ArgumentError(f"{setting('nodes')} is for a shape along one column.")
        return None
    rows = frame[x[0]].nunique() if family.latent else len(frame)
    if wanted == 0 or (wanted is None and rows <= _FEW_ROWS):
        return None
    if family.latent:
        return _nodes_of_function(frame, x[0], settings, family)
    weights = np.ones(len(frame)) if error is None else frame[error].to_numpy(float) ** -2.0
    places, values = frame[x[0]].to_numpy(float), frame[settings["y"]].to_numpy(float)
    if wanted is not None:
        return gathered(places, values, weights, wanted)
    rough = settings["kernel"] in MATERN
    if rough and len(frame) <= _QUICK_IN_ORDER:
        return None
    made, lost = enough_nodes(settings["kernel"], places, values, weights, error is not None)
    if rough and lost >= NEGLIGIBLE and len(frame) <= _IN_ORDER:
        return None
    few = len(made.nodes) <= _SAVING * len(frame)
    return made if few and (lost < NEGLIGIBLE or len(frame) > _MANY_ROWS) else None


def _nodes_of_function(
    frame: pd.DataFrame, x: str, settings: Mapping[str, Any], family: SmoothFamily
) -> Gathered | None:
    """Take nodes for a function that is not summed out, if they save something."""
    places, values = frame[x].to_numpy(float), frame[settings["y"]].to_numpy(float)
    if settings["nodes"] is not None:
        return gathered(places, values, np.ones(len(frame)), settings["nodes"])
    over = exposures(frame, settings.get("exposure"))
    made, lost = enough_for_function(settings["kernel"], places, *family.roughly(values, over))
    different = len(np.unique(places))
    few = len(made.nodes) <= _SAVING * different
    return made if few and (lost < NEGLIGIBLE or different > _MANY_ROWS) else None


def _readings(
    frame: pd.DataFrame,
    x: tuple[str, ...],
    settings: Mapping[str, Any],
    family: SmoothFamily,
    at: Gathered | None,
) -> Readings:
    """Return what the function is known by, given the unknowns: places, values and errors."""
    kernel, error = settings["kernel"], settings["error"]
    if at is not None:
        return Readings(kernel=kernel, x=at.nodes[:, None], y=at.values, errors=at.errors)
    rows = frame[list(x)].to_numpy(float)
    return Readings(
        kernel=kernel,
        x=np.unique(rows, axis=0) if family.latent else rows,
        y=frame[settings["y"]].to_numpy(float),
        errors=np.ones(len(frame)) if error is None else frame[error].to_numpy(float),
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
