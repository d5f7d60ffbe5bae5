"""Models averaged, and models weighed."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.figure import Figure

from millwright.comparison.averaging import Averaged
from millwright.comparison.bayes_factors import BayesFactors, share_text
from millwright.draws.region import density_on
from millwright.errors import ArgumentError, nearest
from millwright.plots.panels import Size, panel_grid, single_panel
from millwright.plots.style import BLUE, CHAINS, GREY, INK, finish, light_grid, styled, tint
from millwright.wording import visible

__all__ = ["average", "model_probabilities"]

_MOST = 12
_GRID = 300


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
    shown = list(found.draws) if names is None else list(names)
    for name in shown:
        if name not in found.draws:
            raise ArgumentError(f"`{name}` was not averaged.{nearest(name, found.draws)}")
    if len(shown) > _MOST:
        raise ArgumentError(
            f"{len(shown)} quantities do not fit into one figure; choose up to 12."
        )
    singles = {name: one.draws.single() for name, one in found.posteriors.items()}
    with styled():
        figure, panels = panel_grid(len(shown), size)
        for axes, name in zip(panels, shown, strict=True):
            values = {model: s[name].reshape(-1) for model, s in singles.items() if name in s}
            ends = np.array([np.quantile(v, [0.001, 0.999]) for v in values.values()])
            grid = np.linspace(ends[:, 0].min(), ends[:, 1].max(), _GRID)
            whole = np.zeros(_GRID)
            for model, value in values.items():
                number = list(found.posteriors).index(model)
                colour, style = CHAINS[number % len(CHAINS)]
                height = density_on(grid, value)
                whole += found.weights[model] * height
                axes.plot(grid, height, color=colour, ls=style, lw=1.4)
            axes.fill_between(grid, whole, color=tint(GREY, 0.35), lw=0)
            axes.plot(grid, whole, color=INK, lw=2.2)
            lacking = [model for model in found.posteriors if model not in values]
            at_zero = sum(found.weights[model] for model in lacking)
            axes.set_title(
                name + (f" (0 with probability {share_text(at_zero)})" if lacking else "")
            )
            axes.set_yticks([])
            axes.set_ylim(bottom=0)
        for number, (model, weight) in enumerate(found.weights.items()):
            colour, style = CHAINS[number % len(CHAINS)]
            panels[0].plot(
                [], [], color=colour, ls=style, label=f"{visible(model)} ({share_text(weight)})"
            )
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
