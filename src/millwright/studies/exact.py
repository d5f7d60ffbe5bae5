"""Fits of studies that need no sampler."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pandas as pd

from millwright.models.exact import Drawn, exact_posterior
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior

__all__ = ["exact_fit"]

_MEANT = ("seed", "chains", "draws")
"""Settings of a fit that mean something for exact draws; those of samplers are passed over."""


def exact_fit(
    model: Model,
    data: pd.DataFrame,
    drawn: Drawn,
    how: str,
    settings: Mapping[str, Any],
    save: Path | None,
) -> Posterior:
    """Return independent draws of the posterior of a model, stored where a folder is given.

    Parameters
    ----------
    how
        How they are drawn, in words.
    settings
        Settings of a fit.
    """
    meant = {name: settings[name] for name in _MEANT if settings.get(name) is not None}
    posterior = exact_posterior(model.bind(data), drawn, method=how, **meant)
    if save is not None:
        posterior.save(save, replace=True)
    return posterior
