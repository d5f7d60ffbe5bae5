"""How the evidence for one model over another grew as rows came in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.checks import check_whole
from millwright.comparison.path_steps import ModelSteps, model_steps, steps_at_point
from millwright.display import Shown, frame_text
from millwright.draws.known_priors import known_prior
from millwright.draws.numbers import fixed
from millwright.errors import ArgumentError, DataError, nearest
from millwright.evidence.bayes_factor import factor_sentence
from millwright.evidence.evidence import STATED
from millwright.evidence.points import inside_support
from millwright.modelling.binding import Binding, bind
from millwright.modelling.changed_priors import with_priors
from millwright.modelling.data_sets import one_table
from millwright.models.model import Model

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["EvidencePath", "evidence_path"]

_STOPPING = (
    "Whoever stops as soon as a threshold is passed will pass it more often than the final number "
    "says: state in advance when to stop, and report the path as a whole."
)


@dataclass(frozen=True, kw_only=True)
class EvidencePath(Shown):
    """The evidences of two models after each row, or group of rows.

    Attributes
    ----------
    models
        Names of the two; Bayes factors are of the first over the second.
    steps
        What came in at each step: the value of the column of order or groups, or the row's
        number.
    rows
        How many rows there were after each step.
    log_evidences
        For each model the log evidence after each step.
    standard_errors
        For each model their errors.
    ways
        For each model how they were found.
    estimates
        For each model and quantity that was asked for: mean, sd, median and the ends of the
        central 95 % interval after each step, shape (steps, 5).
    """

    models: tuple[str, str]
    steps: tuple[Any, ...] = field(repr=False)
    rows: np.ndarray = field(repr=False)
    log_evidences: Mapping[str, np.ndarray] = field(repr=False)
    standard_errors: Mapping[str, np.ndarray] = field(repr=False)
    ways: Mapping[str, str]
    estimates: Mapping[str, Mapping[str, np.ndarray]] = field(repr=False)

    @property
    def log_factors(self) -> np.ndarray:
        """Log Bayes factor of the first model over the second after each step."""
        first, second = self.models
        return np.asarray(self.log_evidences[first] - self.log_evidences[second])

    @property
    def log_factor_errors(self) -> np.ndarray:
        """Standard error of the log Bayes factor after each step."""
        first, second = self.models
        return np.hypot(self.standard_errors[first], self.standard_errors[second])

    @property
    def sampled(self) -> bool:
        """Whether an evidence comes from sampling, so that the errors are to be seen."""
        return any(way != "quadrature" for way in self.ways.values())

    def estimate(self, name: str, quantity: str) -> pd.DataFrame:
        """Return what a model says of a quantity after each step, one row a step.

        Parameters
        ----------
        name
            The model.
        quantity
            One that was asked for in `quantities`.

        Raises
        ------
        ArgumentError
            For another model or quantity.
        """
        import pandas as pd

        known = self.estimates.get(name, {})
        if quantity not in known:
            asked = [f"`{one}` of `{n}`" for n, found in self.estimates.items() for one in found]
            raise ArgumentError(
                f"There is no path of `{quantity}` under `{name}`. "
                + (f"There are: {', '.join(asked)}." if asked else "Ask for it in `quantities`.")
            )
        return pd.DataFrame(
            known[quantity],
            index=pd.Index(list(self.steps), name="step"),
            columns=["mean", "sd", "median", "95 % interval, from", "95 % interval, to"],
        )

    def table(self) -> pd.DataFrame:
        """Return one row a step: rows so far, log evidence of each model, log Bayes factor."""
        import pandas as pd

        columns = {"rows": self.rows} | {
            f"log evidence of {name}": values for name, values in self.log_evidences.items()
        }
        frame = pd.DataFrame({**columns, "log Bayes factor": self.log_factors})
        if self.sampled:
            frame["its standard error"] = self.log_factor_errors
        return frame.set_axis(pd.Index(list(self.steps), name="step"))

    def _shown(self) -> pd.DataFrame:
        frame = self.table()
        for column in frame.columns[1:]:
            frame[column] = [fixed(float(value), 3) for value in frame[column]]
        if self.sampled:
            frame["its standard error"] = [
                "< 0.001" if error < 0.001 else fixed(float(error), 3)
                for error in self.log_factor_errors
            ]
        return frame

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        return {
            "models": list(self.models),
            "steps": [str(step) for step in self.steps],
            "rows": self.rows.tolist(),
            "log_evidences": {n: _plain(v) for n, v in self.log_evidences.items()},
            "log_bayes_factors": _plain(self.log_factors),
            "standard_errors": _plain(self.log_factor_errors),
            "ways": dict(self.ways),
            "estimates": {
                name: {quantity: values.tolist() for quantity, values in found.items()}
                for name, found in self.estimates.items()
            },
        }

    def __str__(self) -> str:
        last = float(self.log_factors[-1])
        left = []
        if self.sampled:
            lost = int(np.sum(~np.isfinite(self.log_factor_errors)))
            if lost:
                steps = "1 step" if lost == 1 else f"{lost} steps"
                left.append(f"At {steps} no error is known: DO NOT RELY on the factor there.")
            worst = STATED * float(np.nanmax(self.log_factor_errors, initial=0.0))
            left.append(
                "Evidences by "
                + "; ".join(f"{way} (`{name}`)" for name, way in self.ways.items())
                + f". The least exact log Bayes factor is right to about {worst:.2g} ({STATED} "
                "standard errors)."
            )
        return "\n".join(
            [
                f"After all {self.rows[-1]} rows: "
                + factor_sentence(last, float(self.log_factor_errors[-1]), *self.models),
                frame_text(self._shown(), 20),
                *left,
                _STOPPING,
            ]
        )


def _plain(values: np.ndarray) -> list[float | None]:
    return [None if np.isnan(value) else float(value) for value in values]


def evidence_path(
    models: Mapping[str, Model],
    data: Any,
    *,
    null: Mapping[str, float] | None = None,
    order: str | None = None,
    by: str | None = None,
    first: int = 1,
    quantities: Sequence[str] = (),
    seed: int = 0,
) -> EvidencePath:
    """Follow the Bayes factor of two models as rows come in.

    For models of at most three unknown numbers each evidence is integrated by quadrature to a
    tolerance of 1e-4; of others it is found by sequential Monte Carlo over the rows (Chopin
    2002; 4000 particles, four runs), with its error.

    Parameters
    ----------
    models
        Two models by name; the Bayes factor is of the first over the second. With `null` one.
    data
        One table, a row an observation.
    null
        Values at which unknowns of the one model are held in the other: `{"slope": 0}`.
    order
        A column by whose values the rows come in; by default as they stand.
    by
        A column of groups that come in together, in the order of their first rows.
    first
        Rows of the first step; not with `by`.
    quantities
        Quantities whose estimates are to be followed too, in each model that has them.
    seed
        Any whole number from 0.

    Returns
    -------
    The evidences after each step; `mw.plots.evidence_path(result)` draws them.

    Raises
    ------
    ArgumentError
        For other than two models, a null of what is no unknown, an order with ties, or a
        quantity that no model has.
    DataError
        If a column is missing or has gaps.
    ModelError
        For improper priors, terms in the log density, or rows that depend on each other.
    """
    models, null = _checked(models, null)
    check_whole("first", first, 1)
    check_whole("seed", seed, 0)
    frame, steps, rows = _in_order(data, order, by, first)
    bindings = {name: model.bind(frame) for name, model in models.items()}
    if null is not None:
        return _against_point(bindings, frame, null, steps, rows, quantities, seed)
    one, other = bindings
    outcomes = [{part.name for part in b.program.outcomes} for b in bindings.values()]
    if outcomes[0] != outcomes[1]:
        raise ArgumentError(
            f"`{one}` and `{other}` have different outcomes, so their evidences cannot be "
            "compared."
        )
    wanted = _followed(bindings, quantities)
    found = {
        name: model_steps(name, binding, rows, wanted[name], seed)
        for name, binding in bindings.items()
    }
    return _path_of(found, steps, rows)


def _against_point(
    bindings: Mapping[str, Binding],
    frame: Any,
    null: Mapping[str, float],
    steps: tuple[Any, ...],
    rows: np.ndarray,
    quantities: Sequence[str],
    seed: int,
) -> EvidencePath:
    """Follow one model against itself with unknowns held at values."""
    (name, binding), *_ = bindings.items()
    unknowns = {part.name for part in binding.program.unknowns}
    for held, value in null.items():
        if held not in unknowns:
            raise ArgumentError(
                f"`null` holds `{held}`, which is no unknown of `{name}`."
                f"{nearest(str(held), unknowns)} Unknowns: {', '.join(sorted(unknowns))}."
            )
        prior = known_prior(binding.specification, held)
        if prior is not None and not inside_support(prior, value):
            raise ArgumentError(
                f"`null`: {held} = {value:g} is outside the range of that unknown, or at its end. "
                "Write the model without it, and give both models."
            )
    key = f"{name} with {', '.join(f'{n} = {v:g}' for n, v in null.items())}"
    if unknowns == null.keys():
        wanted = _followed(bindings, quantities)
        point = steps_at_point(name, binding, rows, null)
    else:
        inner = bind(
            with_priors(binding.specification, null), frame, functions=binding.program.foreign
        )
        wanted = _followed({name: binding, key: inner}, quantities)
        point = model_steps(key, inner, rows, wanted[key], seed)
    free = model_steps(name, binding, rows, wanted[name], seed)
    return _path_of({name: free, key: point}, steps, rows)


def _path_of(
    found: Mapping[str, ModelSteps], steps: tuple[Any, ...], rows: np.ndarray
) -> EvidencePath:
    one, other = found
    return EvidencePath(
        models=(one, other),
        steps=steps,
        rows=rows,
        log_evidences={name: path.log_values for name, path in found.items()},
        standard_errors={name: path.standard_errors for name, path in found.items()},
        ways={name: path.way for name, path in found.items()},
        estimates={name: path.estimates for name, path in found.items() if path.estimates},
    )


def _checked(
    models: Mapping[str, Model], null: Mapping[str, float] | None
) -> tuple[Mapping[str, Model], Mapping[str, float] | None]:
    """Refuse what are not two models, or one with a null."""
    if not isinstance(models, Mapping) or len(models) != (2 if null is None else 1):
        raise ArgumentError(
            "Give two models by name: evidence_path({'line': a, 'flat': b}, data); or one with "
            "`null`: evidence_path({'line': a}, data, null={'slope': 0})."
        )
    for name, model in models.items():
        if not isinstance(model, Model):
            raise ArgumentError(f"`{name}` must be a model, not {type(model).__name__}.")
    if null is None:
        return models, None
    if not isinstance(null, Mapping) or not null:
        raise ArgumentError("`null` holds unknowns at values: null={'slope': 0}.")
    for name, value in null.items():
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise ArgumentError(f"`null` holds `{name}` at a number, not {value!r}.")
    return models, {name: float(value) for name, value in null.items()}


def _followed(bindings: Mapping[str, Binding], quantities: Sequence[str]) -> dict[str, list[str]]:
    """Return for each model the quantities to follow: those that it has."""
    if isinstance(quantities, str):
        quantities = [quantities]
    wanted: dict[str, list[str]] = {name: [] for name in bindings}
    for quantity in quantities:
        base = str(quantity).split("[")[0]
        having = []
        for name, binding in bindings.items():
            fixed = {part.name for part in binding.specification.parts if part.kind == "fixed"}
            if base in binding.axes and base not in fixed:
                having.append(name)
                wanted[name].append(str(quantity))
        if not having:
            known = list(dict.fromkeys(n for binding in bindings.values() for n in binding.axes))
            raise ArgumentError(
                f"No model has a quantity `{base}`.{nearest(base, known)} "
                f"Quantities: {', '.join(known)}."
            )
    return wanted


def _in_order(
    data: Any, order: str | None, by: str | None, first: int
) -> tuple[Any, tuple[Any, ...], np.ndarray]:
    """Return the rows in their order, what each step is called, and the rows after each."""
    frame = one_table(data, "Rows come in one by one")
    for column in (order, by):
        if column is not None and column not in frame.columns:
            known = list(map(str, frame.columns))
            raise DataError(f"The data have no column `{column}`.{nearest(str(column), known)}")
        if column is not None and frame[column].isna().any():
            raise DataError(f"The column `{column}` has gaps, so it gives no order.")
    if order is not None:
        if by is None and frame[order].duplicated().any():
            raise ArgumentError(
                f"`{order}` has ties, so it does not say which row came first: break them, or let "
                "rows of one value come in together by `by`."
            )
        frame = frame.sort_values(order, kind="stable").reset_index(drop=True)
    if by is None:
        count = np.arange(min(first, len(frame)), len(frame) + 1)
        names = frame[order].to_numpy()[count - 1] if order is not None else count
        return frame, tuple(names), count
    groups = {name: at for at, name in enumerate(frame[by].drop_duplicates())}
    codes = frame[by].map(groups).to_numpy()
    frame = frame.iloc[np.argsort(codes, kind="stable")].reset_index(drop=True)
    return frame, tuple(groups), np.cumsum(np.bincount(codes))
