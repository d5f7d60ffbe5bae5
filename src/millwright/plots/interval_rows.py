"""Credible intervals in rows: of quantities, of groups beside what was observed, across fits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.checks import check_mapping
from millwright.comparison.estimates import AcrossFits
from millwright.draws.expressions import single_numbers
from millwright.draws.intervals import IntervalKind, kind_words
from millwright.errors import ArgumentError
from millwright.plots.bars import bars, label_rows
from millwright.plots.choose import check_posterior, check_reference, chosen
from millwright.plots.data_sets import intervals_over_data_sets
from millwright.plots.panels import Size, single_panel
from millwright.plots.style import (
    CHAINS,
    GREY,
    INK,
    finish,
    new_figure,
    styled,
)
from millwright.posterior.posterior import Posterior
from millwright.posterior.posteriors import Posteriors

__all__ = ["compare_estimates", "intervals", "shrinkage"]

_MOST_ROWS = 60
_MOST_DEFINITIONS = 12


def intervals(
    posterior: Posterior | Posteriors,
    names: str | Sequence[str] | None = None,
    *,
    level: float = 0.95,
    kind: IntervalKind = "central",
    reference: Mapping[str, float] | None = None,
    page: int | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw a credible interval for each quantity; every definition has its own axis.

    Parameters
    ----------
    posterior
        The fit to show; or many, of `Model.fit_each`: then one row a data set.
    names
        Quantities or expressions to show; at most 60 single numbers in 12 definitions a page.
        Of many data sets one quantity, such as `slope` or `effect[Upper]`.
    level, kind
        Level and kind of the thin bar; the thick bar is the 50 % interval of the same kind.
    reference
        Values to mark, by the name of a row (of many data sets by the name of the data set): a
        known truth, or another method's estimate.
    page
        Which page, from 1, where there are more.
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
        For what is not a posterior, a page that is not there, or more quantities than fit into one
        figure.
    UnknownLabelError
        For a quantity that is not there.
    """
    if isinstance(posterior, Posteriors):
        return intervals_over_data_sets(posterior, names, level, kind, reference, page, size, text)
    shown = chosen(posterior, names, _MOST_ROWS, page)
    marked = check_reference(reference, shown.draws)
    groups: dict[str, dict[str, np.ndarray]] = {}
    for name, value in shown.draws.items():
        groups.setdefault(name.split("[")[0], {})[name] = value.reshape(-1)
    if len(groups) > _MOST_DEFINITIONS:
        raise ArgumentError("At most 12 definitions fit into one figure; choose some by name.")
    heights = [len(group) + 1.1 for group in groups.values()]
    with styled():
        height = min(8.0, 1.4 + 0.36 * sum(heights) + 0.1 * len(groups))
        figure = new_figure(size, (12.8, height))
        panels = figure.subplots(len(groups), 1, squeeze=False, height_ratios=heights)[:, 0]
        for axes, group in zip(panels, groups.values(), strict=True):
            for row, (name, value) in enumerate(group.items()):
                bars(axes, row, value, level, kind)
                if name in marked:
                    axes.plot(marked[name], row, "D", color=INK, mec="white", ms=8, zorder=5)
            with_unit = posterior.draws.binding.specification.with_unit
            label_rows(axes, [with_unit(name) for name in group])
        return finish(
            figure,
            f"Posterior: {kind_words(kind, level)}s{shown.page}",
            f"Dot: median. Thick bar: 50 % interval. Thin bar: {kind_words(kind, level)}. Each "
            "definition has its own scale; a dotted line marks zero where it is in view."
            + " Diamond: reference value."
            * bool(marked),
            text,
            about=posterior,
        )


