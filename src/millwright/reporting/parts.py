"""What each part of a page says, taken from posteriors as plain values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pandas as pd
from matplotlib.figure import Figure

from millwright import plots
from millwright.comparison.compare import compared
from millwright.comparison.estimates import compare_estimates
from millwright.draws.decision import Decision
from millwright.draws.expressions import chosen_numbers
from millwright.draws.intervals import kind_words
from millwright.draws.predictive import PredictiveCheck
from millwright.draws.table import make_table
from millwright.errors import ArgumentError, MillwrightError
from millwright.modelling.binding import Binding
from millwright.modelling.labelled import twin
from millwright.modelling.tables import Column
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.reporting.pictures import Picture, picture
from millwright.wording import for_page

__all__ = [
    "comparison",
    "data_table",
    "decisions",
    "figures",
    "group_figures",
    "prior_parts",
]

_MOST_PANELS = 12
_MOST_TRACES = 6
_MOST_ROWS = 60
_MOST_GROUPS = 4


def data_table(binding: Binding) -> str:
    """Return the columns in use as an HTML table: what they hold, and their range or labels.

    Empty where there are none.
    """
    used = set(binding.program.column_axes) | {p.name for p in binding.program.outcomes}
    outcomes = {part.name for part in binding.program.outcomes}
    rows = []
    for name, column in binding.tables.columns.items():
        if name in used:
            rows.append((name, "outcome" if name in outcomes else "predictor", *_column(column)))
    if not rows:
        return ""
    headings = ["column", "used as", "rows", "values"]
    return str(pd.DataFrame(rows, columns=headings).to_html(index=False, border=0))


def _column(column: Column) -> tuple[int, str]:
    values = column.values
    if not column.numeric:
        found, counts = np.unique(values.astype(str), return_counts=True)
        shown = ", ".join(f"{v} ({n})" for v, n in list(zip(found, counts, strict=True))[:8])
        more = f" and {len(found) - 8} labels more" if len(found) > 8 else ""
        return len(values), shown + more
    flat = np.asarray(values, dtype=float)
    words = f"{np.nanmin(flat):.4g} to {np.nanmax(flat):.4g}, mean {np.nanmean(flat):.4g}"
    gaps = int(np.isnan(flat).sum())
    return len(np.atleast_1d(flat)), words + (f", {gaps} missing" if gaps else "")


def figures(
    posterior: Posterior, names: Sequence[str] | None, check: PredictiveCheck | None
) -> dict[str, Picture]:
    """Return the figures of a fit that every page has, by where they stand."""
    single = names or _few(posterior)
    found = {
        "traces": picture(
            plots.trace(posterior, single[:_MOST_TRACES]), posterior.verdict.headline
        ),
        "densities": picture(
            plots.posterior_densities(posterior, single), _in_numbers(posterior, single)
        ),
        "prior_posterior": _unless_refused(lambda: plots.prior_posterior(posterior, single)),
    }
    if posterior.draws.shape[0] > 1:
        found["rank_counts"] = picture(plots.rank_counts(posterior, single[:_MOST_TRACES]))
    if check is not None:
        found["check"] = picture(plots.predictive_check(check), str(check))
    return {name: one for name, one in found.items() if one is not None}


def _few(posterior: Posterior) -> list[str]:
    """Return the first quantities that fit into a figure, those with few labels first."""
    chosen: list[str] = []
    axes = posterior.draws.binding.axes
    for name in sorted(posterior.draws.names(), key=lambda n: bool(axes[n])):
        cells = [name + label for _, label in posterior.draws.shown_cells(name)]
        if len(chosen) + len(cells) <= _MOST_PANELS:
            chosen += cells
    return chosen or list(posterior.draws.single())[:_MOST_PANELS]


def group_figures(posterior: Posterior, names: Sequence[str] | None) -> list[Picture]:
    """Return intervals of the quantities with labels that the other figures leave out.

    Those with two sets of labels are shown for one label of the second at a time, whose scale
    may differ; quantities of more than 60 labels, and all beyond four figures, are left to the
    table.
    """
    shown = set(names or _few(posterior))
    axes = posterior.draws.binding.axes
    found: list[Picture] = []
    for name in posterior.draws.names():
        cells = [name + label for _, label in posterior.draws.shown_cells(name)]
        square = len(axes[name]) == 2 and axes[name][1] == twin(axes[name][0])
        if shown.issuperset(cells) or len(axes[name]) not in (1, 2) or square:
            continue
        apart = 1 if len(axes[name]) == 1 else len(posterior.draws.labels(axes[name][1]))
        for first in range(apart):
            room = len(found) < _MOST_GROUPS
            if room and 1 < len(cells[first::apart]) <= _MOST_ROWS:
                chosen = cells[first::apart]
                told = _in_numbers(posterior, chosen)
                found.append(picture(plots.intervals(posterior, chosen), told))
    return found


def _in_numbers(posterior: Posterior, names: Sequence[str]) -> str:
    """Return the median and 95 % interval of every quantity, for who cannot see the picture."""
    with np.errstate(invalid="ignore", over="ignore"):
        table = make_table(chosen_numbers(posterior.draws, names), measures=posterior.measures)
    columns = table.names, table.shown["median"], table.shown[kind_words("central", 0.95)]
    told = [f"{name} {median} ({ends})" for name, median, ends in zip(*columns, strict=True)]
    return "Median and 95 % interval: " + "; ".join(told) + "."


def _unless_refused(make: Any) -> Picture | None:
    """Return a picture, or None where the model has nothing to draw it from."""
    try:
        figure: Figure = make()
    except MillwrightError:
        return None
    return picture(figure)


def prior_parts(posterior: Posterior) -> tuple[str, list[Picture]]:
    """Return what the prior imagines in words, and its pictures; empty for improper priors."""
    model = Model._of(posterior.draws.binding.specification)
    try:
        data, rows = _inputs(posterior)
        fake = model.simulate(data, seed=posterior.record.seed, rows=rows)
    except MillwrightError:
        return "", []
    names = [name for name in _few(posterior) if name.split("[")[0] in fake.draws.values]
    found = [_unless_refused(lambda: plots.prior_densities(fake, names[:_MOST_PANELS]))]
    if any(p.event != "label" for p in posterior.draws.binding.program.outcomes):
        found.append(_unless_refused(lambda: plots.prior_data(fake)))
    return str(fake), [one for one in found if one is not None]


def _inputs(posterior: Posterior) -> tuple[Any, int | None]:
    """Return the fitted data as a model reads them."""
    tables = posterior.draws.binding.tables
    if list(tables.sizes) != ["row"] or tables.matrix_labels:
        raise ArgumentError("Only data of one plain table are simulated for a page.")
    columns = {
        name: column.values for name, column in tables.columns.items() if len(column.axes) == 1
    }
    return columns, None


def comparison(posteriors: Mapping[str, Posterior]) -> tuple[str, list[Picture]]:
    """Return the comparison of several fits as text, and their common quantities drawn."""
    texts, found = [], []
    try:
        texts.append(str(compared(posteriors, progress=False)))
    except MillwrightError as error:
        texts.append(f"Leave-one-out was not possible here: {error.told(for_page)}")
    try:
        across = compare_estimates(None, level=0.95, kind="central", **posteriors)
    except MillwrightError:
        return "\n".join(texts), []
    texts += list(across.changes)
    if len(across.draws) <= _MOST_PANELS:
        found.append(picture(plots.compare_estimates(across)))
    return "\n".join(texts), found


def decisions(made: Sequence[Decision]) -> list[tuple[str, Picture | None]]:
    """Return each decision in words, and as a picture."""
    return [(str(one), _unless_refused(lambda one=one: plots.decision(one))) for one in made]
