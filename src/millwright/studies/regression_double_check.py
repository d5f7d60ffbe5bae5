"""The posterior of a regression beside what other methods say."""

from __future__ import annotations

import numpy as np
import pandas as pd

from millwright.diagnostics.convergence import mean_error
from millwright.errors import MillwrightError
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior

__all__ = ["double_check"]


def double_check(
    model: Model, data: pd.DataFrame, posterior: Posterior, missing: str, draws: int, seed: int
) -> pd.DataFrame:
    """See `RegressionFindings.double_check`."""
    single = posterior.draws.single(list(posterior.draws.values))
    walk = model.fit(
        data,
        method="random_walk",
        draws=draws,
        warmup=draws,
        seed=seed,
        progress=False,
        missing=missing,
    )
    walked = walk.draws.single(list(walk.draws.values))
    mode = model.mode(data).values if missing == "refuse" else None
    try:
        classic = model.maximum_likelihood(data).values if mode is not None else None
    except MillwrightError:
        # A hierarchy, whose likelihood has no useful maximum: said as not a number.
        classic = None
    rows = {}
    for key, values in single.items():
        other = walked[key]
        error = float(np.hypot(mean_error(values[..., None])[0], mean_error(other[..., None])[0]))
        rows[key] = (
            values.mean(),
            values.std(ddof=1),
            *_estimate(mode, key),
            *_estimate(classic, key),
            other.mean(),
            other.std(ddof=1),
            (other.mean() - values.mean()) / error,
        )
    columns = ["posterior mean", "posterior sd", "mode", "mode, error"]
    columns += ["maximum likelihood", "maximum likelihood, error"]
    columns += ["random walk, mean", "random walk, sd", "apart, in Monte Carlo errors"]
    return pd.DataFrame(rows, index=columns).T.rename_axis("unknown")


def _estimate(table: pd.DataFrame | None, key: str) -> tuple[float, float]:
    if table is None or key not in table.index:
        return float("nan"), float("nan")
    return float(table["estimate"][key]), float(table["standard error"][key])
