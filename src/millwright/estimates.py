"""Point estimates: posterior mode and maximum likelihood."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from millwright.distributions import on_numpy
from millwright.draws.labelled_draws import Draws
from millwright.errors import ModelError
from millwright.modelling.binding import Binding
from millwright.modelling.density import place_unknowns
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.space import bounds_of, places, slope
from millwright.modelling.specification import Specification, rests_on_unknowns
from millwright.sampling.mode import Peak

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Estimate", "estimate_at", "refuse_hierarchy"]


@dataclass(frozen=True, eq=False)
class Estimate:
    """A point estimate with standard errors from the curvature.

    Attributes
    ----------
    method
        `posterior mode` or `maximum likelihood`.
    values
        One row a number: `estimate`, `standard error` (NaN where the curvature gives none) and
        a `note`.
    log_density
        Logarithm of the maximised density.
    """

    method: str
    values: pd.DataFrame
    log_density: float
    notes: tuple[str, ...]

    def __getitem__(self, name: str) -> float:
        """Return the estimate of one number, as `drying` or `effect[Upper]`."""
        return float(self.values["estimate"][name])

    def __str__(self) -> str:
        shown = self.values.copy()
        for column in ("estimate", "standard error"):
            shown[column] = [
                "none" if np.isnan(value) else f"{value:.4g}" for value in shown[column]
            ]
        if not shown["note"].any():
            shown = shown.drop(columns="note")
        head = f"{self.method.capitalize()} (log density {self.log_density:.4f})"
        return "\n".join([head, shown.rename_axis(None).to_string(), *self.notes])


def refuse_hierarchy(specification: Specification) -> None:
    """Refuse maximum likelihood where a prior rests on other unknowns."""
    by_name = {part.name: part for part in specification.parts}
    for part in specification.parts:
        if part.kind == "unknown" and any(
            rests_on_unknowns(node, by_name) for _, node in part.arguments
        ):
            raise ModelError(
                part.definition.message(
                    "maximum likelihood is not defined for a model with a hierarchy: the prior "
                    f"of `{part.name}` rests on other unknowns. Use fit(), or hold those fixed"
                )
            )


def estimate_at(binding: Binding, peak: Peak, method: str) -> Estimate:
    """Turn a peak in unconstrained coordinates into estimates in the original scale."""
    import pandas as pd

    evaluation, _ = place_unknowns(on_numpy, binding.program, binding.arguments, peak.position)
    slopes = _slopes(binding, evaluation, peak.position)
    at_end = (np.abs(peak.position) > 25) & (
        np.abs(slopes) < 1e-8 * np.maximum(1, np.abs(slopes).max())
    )
    errors = _standard_errors(peak, slopes, at_end)
    flat = [np.ravel(evaluation.values[place.name].values) for place in places(binding.program)]
    draws = Draws(binding, {p.name: np.zeros((1, 1, *p.shape)) for p in places(binding.program)})
    labels = [
        f"{place.name}{label}"
        for place in places(binding.program)
        for label in draws.cells(place.name)
    ]
    notes = ["at an end of its support" if end else "" for end in at_end]
    without = bool((np.isnan(errors) & ~at_end).any())
    frame = pd.DataFrame(
        {"estimate": np.concatenate(flat), "standard error": errors, "note": notes},
        index=pd.Index(labels, name="unknown"),
    )
    return Estimate(
        method, frame, peak.log_density, tuple(_peak_notes(peak, bool(at_end.any()), without))
    )


def _slopes(binding: Binding, evaluation: Evaluation, position: np.ndarray) -> np.ndarray:
    result = np.empty_like(position)
    for part, place in zip(binding.program.unknowns, places(binding.program), strict=True):
        named = {
            name: np.asarray(item.values) for name, item in evaluation.parameters(part).items()
        }
        u = position[place.start : place.stop].reshape(place.shape)
        result[place.start : place.stop] = np.ravel(slope(u, *bounds_of(part, named)))
    return result


def _standard_errors(peak: Peak, slopes: np.ndarray, at_end: np.ndarray) -> np.ndarray:
    """Square roots of the inverse curvature in the original scale; NaN at ends."""
    errors = np.full(len(slopes), np.nan)
    inner = ~at_end
    if inner.any():
        try:
            covariance = np.linalg.inv(-peak.hessian[np.ix_(inner, inner)])
        except np.linalg.LinAlgError:
            return errors
        variances = np.diag(covariance)
        good = variances > 0
        values = np.full(variances.shape, np.nan)
        values[good] = np.sqrt(variances[good])
        errors[inner] = values * np.abs(slopes[inner])
    return errors


def _peak_notes(peak: Peak, at_end: bool, without_errors: bool) -> list[str]:
    notes = []
    if without_errors:
        notes.append(
            "The curvature gives no standard errors for some: these data do not settle every "
            "combination of the unknowns."
        )
    if peak.agreeing < peak.starts:
        notes.append(
            f"{peak.agreeing} of {peak.starts} starts ended at this maximum; others ended lower. "
            "There may be several."
        )
    if not peak.settled and not at_end:
        notes.append("The climb did not settle: the density may grow without bound.")
    return notes
