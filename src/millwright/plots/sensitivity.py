"""What the priors decide: how far estimates move with the power of each, and under others."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.distributions import on_numpy
from millwright.draws.intervals import kind_words
from millwright.draws.known_priors import known_prior
from millwright.errors import ArgumentError
from millwright.plots.bars import bars, label_rows
from millwright.plots.choose import MOST_PANELS, chosen_names
from millwright.plots.curves import density_curves, name_curves
from millwright.plots.panels import Size, panel_grid, single_panel
from millwright.plots.style import BLUE, CHAINS, GREY, INK, RED, finish, light_grid, styled, tint
from millwright.posterior.sensitivity import LIKELIHOOD, NOTABLE, PriorSensitivity
from millwright.posterior.under_priors import UnderPriors
from millwright.wording import visible

__all__ = ["prior_sensitivity", "under_priors"]


def prior_sensitivity(
    found: PriorSensitivity,
    names: Sequence[str] | None = None,
    *,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw how far the mean of each quantity moves for each doubling of a prior's power.

    Parameters
    ----------
    found
        Result of `posterior.prior_sensitivity()`.
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
    if not isinstance(found, PriorSensitivity):
        raise ArgumentError(
            f"Give the result of posterior.prior_sensitivity(), not {type(found).__name__}."
        )
    shown = chosen_names(found.changes, names, MOST_PANELS)
    with styled():
        figure, panels = panel_grid(len(shown), size)
        for axes, name in zip(panels, shown, strict=True):
            changes = found.changes[name]
            for row, (source, change) in enumerate(changes.items()):
                notable = change.distance >= NOTABLE
                colour = GREY if not notable else BLUE if source == LIKELIHOOD else RED
                axes.plot([0, change.mean], [row, row], color=colour, lw=4, solid_capstyle="butt")
                axes.plot(change.mean, row, "o", color=colour, ms=7)
            axes.axvline(0, color=INK, lw=1)
            label_rows(
                axes,
                [visible(s) if s == LIKELIHOOD else f"prior of {visible(s)}" for s in changes],
            )
            reach = max(0.35, 1.15 * max(abs(change.mean) for change in changes.values()))
            axes.set_xlim(-reach, reach)
            axes.set_xlabel("posterior sds")
            axes.set_title(f"{name}: {found.words[name]}", fontsize=10.5)
        return finish(
            figure,
            "How far each estimate moves as a prior, or the likelihood, gets more weight",
            "Dot: change of the posterior mean, in its standard deviations, for each doubling of "
            "the weight (read off weights of 0.8 and 1.25). Red: a prior that "
            "moves the whole distribution notably; blue: the likelihood does; grey: hardly. "
            "Priors that point the other way than the likelihood disagree with the data."
            + "".join(f" Not known for {name}." for name in found.unknown),
            text,
        )


def under_priors(
    found: UnderPriors,
    names: Sequence[str] | None = None,
    *,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw the posterior of each quantity under each set of priors, over its prior.

    Parameters
    ----------
    found
        Result of `posterior.under_priors(...)`.
    names
        Quantities to show; by default all unknown numbers, at most 12.
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
    if not isinstance(found, UnderPriors):
        raise ArgumentError(
            f"Give the result of posterior.under_priors(), not {type(found).__name__}."
        )
    singles = {key: one.draws.single() for key, one in found.posteriors.items()}
    shown = chosen_names(next(iter(singles.values())), names, MOST_PANELS)
    if len(shown) == 1:
        return _intervals(found, shown[0], size, text)
    with styled():
        figure, panels = panel_grid(len(shown), size)
        for axes, name in zip(panels, shown, strict=True):
            values = {k: s[name].reshape(-1) for k, s in singles.items() if name in s}
            grid, heights = density_curves(axes, values, list(singles), 1.8)
            first = next(iter(singles))
            if first in heights:
                axes.fill_between(grid, heights[first], color=tint(BLUE, 0.3), lw=0)
            _draw_priors(axes, found, name, grid)
            axes.set_title(name)
        name_curves(panels[0], list(singles), 1.8)
        figure.legend(loc="upper right", ncols=min(4, len(singles)), fontsize=10)
        words = f"Dotted: the priors, on the same scale. {_words(found)}"
        return finish(figure, "The posterior under other priors", words, text)


def _draw_priors(axes: Axes, found: UnderPriors, name: str, grid: np.ndarray) -> None:
    """Draw the prior of each set where it rests on numbers alone, in the colour of its curve."""
    top = axes.get_ylim()[1]
    for number, posterior in enumerate(found.posteriors.values()):
        prior = known_prior(posterior.draws.binding.specification, name)
        if prior is not None:
            with np.errstate(all="ignore"):
                log = prior.family.log_density(on_numpy, grid, prior.values)
            colour, _ = CHAINS[number % len(CHAINS)]
            axes.plot(grid, np.exp(np.asarray(log)), color=colour, ls=":", lw=1.6)
    # A prior much higher than the posteriors would squash them.
    axes.set_ylim(0, top)


def _intervals(found: UnderPriors, name: str, size: Size | None, text: bool) -> Figure:
    with styled():
        count = len(found.posteriors)
        figure, axes = single_panel(size or (12.8, min(8.0, 2.2 + 0.5 * count)), None)
        rows: list[str] = []
        for key, posterior in found.posteriors.items():
            single = posterior.draws.single()
            if name in single:
                bars(axes, len(rows), single[name].reshape(-1), 0.95, "central")
                rows.append(visible(key))
        label_rows(axes, rows)
        light_grid(axes, "x")
        axes.set_xlabel(name)
        kind = kind_words("central", 0.95)
        return finish(
            figure,
            f"{name} under other priors",
            f"Dot: median. Thick bar: 50 % interval. Thin bar: {kind}. {_words(found)}",
            text,
        )


def _words(found: UnderPriors) -> str:
    changed = [
        f"{key}: " + ", ".join(f"{name} {prior}" for name, prior in changes.items()) + "."
        for key, changes in found.priors.items()
    ]
    bad = [key for key, one in found.posteriors.items() if not one.verdict.good]
    return " ".join(changed) + (f" Verdict not good: {', '.join(bad)}." if bad else "")
