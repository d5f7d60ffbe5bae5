"""Visible models of a variable selection: one subset under its g-prior, and the average."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd

from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.studies.reading import named
from millwright.studies.selection_data import Candidates
from millwright.subsets.weights import GPrior

__all__ = ["average_model", "model_columns", "subset_model"]

_DEFINITIONS = (
    *("intercept", "coefficient", "noise", "candidate", "log_noise", "direction", "turned"),
    *("shrinkage", "g"),
)


def model_columns(made: Candidates) -> list[str]:
    """Return what the model's data call the columns: other names than its own."""
    taken = {*_DEFINITIONS, made.outcome}
    return [f"{name} (candidate)" if name in taken else name for name in made.names]


def average_model(made: Candidates) -> tuple[Model, pd.DataFrame]:
    """Return the regression on all candidates that averaged draws are of, with its data.

    Coefficients are 0 in draws of models that lack their candidate; the priors are those of
    single models, and so not to be seen in it.
    """
    columns = model_columns(made)
    values = made.values * made.length + made.middle
    data = pd.DataFrame(dict(zip(columns, values.T, strict=True)))
    names = named({made.outcome: "outcome"}, _DEFINITIONS)
    data[made.outcome] = made.readings
    outcome = names.of[made.outcome]
    model = Model(
        title="Average over subsets of candidates",
        notes="Coefficients are 0 in subsets that lack their candidate; priors are by subset.",
        priors={
            "intercept": "flat()",
            "coefficient": "flat() per candidate",
            "noise": "flat(low=0)",
        },
        likelihood={outcome: "normal(intercept + candidate @ coefficient, noise)"},
        columns={**names.aliases, "candidate": columns},
    )
    return model, data


def subset_model(
    made: Candidates, prior: GPrior, terms: Sequence[str]
) -> tuple[Model, pd.DataFrame]:
    """Return the model of a subset under its g-prior, with its data.

    The columns are turned so that they are uncorrelated and of length 1: slopes that are normal
    with the variance g noise^2 (X'X)^-1 then are independent, each with the sd sqrt(g) noise.
    """
    chosen = [name for term in terms for name in made.columns_of[term]]
    data = pd.DataFrame({made.outcome: made.readings})
    priors: dict[str, Any] = {"intercept": "flat()", "log_noise": "flat()"}
    names = named({made.outcome: "outcome"}, _DEFINITIONS)
    columns: dict[str, Any] = dict(names.aliases)
    middle = "intercept"
    if chosen:
        at = [made.names.index(name) for name in chosen]
        turned = np.linalg.qr(made.values[:, at])[0]
        labels = [f"direction {k}" for k in range(1, len(at) + 1)]
        data[labels] = turned
        columns["direction"] = labels
        middle += " + direction @ turned"
        if prior.known is not None:
            wide = f"{number_text(float(np.sqrt(prior.known)))} * exp(log_noise)"
        else:
            # g / (1 + g), or g / n over 1 more than it, is beta(1, a / 2 - 1) with a = 3.
            priors["shrinkage"] = "beta(alpha=1, beta=0.5)"
            many = f"{made.rows} * " if prior.per_rows else ""
            wide = f"sqrt({many}shrinkage / (1 - shrinkage)) * exp(log_noise)"
        priors["turned"] = f"normal(0, {wide}) per direction"
    model = Model(
        title=f"{made.outcome} by {', '.join(terms) or 'nothing'}, g = {prior.words}",
        priors=priors,
        likelihood={names.of[made.outcome]: f"normal({middle}, exp(log_noise))"},
        derived={"noise": "exp(log_noise)"},
        columns=columns,
    )
    return model, data
