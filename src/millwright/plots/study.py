"""The figures of a study, by the kind of its findings."""

from __future__ import annotations

import importlib
from collections.abc import Callable

from matplotlib.figure import Figure

from millwright.errors import ArgumentError, nearest
from millwright.plots.panels import Size
from millwright.studies.findings import Findings

__all__ = ["study", "study_figures"]

Draw = Callable[[Size | None, bool], Figure]

_FIGURES = {
    "groups": "millwright.plots.study_groups",
    "proportions": "millwright.plots.study_proportions",
    "correlation": "millwright.plots.study_correlation",
    "regression": "millwright.plots.study_regression",
    "meta_analysis": "millwright.plots.study_meta",
    "variable_selection": "millwright.plots.study_selection",
    "sparse_selection": "millwright.plots.study_sparse",
    "vector_autoregression": "millwright.plots.study_autoregression",
    "series": "millwright.plots.study_series",
    "expectations_model": "millwright.plots.study_expectations",
    "curve": "millwright.plots.study_curve",
    "smooth": "millwright.plots.study_smooth",
}
"""The module whose `figures` draws a study: loaded when it is asked for, as studies are."""


def study(
    findings: Findings,
    figure: str | None = None,
    *,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw the figure of a study.

    Parameters
    ----------
    findings
        Result of `study.fit(...)`.
    figure
        Which one, by default the first. Of groups: `groups` (all data with fitted curves, and what
        is asked), `pairs` (posterior of its numbers, pair by pair), `evidence` (over the width of
        the prior). Of proportions: `shares`. Of correlations: `scatter`, `matrix` of several
        pairs, `evidence`, `path` (as rows came in). Of regressions: `coefficients`, `effects` (on
        the outcome's scale), `groups` (label by label), `residuals`. Of meta-analyses: `forest`,
        `priors` (and posteriors), `models`, `evidence` (over the width of the prior), `path`, and
        `covariates` and `funnel` where they were asked. Of variable selections: `inclusion`,
        `coefficients`, `models`, `sizes`. Of vector autoregressions: `coefficients` in time,
        `responses`, `forecast`, `shares`. Of one series: `parts`, `forecast`. Of equations with
        expectations: `responses`, `unknowns` (prior and posterior), `forecast`, `shares`. Of
        curves: `curve` (with residuals), `unknowns` (prior and posterior), `correlations`. Of
        shapes: `curve` (with the probability that it rises), `slope`, `prior` (functions before
        any reading), `unknowns`.
    size
        Width and height in inches.
    text
        Whether to write title and caption.

    Returns
    -------
    The figure.

    Raises
    ------
    ArgumentError
        For what is not findings of a study, or a figure that it does not have.
    """
    known = study_figures(findings)
    name = next(iter(known)) if figure is None else figure
    if name not in known:
        raise ArgumentError(
            f"This study has no figure {name!r}.{nearest(str(name), known)} It has: "
            f"{', '.join(known)}."
        )
    return known[name](size, text)


def study_figures(findings: Findings) -> dict[str, Draw]:
    """Return what draws each figure of a study, the main one first.

    Raises
    ------
    ArgumentError
        For what is not findings of a study.
    """
    if not isinstance(findings, Findings):
        raise ArgumentError(f"Give the result of study.fit(), not {type(findings).__name__}.")
    found: dict[str, Draw] = importlib.import_module(_FIGURES[findings.study.name]).figures(
        findings
    )
    return found
