"""The figures of a study, by the kind of its findings."""

from __future__ import annotations

from collections.abc import Callable

import pandas as pd
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from millwright.errors import ArgumentError, nearest
from millwright.plots.panels import Size
from millwright.plots.scatter_matrix import scatter_matrix
from millwright.plots.study_correlation import matrix_figure, scatter_figure
from millwright.plots.study_groups import evidence_figure, factor_lines, groups_figure
from millwright.plots.study_proportions import proportions_figure
from millwright.plots.study_regression import coefficients_figure, effects_figure
from millwright.plots.style import finish, new_figure, styled
from millwright.studies.correlation_findings import CorrelationFindings
from millwright.studies.findings import Findings
from millwright.studies.group_findings import GroupFindings
from millwright.studies.proportion_findings import PairFindings, ProportionFindings
from millwright.studies.regression_findings import RegressionFindings

__all__ = ["study", "study_figures"]

Draw = Callable[[Size | None, bool], Figure]


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
        the outcome's scale).
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
    match findings:
        case GroupFindings():
            return _of_groups(findings)
        case ProportionFindings() | PairFindings():
            return {"shares": lambda size, text: proportions_figure(findings, size, text)}
        case CorrelationFindings():
            return _of_correlation(findings)
        case RegressionFindings():
            return {
                "coefficients": lambda size, text: coefficients_figure(findings, size, text),
                "effects": lambda size, text: effects_figure(findings, size, text),
            }
    raise ArgumentError(f"Give the result of study.fit(), not {type(findings).__name__}.")


def _of_groups(found: GroupFindings) -> dict[str, Draw]:
    figures: dict[str, Draw] = {
        "groups": lambda size, text: groups_figure(found, size, text),
        "pairs": lambda size, text: _pairs(found, size, text),
    }
    if "no effect" in found.study.models:
        figures["evidence"] = lambda size, text: evidence_figure(
            found.effect_factors_by_width(), found, found.question, size, text
        )
    return figures


def _pairs(found: GroupFindings, size: Size | None, text: bool) -> Figure:
    names = [name for name in found.posterior.draws.single() if _shown(name)][:6]
    return scatter_matrix(found.posterior, names, text=text, **({"size": size} if size else {}))


def _shown(name: str) -> bool:
    return name.split("[")[0] in ("location", "scale", "normality")


def _of_correlation(found: CorrelationFindings) -> dict[str, Draw]:
    if len(found.pairs) > 1:
        return {"matrix": lambda size, text: matrix_figure(found, size, text)}
    figures: dict[str, Draw] = {"scatter": lambda size, text: scatter_figure(found, size, text)}
    form = found.study.settings["form"]
    if form != "robust":
        figures["evidence"] = lambda size, text: evidence_figure(
            found.factors_by_width(), found, found.question, size, text
        )
    if form == "normal":
        figures["path"] = lambda size, text: _path(found.path(), found, size, text)
    return figures


def _path(
    table: pd.DataFrame, found: CorrelationFindings, size: Size | None, text: bool
) -> Figure:
    with styled():
        figure = new_figure(*(size or (12.8, 6.0)))
        axes = figure.subplots()
        factor_lines(axes, table)
        axes.xaxis.set_major_locator(MaxNLocator(integer=True))
        axes.set_xlabel("number of rows")
        figure.legend(loc="outside right upper")
        return finish(
            figure,
            f"{found.question} The evidence as rows came in",
            "Above 1 the data so far favour what the line is named after, below 1 no correlation; "
            "dotted: 3 and 10. Whoever stops as soon as a line is passed will pass it more often "
            "than the final number says.",
            text,
            about=found,
        )
