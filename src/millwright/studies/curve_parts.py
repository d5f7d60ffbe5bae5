"""A curve through data: the rows, the visible model, and the space of its unknowns."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from millwright.distributions import on_numpy
from millwright.draws.labelled_draws import Draws
from millwright.draws.prior import draws_in
from millwright.errors import ArgumentError
from millwright.language.printing import number_text
from millwright.modelling.foreign import Foreign, make_known
from millwright.modelling.labelled import DRAW
from millwright.modelling.shaping import spread_arguments
from millwright.modelling.simulate import draw_unknowns
from millwright.modelling.space import bounds_of
from millwright.models.model import Model
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.curve_formula import Formula, FunctionFormula, TextFormula, brought
from millwright.studies.curve_points import PointFit, Space, point_fit

__all__ = ["CurveData", "CurveParts"]

ERROR_FACTOR, NOISE = "error_factor", "noise"
_TRIED = 400


@dataclass(frozen=True, kw_only=True)
class CurveData:
    """The rows through which a curve goes.

    Attributes
    ----------
    frame
        The columns that are used.
    x
        Columns of the curve, by the names that the formula has for them.
    y
        The column that is read.
    names
        How the model calls the columns `y`, `error`, `width` and `set`.
    error
        Column of the standard errors, or one for all rows; None where they are unknown.
    width
        Column of the resolution of x, or one for all rows; None where x is exact.
    sets
        Column of the data sets; None for a single one.
    labels
        Names of the data sets.
    """

    frame: pd.DataFrame = field(repr=False)
    x: Mapping[str, str]
    y: str
    names: Mapping[str, str] = field(repr=False)
    error: str | float | None = None
    width: str | float | None = None
    sets: str | None = None
    labels: tuple[str, ...] = ()

    def columns(self) -> list[np.ndarray]:
        """Return the columns of x, and the width where there is one, as the formula takes them."""
        found = [self.frame[column].to_numpy(float) for column in self.x.values()]
        return found if self.width is None else [*found, self._each(self.width)]

    @property
    def readings(self) -> np.ndarray:
        """What was read at each row."""
        return self.frame[self.y].to_numpy(float)

    @property
    def errors(self) -> np.ndarray:
        """Standard errors of the rows; 1 where they are unknown."""
        return self._each(1.0 if self.error is None else self.error)

    def _each(self, given: str | float) -> np.ndarray:
        if isinstance(given, str):
            return self.frame[given].to_numpy(float)
        return np.full(len(self.frame), float(given))

    def codes(self) -> np.ndarray:
        """Return the data set of each row, as positions among the labels."""
        if self.sets is None:
            return np.zeros(len(self.frame), dtype=int)
        return np.array([self.labels.index(one) for one in self.frame[self.sets]])


@dataclass(frozen=True, kw_only=True)
class CurveParts:
    """One formula with the data, and all priors.

    Attributes
    ----------
    formula
        Smeared where x is.
    priors
        Of all unknowns that the formula uses, of the noise or the factor of the errors.
    each
        Unknowns that every data set has of its own.
    derived
        Further quantities.
    """

    title: str
    data: CurveData = field(repr=False)
    formula: Formula
    priors: Mapping[str, Any] = field(repr=False)
    each: tuple[str, ...] = ()
    derived: Mapping[str, str] = field(default_factory=dict, repr=False)

    @property
    def curve_name(self) -> str:
        """What the model calls the curve."""
        taken = {*self.priors, *self.data.x, *self.data.names.values(), *self.derived}
        return next(n for n in ("curve", "curve_here", "curve_at_row") if n not in taken)

    @cached_property
    def model(self) -> Model:
        """The model, its curve a derived quantity."""
        data = self.data
        columns = {**data.x, data.names["y"]: data.y}
        for key, column in (("error", data.error), ("width", data.width), ("set", data.sets)):
            if isinstance(column, str):
                columns[data.names[key]] = column
        text, own = self._curve()
        if own is not None:
            make_known(own)
        made = Model(
            title=self.title,
            priors=self._priors(),
            likelihood={data.names["y"]: f"normal({self.curve_name}, {self._noise()})"},
            derived={self.curve_name: text, **self.derived},
            columns={name: column for name, column in columns.items() if name != column},
        )
        return made if own is None else made.bringing(own)

    def _curve(self) -> tuple[str, Foreign | None]:
        """Return the curve as the model writes it, and the function that it brings along."""
        if isinstance(self.formula, TextFormula) and not self.each:
            return self.formula.text, None
        inner = getattr(self.formula, "inner", self.formula)
        name = f"{inner.name}_curve" if isinstance(inner, FunctionFormula) else "formula_curve"
        width = self.data.width
        given = list(self.data.x)
        if width is not None:
            given.append(
                self.data.names["width"] if isinstance(width, str) else number_text(float(width))
            )
        given += [
            f"{n}[{self.data.names['set']}]" if n in self.each else n
            for n in self.formula.unknowns
        ]
        return f"{name}({', '.join(given)})", _brought(name, self.formula)

    def _priors(self) -> dict[str, Any]:
        per = f" per {self.data.names['set']}"
        return {n: f"{p}{per}" if n in self.each else p for n, p in self.priors.items()}

    def _noise(self) -> str:
        error = self.data.error
        scale = NOISE if error is None else ERROR_FACTOR
        place = f"{scale}[{self.data.names['set']}]" if scale in self.each else scale
        if error is None:
            return place
        told = self.data.names["error"] if isinstance(error, str) else number_text(float(error))
        return f"{place} * {told}" if ERROR_FACTOR in self.priors else told

    @cached_property
    def priors_alone(self) -> Draws:
        """Draws of the unknowns of the curve from their priors."""
        own = {n: p for n, p in self._priors().items() if n not in (NOISE, ERROR_FACTOR)}
        labels = {self.data.names["set"]: tuple(self.data.labels)} if self.each else None
        binding = Model(priors=own, likelihood={}, labels=labels).bind(None)
        for part in binding.program.unknowns:
            if part.improper:
                raise ArgumentError(
                    f"The prior of `{part.name}` is improper: an unknown of a curve needs a "
                    "range, such as (0, 25), or a proper prior."
                )
        drawn = draw_unknowns(binding, _TRIED, generator_of(0, Stream.SIMULATION))
        return draws_in(binding, drawn)

    @cached_property
    def free(self) -> tuple[str, ...]:
        """Unknowns of the curve that are not held at a number."""
        return tuple(n for n in self.formula.unknowns if isinstance(self.priors[n], str))

    @cached_property
    def space(self) -> Space:
        """The single numbers that the curve has to find."""
        draws = self.priors_alone
        binding = draws.binding
        evaluation = draws.evaluation()
        cells = {name: draws.single([name]) for name in self.free}
        low, high = {}, {}
        for part in binding.program.unknowns:
            if part.name not in self.free:
                continue
            with np.errstate(all="ignore"):
                named = evaluation.parameters(part)
                axes = (DRAW, *part.axes)
                values = spread_arguments(on_numpy, part, named, axes, binding.program)
                ends = bounds_of(part, values)
            # An end that leans on another unknown lies where it is widest.
            low[part.name] = -np.inf if ends[0] is None else float(np.min(ends[0]))
            high[part.name] = np.inf if ends[1] is None else float(np.max(ends[1]))
        names = [cell for name in self.free for cell in cells[name]]
        drawn = np.stack([cells[n][cell].reshape(-1) for n in self.free for cell in cells[n]], -1)
        wide = np.quantile(drawn, [0.16, 0.84], axis=0)
        scale = np.maximum((wide[1] - wide[0]) / 2, 1e-12)
        return Space(
            names=tuple(names),
            low=np.array([low[name] for name in self.free for _ in cells[name]]),
            high=np.array([high[name] for name in self.free for _ in cells[name]]),
            scale=scale,
            draws=drawn,
        )

    def unknowns_at(self, positions: np.ndarray, codes: np.ndarray) -> dict[str, np.ndarray]:
        """Return the unknowns at positions (draws, numbers), by row where they differ."""
        found: dict[str, np.ndarray] = {}
        at = 0
        for name in self.formula.unknowns:
            if name not in self.free:
                found[name] = np.full(len(positions), float(self.priors[name]))
            elif name in self.each:
                count = len(self.data.labels)
                found[name] = positions[:, at : at + count][:, codes]
                at += count
            else:
                found[name] = positions[:, at]
                at += 1
        return found

    def unknowns_of(self, draws: Draws, codes: np.ndarray, keep: slice) -> dict[str, np.ndarray]:
        """Return the unknowns of the curve in draws of the posterior."""
        found = [draws.single([name]) for name in self.free]
        every = [one.reshape(-1)[keep] for cells in found for one in cells.values()]
        count = len(range(draws.shape[0] * draws.shape[1])[keep])
        return self.unknowns_at(np.stack(every, -1) if every else np.zeros((count, 0)), codes)

    def fitted(self, positions: np.ndarray) -> np.ndarray:
        """Return the curve at the rows, for positions (draws, numbers)."""
        columns, codes = self._rows
        return self.formula.values(columns, self.unknowns_at(positions, codes))

    @cached_property
    def _rows(self) -> tuple[list[np.ndarray], np.ndarray]:
        """Columns and data sets of the rows: a point fit asks for them at every step."""
        return self.data.columns(), self.data.codes()

    def point_fit(self) -> PointFit:
        """Fit by bounded least squares."""
        y, errors = self.data.readings, self.data.errors

        def residuals(position: np.ndarray) -> np.ndarray:
            return np.asarray((y - self.fitted(position[None])[0]) / errors)

        given = self.data.error is not None and ERROR_FACTOR not in self.priors
        return point_fit(residuals, self.space, given)


@functools.lru_cache(maxsize=64)
def _brought(name: str, formula: Formula) -> Foreign:
    """Return a formula under a name; one for equal formulas, so that nothing compiles twice."""
    return brought(name, formula)
