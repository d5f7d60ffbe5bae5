"""The same model and data under other priors, side by side."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.display import Shown, text_table
from millwright.draws.expressions import chosen_numbers
from millwright.draws.intervals import kind_words
from millwright.draws.supports import never_negative
from millwright.draws.table import Table, make_table
from millwright.errors import ArgumentError, MillwrightError
from millwright.evidence.bayes_factor import factor_text
from millwright.evidence.evidence import Evidence, log_text
from millwright.posterior.posterior import Posterior
from millwright.posterior.refits import fitted_with

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["AS_FITTED", "UnderPriors", "under_priors"]

AS_FITTED = "as fitted"


@dataclass(frozen=True, kw_only=True)
class UnderPriors(Shown):
    """A posterior beside those under other priors.

    Attributes
    ----------
    posteriors
        By the name of the set of priors; the first is the one as fitted.
    priors
        What each set changes.
    evidences
        Evidence under each set that has one.
    without_evidence
        Why others have none.
    """

    posteriors: Mapping[str, Posterior] = field(repr=False)
    priors: Mapping[str, Mapping[str, Any]]
    evidences: Mapping[str, Evidence] = field(repr=False)
    without_evidence: Mapping[str, str] = field(default_factory=dict, repr=False)

    def _tables(self, names: Any, level: float) -> dict[str, Table]:
        """Return a table for each quantity, one row a set of priors."""
        found: dict[str, dict[str, np.ndarray]] = {}
        sided = [never_negative(one.draws) for one in self.posteriors.values()]
        for key, posterior in self.posteriors.items():
            for name, value in chosen_numbers(posterior.draws, names).items():
                found.setdefault(name, {})[key] = value
        return {
            name: make_table(
                fits, level, one_sided=list(fits) if all(name in s for s in sided) else ()
            )
            for name, fits in found.items()
        }

    def table(self, names: Any = None, level: float = 0.95) -> pd.DataFrame:
        """Return one row a quantity and set of priors: mean, sd, median, interval, P(above 0).

        Parameters
        ----------
        names
            Quantities or expressions; by default all.
        level
            Level of the central interval.
        """
        import pandas as pd

        tables = self._tables(names, level)
        frames = {
            name: pd.DataFrame(table.columns, index=pd.Index(table.names, name="priors")).drop(
                columns=["effective draws", "R-hat"]
            )
            for name, table in tables.items()
        }
        return pd.concat(frames, names=["quantity"])

    def __str__(self) -> str:
        tables = self._tables(None, 0.95)
        heading = kind_words("central", 0.95)
        names: list[str] = []
        columns: dict[str, list[str]] = {
            column: [] for column in ("priors", "mean", "sd", heading, "P(above 0)")
        }
        for name, table in tables.items():
            names += [name] + [""] * (len(table.names) - 1)
            columns["priors"] += list(table.names)
            for column in ("mean", "sd", heading, "P(above 0)"):
                columns[column] += list(table.shown[column])
        lines = [text_table(names, columns), *self._changed(), *self._evidence_lines()]
        lines += [
            f"The verdict under `{key}`: {one.verdict.headline}"
            for key, one in self.posteriors.items()
            if not one.verdict.good
        ]
        return "\n".join(lines)

    def _changed(self) -> list[str]:
        return [
            f"{key}: " + "; ".join(f"{name}: {prior}" for name, prior in changes.items()) + "."
            for key, changes in self.priors.items()
        ]

    def _evidence_lines(self) -> list[str]:
        base = self.evidences.get(AS_FITTED)
        lines = []
        for key, one in self.evidences.items():
            trust = "" if one.trusted else " NOT TO BE TRUSTED."
            against = ""
            if base is not None and key != AS_FITTED:
                factor = factor_text(one.log_value - base.log_value)
                against = f"; Bayes factor over `{AS_FITTED}` {factor}"
            lines.append(
                f"Log evidence under `{key}`: {log_text(one.log_value, one.standard_error)}"
                f"{against}.{trust}"
            )
        return lines + [
            f"No evidence under `{key}`: {why}" for key, why in self.without_evidence.items()
        ]


def under_priors(posterior: Posterior, priors: Mapping[str, Mapping[str, Any]]) -> UnderPriors:
    """Fit again under other priors; see `Posterior.under_priors`."""
    if not isinstance(priors, Mapping) or not priors:
        raise ArgumentError(
            "Give sets of priors by name: "
            "under_priors({'sceptical': {'drying': 'normal(0, 0.1)'}})."
        )
    if AS_FITTED in priors:
        raise ArgumentError(
            f"`{AS_FITTED}` is the name of the priors of this fit; choose another."
        )
    posteriors = {AS_FITTED: posterior}
    for key, changes in priors.items():
        if not isinstance(changes, Mapping) or not changes:
            raise ArgumentError(
                f"`{key}` must be a mapping of unknowns to priors, not {changes!r}."
            )
        posteriors[str(key)] = Posterior(fitted_with(posterior.fit, dict(changes)))
    evidences, lacking = {}, {}
    for key, one in posteriors.items():
        try:
            evidences[key] = one.evidence()
        except MillwrightError as error:
            lacking[key] = str(error).splitlines()[0]
    return UnderPriors(
        posteriors=posteriors,
        priors={str(key): dict(changes) for key, changes in priors.items()},
        evidences=evidences,
        without_evidence=lacking,
    )
