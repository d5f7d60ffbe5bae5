"""The figures of equations with expectations: responses, unknowns, forecast, shares."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from matplotlib.figure import Figure

from millwright.plots.autoregression import forecast, responses
from millwright.plots.panels import Size
from millwright.plots.prior import prior_posterior
from millwright.plots.shares import shares
from millwright.studies.expectations_findings import ExpectationsFindings

__all__ = ["figures"]

_MOST = 5


def responses_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw how the variables answer to each shock."""
    return responses(found.responses(), size=size, text=text)


def unknowns_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw the prior of each unknown against its posterior."""
    return prior_posterior(found.posterior, size=size, text=text)


def forecast_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw the forecast of twelve steps."""
    return forecast(found.forecast(), size=size, text=text)


def shares_figure(found: ExpectationsFindings, size: Size | None, text: bool) -> Figure:
    """Draw shares of forecast variance by the shocks that they come from."""
    return shares(found.shares(), found, size, text)


def figures(found: ExpectationsFindings) -> dict[str, Callable[[Size | None, bool], Figure]]:
    """Return what draws each figure of the study, the main one first."""
    known: dict[str, Callable[[ExpectationsFindings, Size | None, bool], Figure]] = {
        "responses": responses_figure,
        "unknowns": unknowns_figure,
        "forecast": forecast_figure,
        "shares": shares_figure,
    }
    if max(len(found.variables), len(found.study.parts.system.shocks)) > _MOST:
        del known["responses"], known["shares"]
    return {name: partial(draw, found) for name, draw in known.items()}