def shrinkage(
    posterior: Posterior,
    quantity: str,
    observed: Mapping[str, float],
    *,
    level: float = 0.95,
    kind: IntervalKind = "central",
    axes: Axes | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw estimates of groups beside what was observed of each, lowest observed value on top.

    Parameters
    ----------
    posterior
        The fit to show.
    quantity
        A quantity with labels, or an expression of the same scale as the observed values, such
        as `expit(base + stone_effect)`.
    observed
        What each group shows by itself, by label: `data.groupby("stone")["load"].mean()`.
    level, kind
        Level and kind of the thin bar; the thick bar is the 50 % interval of the same kind.
    axes
        Axes to draw into, without title and caption.
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
        If labels and observed values do not fit, or there are more than 60 groups.
    """
    numbers = single_numbers(check_posterior(posterior).draws, quantity)
    labels = {name: name.rsplit("[", 1)[-1].rstrip("]") for name in numbers}
    given = check_mapping("observed", observed)
    try:
        seen = {str(label): float(value) for label, value in given.items()}
    except (TypeError, ValueError) as error:
        raise ArgumentError(f"`observed` needs a number for each label, not {given}.") from error
    lacking = [label for label in labels.values() if label not in seen]
    if lacking or len(numbers) < 2:
        raise ArgumentError(
            f"`observed` needs a value for each label of `{quantity}`; "
            f"{', '.join(lacking[:6]) or 'it has no labels'} lacking."
        )
    if len(numbers) > _MOST_ROWS:
        raise ArgumentError(f"{len(numbers)} groups do not fit; at most {_MOST_ROWS} do.")
    ordered = sorted(numbers, key=lambda name: seen[labels[name]])
    with styled():
        height = min(8.0, 2.0 + 0.34 * len(numbers))
        figure, panel = single_panel(size or (12.8, height), axes)
        for row, name in enumerate(ordered):
            value = numbers[name].reshape(-1)
            at = seen[labels[name]]
            panel.plot([at, np.median(value)], [row, row], color=GREY, lw=1, ls=":", zorder=1)
            bars(panel, row, value, level, kind)
            panel.plot(at, row, "D", color=INK, ms=5, zorder=5)
        everyone = np.mean([np.median(numbers[name]) for name in ordered])
        counts = _rows_with(posterior, quantity, list(labels.values()))
        label_rows(panel, [labels[name] + counts.get(labels[name], "") for name in ordered])
        panel.axvline(everyone, color=GREY, ls="--", lw=1.2, zorder=1)
        panel.set_xlabel(posterior.draws.binding.specification.with_unit(quantity))
        return finish(
            figure,
            f"Groups: {quantity}, observed beside estimated",
            f"Diamond: observed alone. Dot and bars: estimate with 50 % and "
            f"{kind_words(kind, level)}. "
            "Estimates lean from the observed value towards what the model expects of such a "
            "group (without predictors the middle of all, dashed) where a group has few or noisy "
            "data; that is meant, and predicts better.",
            text and axes is None,
            about=posterior,
        )


def _rows_with(posterior: Posterior, quantity: str, labels: Sequence[str]) -> dict[str, str]:
    """Say how many rows of the outcome have each label, where it is plain which column's it is."""
    binding = posterior.draws.binding
    known = binding.axes.get(quantity, tuple(binding.labels))
    rows = {axes[:1] for _, axes in binding.program.outcome_axes}
    columns = [
        name
        for name in known
        if name in binding.tables.columns
        and {binding.tables.columns[name].axes} == rows
        and set(map(str, binding.labels[name])) == set(labels)
    ]
    if len(columns) != 1:
        return {}
    found = binding.labels[columns[0]]
    codes = binding.tables.codes(columns[0], found, columns[0])
    counts = np.bincount(codes, minlength=len(found))
    return {
        str(label): f" ({n} row{'s' if n != 1 else ''})"
        for label, n in zip(found, counts, strict=True)
    }


def compare_estimates(
    found: AcrossFits,
    *,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw the same quantities in several fits, a panel a quantity.

    Parameters
    ----------
    found
        Result of `mw.compare_estimates(...)`; at most 12 quantities.
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
        For what cannot be shown: another kind of result, names that are not there, or too many.
    """
    if not isinstance(found, AcrossFits):
        raise ArgumentError(
            f"Give the result of mw.compare_estimates(), not {type(found).__name__}."
        )
    if len(found.draws) > _MOST_DEFINITIONS:
        raise ArgumentError(
            f"{len(found.draws)} quantities do not fit into one figure; at most "
            f"{_MOST_DEFINITIONS} do. Choose some by name."
        )
    heights = [len(fits) + 1.2 for fits in found.draws.values()]
    with styled():
        figure = new_figure(size, (12.8, min(8.0, 1.6 + 0.38 * sum(heights))))
        panels = figure.subplots(len(heights), 1, squeeze=False, height_ratios=heights)[:, 0]
        order = list(found.good)
        for axes, (name, fits) in zip(panels, found.draws.items(), strict=True):
            for row, (fit, value) in enumerate(fits.items()):
                colour = CHAINS[order.index(fit) % len(CHAINS)][0]
                bars(axes, row, value.reshape(-1), found.level, found.kind, colour)
            label_rows(axes, [fit if found.good[fit] else f"{fit} (see verdict)" for fit in fits])
            axes.set_title(name)
        changes = " ".join(found.changes).replace("`", "")
        return finish(
            figure,
            f"The same quantities in {len(order)} fits",
            f"Dot: median. Thick bar: 50 % interval. Thin bar: "
            f"{kind_words(found.kind, found.level)}. Within a panel all fits share the scale; a "
            f"dotted line marks zero. {changes}",
            text,
        )
