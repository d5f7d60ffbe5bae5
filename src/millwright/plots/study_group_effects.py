"""The group effects of a regression, label by label."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.intervals import kind_words
from millwright.plots.bars import bars, label_rows
from millwright.plots.panels import Size
from millwright.plots.style import finish, new_figure, styled, wrapped
from millwright.studies.regression_draws import RegressionDraws
from millwright.studies.regression_findings import RegressionFindings
from millwright.studies.regression_model import GroupTerms
from millwright.wording import visible

__all__ = ["groups_figure"]

_MOST_LABELS = 30
_MOST_PANELS = 6
_ACROSS = 3


def groups_figure(found: RegressionFindings, size: Size | None, text: bool) -> Figure:
    """Draw the effects of each set of groups and term, the largest first."""
    parts = next(iter(found.study.parts.values()))
    every = [(group, term) for group in parts.groups for term in group.terms]
    shown = every[:_MOST_PANELS]
    made = RegressionDraws(found.posterior, parts)
    effects = [
        {label: one.reshape(-1) for label, one in made.group_effects(group, term).items()}
        for group, term in shown
    ]
    across = min(_ACROSS, len(shown))
    down = -(-len(shown) // across)
    most = max(min(_MOST_LABELS, len(one)) for one in effects)
    with styled():
        figure = new_figure(size, (12.8, min(16.0, 2.0 + down * (1.4 + 0.26 * most))))
        panels = list(figure.subplots(down, across, squeeze=False).ravel())
        for axes, (group, term), numbers in zip(panels, shown, effects, strict=False):
            _panel(axes, group, term, numbers, found)
        for axes in panels[len(shown) :]:
            axes.set_visible(False)
        cut = any(len(one) > _MOST_LABELS for one in effects)
        return finish(
            figure,
            f"{found.question} Group effects",
            f"What each label adds, on the link's scale: dot: median, thin bar: "
            f"{kind_words(found.kind, found.level)}, thick bar: 50 %. A label with few rows is "
            "pulled towards 0."
            + f" The {_MOST_LABELS} labels furthest from 0 are shown." * cut
            + f" The first {_MOST_PANELS} of {len(every)} sets." * (len(every) > _MOST_PANELS),
            text,
            about=found,
        )


def _panel(
    axes: Axes,
    group: GroupTerms,
    term: str,
    numbers: dict[str, np.ndarray],
    found: RegressionFindings,
) -> None:
    middles = {label: float(np.median(values)) for label, values in numbers.items()}
    labels = sorted(middles, key=lambda label: -abs(middles[label]))[:_MOST_LABELS]
    labels.sort(key=lambda label: -middles[label])
    for row, label in enumerate(labels):
        bars(axes, row, numbers[label], found.level, found.kind)
    label_rows(axes, [wrapped(visible(label), 24) for label in labels])
    what = "intercept" if term == "1" else f"slope of {term}, for one sd"
    axes.set_title(wrapped(visible(f"{group.name}: {what}"), 40), loc="left", fontsize=11)
