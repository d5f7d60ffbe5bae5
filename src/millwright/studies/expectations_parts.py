"""Series on the stable path of equations with expectations: unknowns, readings, visible model."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from millwright.draws.expressions import evaluated
from millwright.draws.labelled_draws import Draws
from millwright.expectations.readings import Readings
from millwright.expectations.solution import Path, rest_of, solved
from millwright.expectations.system import System
from millwright.modelling.foreign import Foreign, make_known
from millwright.models.model import Model
from millwright.studies.autoregression_data import SeriesData

__all__ = ["ExpectationsModel", "Worlds"]

_FUNCTION = "stable_path"
_MOST_VALUES = 1000


@dataclass(frozen=True, kw_only=True)
class Worlds:
    """What draws of the unknowns say of the system; entry i belongs to draw i.

    Attributes
    ----------
    transition, impact
        (draws, n, n) and (draws, n, shocks), shocks of one sd.
    sizes
        Sds of the shocks, (draws, shocks).
    levels, errors
        Of each reading, (draws, readings).
    paths
        The solution of each draw; only those with one stable path have numbers above.
    """

    transition: np.ndarray = field(repr=False)
    impact: np.ndarray = field(repr=False)
    sizes: np.ndarray = field(repr=False)
    levels: np.ndarray = field(repr=False)
    errors: np.ndarray = field(repr=False)
    paths: tuple[Path, ...] = field(repr=False)

    def __len__(self) -> int:
        return len(self.paths)


@dataclass(frozen=True, kw_only=True)
class ExpectationsModel:
    """A system with expectations, the readings of its variables, and all priors.

    Attributes
    ----------
    data
        The series that are read, in the order of `variables`.
    variables
        The variable that each series reads.
    with_error
        Those of them that are read with an error.
    priors
        Of all unknowns, as text or number.
    """

    system: System
    data: SeriesData = field(repr=False)
    variables: tuple[str, ...]
    with_error: tuple[str, ...]
    priors: Mapping[str, Any] = field(repr=False)

    @cached_property
    def frame(self) -> pd.DataFrame:
        """The series, gaps filled with 0, and where there are gaps 1 for what was read."""
        table = self.data.frame[list(self.data.series)]
        if not self._gaps:
            return table.reset_index(drop=True)
        read = table.notna().astype(float).rename(columns=_read_column)
        return pd.concat([table.fillna(0.0), read], axis=1).reset_index(drop=True)

    @property
    def _gaps(self) -> bool:
        return bool(len(self.data.gaps[0]))

    @cached_property
    def readings(self) -> Readings:
        """The density of the readings."""
        places = tuple(map(self.system.variables.index, self.variables))
        errors = tuple(map(self.variables.index, self.with_error))
        return Readings(system=self.system, variables=places, with_error=errors, gaps=self._gaps)

    @property
    def _sizes(self) -> list[str]:
        return [size_of(shock) for shock in self.system.shocks]

    @property
    def _errors(self) -> list[str]:
        return [error_of(variable) for variable in self.with_error]

    @property
    def _levels(self) -> list[str]:
        if self.system.has_constants:
            return []
        return [level_of(variable) for variable in self.variables]

    @property
    def own_names(self) -> tuple[str, ...]:
        """Unknowns that stand beside the equations: sds of shocks and errors, and levels."""
        return (*self._sizes, *self._errors, *self._levels)

    @cached_property
    def model(self) -> Model:
        """The model, with the density of its readings as a term."""
        read = dict(zip(self.variables, self.data.series, strict=True))
        columns = {f"{variable}_reading": column for variable, column in read.items()}
        if self._gaps:
            columns |= {
                f"{variable}_read": _read_column(column) for variable, column in read.items()
            }
        values = [*self.system.asked, *self.own_names, *columns]
        own = _function(self.readings)
        make_known(own)
        equations = "\n".join(f"{name}: {text}" for name, text in self.system.texts)
        return Model(
            title="Equations with expectations",
            notes=f"Readings on the one stable path of these equations:\n{equations}",
            priors=dict(self.priors),
            likelihood={},
            log_density_terms={"readings": f"{_FUNCTION}({', '.join(values)})"},
            columns=dict(columns),
        ).bringing(own)

    @cached_property
    def priors_alone(self) -> Model:
        """The unknowns without any readings: what is drawn from before there are data."""
        return Model(priors=dict(self.priors), likelihood={})

    def worlds(self, draws: Draws, keep: slice = slice(None)) -> Worlds:
        """Return what draws of the unknowns say of the system, solved anew by its Schur form."""
        every = [
            evaluated(draws, text, "coefficient").values.reshape(-1)[keep]
            for text in self.system.asked
        ]
        count = len(range(draws.shape[0] * draws.shape[1])[keep])

        def of(names: list[str]) -> np.ndarray:
            found = [np.broadcast_to(draws.get(name), draws.shape) for name in names]
            return np.stack([one.reshape(-1)[keep] for one in found], axis=-1)

        matrices = self.system.matrices(every, (count,))
        single = [{name: one[at] for name, one in matrices.items()} for at in range(count)]
        paths = tuple(map(solved, single))
        errors = np.zeros((count, len(self.variables)))
        if self.with_error:
            errors[:, list(self.readings.with_error)] = of(self._errors)
        if self.system.has_constants:
            levels = np.stack([rest_of(one)[list(self.readings.variables)] for one in single])
        else:
            levels = of(self._levels)
        sizes = of(self._sizes)
        return Worlds(
            transition=np.stack([path.transition for path in paths]),
            impact=np.stack([path.impact for path in paths]) * sizes[:, None, :],
            sizes=sizes,
            levels=levels,
            errors=errors,
            paths=paths,
        )


@functools.lru_cache(maxsize=32)
def _function(readings: Readings) -> Foreign:
    """Return the density under its name; one for equal systems, so that nothing compiles twice."""
    return Foreign(
        name=_FUNCTION,
        function=readings,
        fewest=1,
        most=_MOST_VALUES,
        black_box=False,
        gives="number",
    )


def size_of(shock: str) -> str:
    """Return the name of the sd of a shock."""
    return f"{shock}_sd"


def error_of(variable: str) -> str:
    """Return the name of the sd of the errors with which a variable is read."""
    return f"{variable}_error"


def level_of(variable: str) -> str:
    """Return the name of the level around which a variable is read."""
    return f"{variable}_level"


def _read_column(column: str) -> str:
    return f"{column}, read"
