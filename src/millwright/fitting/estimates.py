"""Point estimates: posterior mode and maximum likelihood."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from millwright.display import Shown, frame_text
from millwright.draws.labelled_draws import from_positions
from millwright.draws.numbers import decimals_of, fixed
from millwright.errors import ModelError
from millwright.modelling.binding import Binding
from millwright.modelling.specification import Specification, rests_on_unknowns
from millwright.sampling.mode import Peak

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Estimate", "estimate_at", "refuse_hierarchy"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Estimate(Shown):
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
        errors = self.values["standard error"]
        # With an error, both get the decimals that show it with two digits, as in other tables.
        for column in ("estimate", "standard error"):
            shown[column] = [
                "none"
                if np.isnan(value)
                else f"{value:.4g}"
                if np.isnan(error)
                else fixed(value, decimals_of(error))
                for value, error in zip(self.values[column], errors, strict=True)
            ]
        if not shown["note"].any():
            shown = shown.drop(columns="note")
        head = f"{self.method.capitalize()} (log density {self.log_density:.4f})"
        return "\n".join([head, frame_text(shown), *self.notes])


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
                    f"of `{part.name}` rests on other unknowns. Use fit(), or give those fixed "
                    "values"
                )
            )


def estimate_at(binding: Binding, peak: Peak, method: str) -> Estimate:
    """Turn a peak in unconstrained coordinates into estimates in the original scale."""
    import pandas as pd

    found = _around(binding, peak.position)
    jacobian = found.jacobian
    flat = np.abs(jacobian) < 1e-8 * max(1.0, float(np.abs(jacobian).max()))
    gone = (np.abs(peak.position) > 25) & flat.all(axis=0)
    at_end = flat[:, ~gone].all(axis=1) & gone.any()
    errors = np.where(at_end, np.nan, _standard_errors(peak, jacobian, gone))
    notes = ["at an end of its support" if end else "" for end in at_end]
    without = bool((np.isnan(errors) & ~at_end).any())
    frame = pd.DataFrame(
        {"estimate": found.values, "standard error": errors, "note": notes},
        index=pd.Index(found.names, name="unknown"),
    )
    return Estimate(
        method=method,
        values=frame,
        log_density=peak.log_density,
        notes=tuple(_peak_notes(binding, peak, bool(at_end.any()), without)),
    )


@dataclass(frozen=True)
class _Around:
    """All unknowns at a position, and how each moves with each free coordinate."""

    names: list[str]
    values: np.ndarray
    jacobian: np.ndarray


def _around(binding: Binding, position: np.ndarray) -> _Around:
    """Look at the map from free coordinates to unknowns, by central differences."""
    steps = 1e-5 * np.maximum(1.0, np.abs(position))
    moves = np.diag(steps)
    at = np.concatenate([position[None], position + moves, position - moves])
    draws = from_positions(binding, at[None])
    single = draws.single([part.name for part in binding.program.unknowns])
    rows = np.array([values[0] for values in single.values()])
    size = len(position)
    jacobian = (rows[:, 1 : size + 1] - rows[:, size + 1 :]) / (2 * steps)
    return _Around(list(single), rows[:, 0], jacobian)


def _standard_errors(peak: Peak, jacobian: np.ndarray, gone: np.ndarray) -> np.ndarray:
    """Square roots of the inverse curvature, carried over to the unknowns (delta method)."""
    errors = np.full(len(jacobian), np.nan)
    inner = ~gone
    if inner.any():
        try:
            covariance = np.linalg.inv(-peak.hessian[np.ix_(inner, inner)])
        except np.linalg.LinAlgError:
            return errors
        carried = jacobian[:, inner]
        variances = np.einsum("ik,kl,il->i", carried, covariance, carried)
        # A direction that the data leave open has no error, nor has what rests on it.
        open_ends = np.diag(covariance) <= 0
        bad = (np.abs(carried[:, open_ends]) > 1e-8).any(axis=1) | (variances <= 0)
        errors[~bad] = np.sqrt(variances[~bad])
    return errors


def _peak_notes(binding: Binding, peak: Peak, at_end: bool, without_errors: bool) -> list[str]:
    notes = []
    if without_errors:
        notes.append(
            "There is no standard error for some unknowns: the data do not determine every "
            "combination of them."
        )
    if peak.agreeing < peak.starts:
        notes.append(
            f"{peak.agreeing} of {peak.starts} starts ended at this maximum; the others lower. "
            "There may be several."
        )
        ends = Counter(_other_end(binding, peak, *other) for other in peak.others)
        notes += [f"  {count} ended {words}" for words, count in list(ends.items())[:3]]
    if not peak.settled and not at_end:
        notes.append("The optimisation did not converge: the density may grow without bound.")
    return notes


def _other_end(binding: Binding, peak: Peak, position: np.ndarray, log_density: float) -> str:
    """Say where a start ended that did not reach the maximum."""
    single = from_positions(binding, position[None, None]).single(
        [part.name for part in binding.program.unknowns]
    )
    shown = ", ".join(f"{name} = {v[0, 0]:.4g}" for name, v in list(single.items())[:4])
    more = ", ..." if len(single) > 4 else ""
    lower = peak.log_density - log_density
    return f"{lower:.4g} lower in log density, at {shown}{more}."
