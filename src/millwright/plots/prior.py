"""The prior's shape, before a fit and against the posterior."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from millwright.checks import check_texts
from millwright.draws.expressions import chosen_numbers
from millwright.draws.known_priors import KnownPrior, known_prior
from millwright.draws.region import density
from millwright.draws.simulated import Simulated
from millwright.errors import ArgumentError
from millwright.modelling.words import ends_text
from millwright.plots.bands import bands
from millwright.plots.choose import MOST_PANELS, check_posterior, check_reference, chosen
from millwright.plots.panels import Size, panel_grid, panels_for, single_panel
from millwright.plots.style import BLUE, GREY, INK, YELLOW, bare, finish, mark, styled, tint
from millwright.posterior.posterior import Posterior
from millwright.studies.study import Study

__all__ = ["prior_data", "prior_densities", "prior_posterior"]

_FOR_SHAPES = 2000


def prior_posterior(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    leave_out: Sequence[str] = (),
    reference: Mapping[str, float | Sequence[float]] | None = None,
    page: int | None = None,
    axes: Axes | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw the prior and the posterior density of unknown and derived quantities, in own panels.

    Parameters
    ----------
    posterior
        The fit to show.
    names
        Quantities or expressions to show; at most 12 single numbers a page.
    leave_out
        Quantities not to show.
    reference
        Values to mark, by the name of a panel: a known truth, or another method's estimate.
    page
        Which page, from 1, where there are more.
    axes
        Axes to draw a single quantity into, without title and caption.
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
    check_posterior(posterior)
    asked = list(posterior.draws.names()) if names is None else check_texts("names", names)
    leave_out = check_texts("leave_out", leave_out)
    if any(name not in asked for name in leave_out):
        raise ArgumentError(f"`leave_out` lists quantities that are shown: {', '.join(asked)}.")
    shown = chosen(posterior, [name for name in asked if name not in leave_out], MOST_PANELS, page)
    marked = check_reference(reference, shown.draws)
    written = dict.fromkeys(n if n in shown.draws else n.split("[")[0] for n in asked)
    prior = posterior.prior([name for name in written if name not in leave_out])
    with styled():
        figure, panels = panels_for(len(shown.draws), size, axes)
        for panel, (name, value) in zip(panels, shown.draws.items(), strict=True):
            known = known_prior(posterior.draws.binding.specification, name)
            _both(
                panel, shown.title(name), _prior_curve(known, prior[name], 0.99), value.reshape(-1)
            )
            mark(panel, marked.get(name))
        if axes is None:
            handles = [Patch(color=tint(GREY, 0.45)), Line2D([], [], color=BLUE, lw=2)]
            figure.legend(
                handles, ["prior", "posterior"], loc="outside upper right", ncols=2, fontsize=9.5
            )
        return finish(
            figure,
            f"Prior against posterior{shown.page}",
            "Both are drawn to the same height, since a narrow posterior would hide its prior. A "
            "posterior that is much narrower than its prior was learnt from the data; one that "
            "lies on its prior was not; one at the edge of its prior conflicts with it."
            + " A dotted line marks a reference value."
            * bool(marked),
            text and axes is None,
            about=posterior,
        )


def _middle(values: np.ndarray, share: float = 0.95) -> np.ndarray:
    """Return the finite values within a central share."""
    finite = values[np.isfinite(values)]
    low, high = np.quantile(finite, [(1 - share) / 2, (1 + share) / 2])
    return np.asarray(finite[(finite >= low) & (finite <= high)])


def _prior_curve(
    known: KnownPrior | None, values: np.ndarray, share: float
) -> tuple[np.ndarray, np.ndarray]:
    """Return the density of a prior over its central share: exact where it is known."""
    return density(_middle(values, share)) if known is None else known.curve(share)


def _ends(known: KnownPrior | None, values: np.ndarray) -> np.ndarray:
    """Return the ends of a prior's central 95 % range."""
    if known is not None:
        return known.quantiles(0.025, 0.975)
    return np.quantile(values, [0.025, 0.975])


def _both(
    axes: Axes, title: str, prior: tuple[np.ndarray, np.ndarray], posterior: np.ndarray
) -> None:
    grid, height = prior
    axes.fill_between(grid, height / height.max(), color=tint(GREY, 0.45), lw=0)
    grid, height = density(posterior)
    axes.plot(grid, height / height.max(), color=BLUE, lw=2)
    axes.set_title(title)
    axes.set_ylim(0, 1.08)
    bare(axes)


