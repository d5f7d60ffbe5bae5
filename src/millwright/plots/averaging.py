"""Models averaged, and models weighed."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.figure import Figure

from millwright.comparison.averaging import Averaged
from millwright.comparison.bayes_factors import BayesFactors
from millwright.draws.numbers import share_text
from millwright.errors import ArgumentError
from millwright.plots.choose import MOST_PANELS, chosen_names
from millwright.plots.curves import density_curves, name_curves
from millwright.plots.panels import Size, panel_grid, single_panel
from millwright.plots.style import BLUE, GREY, INK, finish, light_grid, styled, tint
from millwright.wording import visible

__all__ = ["average", "model_probabilities"]


def average(
    found: Averaged,
    names: Sequence[str] | None = None,
    *,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw the density of each shared quantity in each model, and averaged.

    Parameters
    ----------
    found
        Result of `mw.average(...)`.
    names
        Quantities to show; by default all, at most 12.
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
        For another kind of result, names that are not there, or more than 12.
    """
    if not isinstance(found, Averaged):
        raise ArgumentError(f"Give the result of mw.average(), not {type(found).__name__}.")
    shown = chosen_names(found.draws, names, MOST_PANELS)
    singles = {name: one.draws.single() for name, one in found.posteriors.items()}
    with styled():
        figure, panels = panel_grid(len(shown), size)
        for axes, name in zip(panels, shown, strict=True):
            values = {model: s[name].reshape(-1) for model, s in singles.items() if name in s}
            grid, heights = density_curves(axes, values, list(found.posteriors), 1.4)
            whole = sum(found.weights[model] * height for model, height in heights.items())
            axes.fill_between(grid, whole, color=tint(GREY, 0.35), lw=0)
            axes.plot(grid, whole, color=INK, lw=2.2)
            lacking = [model for model in found.posteriors if model not in values]
            at_zero = sum(found.weights[model] for model in lacking)
            axes.set_title(
                name + (f" (0 with probability {share_text(at_zero)})" if lacking else "")
            )
        labels = [f"{model} ({share_text(weight)})" for model, weight in found.weights.items()]
        name_curves(panels[0], labels, 1.4)
        panels[0].plot([], [], color=INK, lw=2.2, label="averaged")
        figure.legend(loc="upper right", ncols=min(4, len(found.weights) + 1), fontsize=10)
        return finish(
            figure,
            "Estimates averaged over models",
            f"Thin: each model's posterior, with its weight in the legend. Thick: averaged. "
            f"Weights: {found.way}." + " ".join(["", *found.reasons]),
            text,
        )


def model_probabilities(
    found: BayesFactors, *, size: Size | None = None, text: bool = True
) -> Figure:
    """Draw prior and posterior probability of each model.

    Parameters
    ----------
    found
        Result of `mw.bayes_factors(...)`.
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
        For another kind of result.
    """
    if not isinstance(found, BayesFactors):
        raise ArgumentError(f"Give the result of mw.bayes_factors(), not {type(found).__name__}.")
    names = list(found.evidences)
    posterior = found.posterior
    with styled():
        figure, axes = single_panel(size or (12.8, min(8.0, 2.2 + 0.7 * len(names))), None)
        rows = np.arange(len(names))
        axes.barh(rows - 0.19, [posterior[n] for n in names], 0.36, color=BLUE, label="posterior")
        axes.barh(
            rows + 0.19,
            [found.prior[n] for n in names],
            0.36,
            color=tint(GREY, 0.5),
            label="prior",
        )
        for row, name in enumerate(names):
            share = posterior[name]
            axes.text(share + 0.008, row - 0.19, share_text(share), va="center", fontsize=10.5)
        axes.set_yticks(rows, [visible(name) for name in names])
        axes.set_ylim(len(names) - 0.5, -0.5)
        axes.set_xlim(0, 1.07)
        axes.set_xticks(np.linspace(0, 1, 6))
        axes.set_xlabel("probability of the model, among these")
        axes.tick_params(axis="y", length=0)
        light_grid(axes, "x")
        figure.legend(loc="upper right", ncols=2, fontsize=10)
        doubts = [n for n, one in found.evidences.items() if not one.trusted]
        return finish(
            figure,
            "How probable each model is, before and after the data",
            found.sentence.replace("`", "")
            + (f" NOT TO BE TRUSTED: the evidence of {', '.join(doubts)}." if doubts else ""),
            text,
        )