def prior_densities(
    simulated: Simulated | Study,
    names: str | Sequence[str] | None = None,
    *,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw the shape of each prior, before any fit, with its central 95 % range.

    Parameters
    ----------
    simulated
        Result of `model.simulate(data)`; or a ready-made study, of whose main model it is.
    names
        Quantities to show; at most 12 single numbers.
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
    if isinstance(simulated, Study):
        names = simulated.first_priors if names is None else names
        simulated = next(iter(simulated.simulate(draws=_FOR_SHAPES).values()))
    check_simulated(simulated)
    single = chosen_numbers(simulated.draws, names)
    if not 0 < len(single) <= MOST_PANELS:
        raise ArgumentError(
            f"{len(single)} quantities do not fit; choose 1 to {MOST_PANELS} by name."
        )
    with_unit = simulated.draws.binding.specification.with_unit
    with styled():
        figure, panels = panel_grid(len(single), size)
        for axes, (name, value) in zip(panels, single.items(), strict=True):
            flat = value[np.isfinite(value)]
            known = known_prior(simulated.draws.binding.specification, name)
            axes.fill_between(*_prior_curve(known, flat, 0.99), color=tint(GREY, 0.3), lw=0)
            ends = _ends(known, flat)
            axes.plot(ends, [0, 0], color=INK, lw=5, clip_on=False)
            about = "" if known is not None else "about "
            axes.set_title(f"{with_unit(name)}: {about}{ends_text(ends[0], ends[1])}")
            axes.set_ylim(bottom=0)
            bare(axes)
        return finish(
            figure,
            "Priors: which values are possible before seeing the data",
            "Area: density within the central 99 %. Bar, and numbers above the panel: central "
            "95 % range (about: from draws, since the prior rests on other quantities). Ask of "
            "each: is every value in it possible, and is no sensible value missing?",
            text,
        )


def prior_data(
    simulated: Simulated,
    outcome: str | None = None,
    *,
    axes: Axes | None = None,
    size: Size = (12.8, 6.0),
    text: bool = True,
) -> Figure:
    """Draw whole data sets that the prior imagines, as cumulative curves with bands.

    Parameters
    ----------
    simulated
        Result of `model.simulate(data)`.
    outcome
        Which outcome, if there are several; not one of labels.
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
        For what cannot be shown: another kind of result, names that are not there, or too many.
    """
    check_simulated(simulated)
    labels = {p.name for p in simulated.draws.binding.program.outcomes if p.event == "label"}
    numbers = {
        name: values.astype(float)
        for name, values in simulated.outcomes.items()
        if name not in labels
    }
    first: str = next(iter(numbers), "")
    name = first if outcome is None else outcome
    if not isinstance(name, str) or name not in numbers:
        known = f"They are: {', '.join(numbers)}" if numbers else "The model has none"
        raise ArgumentError(f"There is no outcome of numbers `{name}`. {known}.")
    copies = numbers[name].reshape(len(numbers[name]), -1)
    copies = np.sort(copies[np.isfinite(copies).all(axis=1)], axis=1)
    if not len(copies):
        raise ArgumentError(f"Every simulated data set of `{name}` has values that overflow.")
    share = (np.arange(copies.shape[1]) + 0.5) / copies.shape[1]
    with styled():
        figure, panel = single_panel(size, axes)
        words = "simulated data sets"
        bands(panel, share, copies, YELLOW, words, levels=(0.9, 0.5), upright=True)
        for at, one in enumerate(copies[:15]):
            label = "single simulated data sets" if at == 0 else ""
            panel.plot(one, share, color=INK, lw=0.5, label=label)
        panel.set_xlim(*np.quantile(copies, [0.01, 0.99]))
        panel.set_xlabel(simulated.draws.binding.specification.with_unit(name))
        panel.set_ylabel("share of rows at or below")
        panel.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), fontsize=10)
        return finish(
            figure,
            f"Prior: whole data sets of {name}, before seeing the data",
            "Each thin line is one simulated data set, its rows sorted. "
            + simulated.ninety_percent(name),
            text and axes is None,
        )


def check_simulated(simulated: object) -> None:
    """Refuse what is no simulation."""
    if not isinstance(simulated, Simulated):
        raise ArgumentError(
            f"A simulation is needed here (model.simulate(data)), not {type(simulated).__name__}."
        )
