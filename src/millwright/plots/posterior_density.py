"""Posterior densities with interval, region of practical equivalence and reference value."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.draws.decision import Decision
from millwright.draws.intervals import IntervalKind, interval, kind_words
from millwright.draws.numbers import probability_text, range_text
from millwright.draws.region import density
from millwright.errors import ArgumentError, nearest
from millwright.plots.choose import check_reference, chosen
from millwright.plots.panels import Size, panels_for
from millwright.plots.style import (
    BLUE,
    GREEN,
    GREY,
    INK,
    RED,
    bare,
    finish,
    light_grid,
    mark,
    new_figure,
    styled,
    tint,
)
from millwright.posterior.posterior import Posterior
from millwright.wording import setting

__all__ = ["REGION_CAPTION", "decision", "density_panel", "posterior_densities"]

_LEVELS = (0.5, 0.8, 0.9, 0.95, 0.99)
_COLOURS = {"reject": RED, "accept": GREEN, "withhold": GREY}
_STYLES = {"reject": "--", "accept": "-", "withhold": ":"}


def posterior_densities(
    posterior: Posterior,
    names: str | Sequence[str] | None = None,
    *,
    level: float = 0.95,
    kind: IntervalKind = "central",
    rope: tuple[float, float] | Mapping[str, tuple[float, float]] | None = None,
    null: float | None = None,
    reference: Mapping[str, float | Sequence[float]] | None = None,
    page: int | None = None,
    axes: Axes | None = None,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw posterior densities with their intervals, one panel a quantity.

    Parameters
    ----------
    posterior
        The fit to show.
    names
        Quantities or expressions to show; at most 12 single numbers a page.
    level, kind
        Level and kind of the interval drawn on the axis.
    rope, null
        A region of practical equivalence (for all panels, or by their names), or a single value;
        the shares of the posterior below, inside and above stand in a strip over the density.
    reference
        Values to mark, one or several by the name of a panel: a known truth, or another
        method's estimate.
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
    shown = chosen(posterior, names, 12, page)
    marked = check_reference(reference, shown.draws)
    if rope is not None and null is not None:
        raise ArgumentError(f"Give either {setting('rope')} or {setting('null')}.")
    regions = _regions(rope if null is None else (null, null), shown.draws)
    with styled():
        figure, panels = panels_for(len(shown.draws), size, axes)
        for panel, (name, value) in zip(panels, shown.draws.items(), strict=True):
            density_panel(panel, value.reshape(-1), level, kind, regions.get(name))
            mark(panel, marked.get(name))
            panel.set_title(shown.title(name))
        words = kind_words(kind, level)
        return finish(
            figure,
            f"Posterior densities with {words}s{shown.page}",
            f"Shaded: {words}; line inside: median."
            + REGION_CAPTION * bool(regions)
            + " A dotted line marks a reference value." * bool(marked),
            text and axes is None,
            about=posterior,
        )


def _regions(
    rope: tuple[float, float] | Mapping[str, tuple[float, float]] | None,
    shown: Mapping[str, np.ndarray],
) -> dict[str, tuple[float, float]]:
    """Return the region of each panel."""
    if rope is None:
        return {}
    given = rope if isinstance(rope, Mapping) else dict.fromkeys(shown, rope)
    for name, region in given.items():
        if name not in shown:
            raise ArgumentError(
                f"`rope` names `{name}`, which is not shown.{nearest(name, shown)}"
            )
        try:
            low, high = (float(end) for end in region)
        except (TypeError, ValueError):
            low = high = np.nan
        if not low <= high:
            raise ArgumentError(f"`rope` must be two ends, low and high; it is {region!r}.")
    return {name: (float(low), float(high)) for name, (low, high) in given.items()}


REGION_CAPTION = (
    " Green band: the region (red line: the value); below the panel: which share of the posterior "
    "lies below, inside and above it."
)


def density_panel(
    axes: Axes,
    value: np.ndarray,
    level: float,
    kind: IntervalKind,
    region: tuple[float, float] | None,
) -> None:
    """Draw a density with its interval shaded, over the region, and say below what they are."""
    low, high = (float(end) for end in interval(value, level, kind))
    grid, height = density(value)
    if region is not None:
        _region(axes, region)
    inside = np.linspace(low, high, 200)
    axes.fill_between(
        inside, np.interp(inside, grid, height), color=tint(BLUE, 0.45), lw=0, zorder=2
    )
    axes.plot(grid, height, color=BLUE, lw=1.8, zorder=3)
    middle = float(np.median(value))
    axes.vlines(middle, 0, np.interp(middle, grid, height), color=INK, lw=1.4, zorder=3)
    axes.set_ylim(0, 1.06 * float(height.max()))
    axes.margins(x=0.04)
    bare(axes)
    spread = float(value.std(ddof=1))
    words = f"{kind_words(kind, level)} {range_text(low, high, spread)}"
    if region is not None:
        words += f"\n{_shares(value, region)}"
    axes.set_xlabel(words, fontsize=9.5)


def _region(axes: Axes, region: tuple[float, float]) -> None:
    low, high = region
    if low == high:
        axes.axvline(low, color=RED, lw=1.6, zorder=4)
    else:
        axes.axvspan(low, high, color=tint(GREEN, 0.4), lw=0, zorder=1)
    _named(axes, "value" if low == high else "region", (low + high) / 2)


def _named(axes: Axes, words: str, at: float) -> None:
    """Write at the top of a panel what a band or line in it is."""
    axes.annotate(
        words,
        (at, 1.0),
        (0, -2),
        xycoords=axes.get_xaxis_transform(),
        textcoords="offset points",
        ha="center",
        va="top",
        fontsize=8.5,
        color=INK,
    )


def _shares(value: np.ndarray, region: tuple[float, float]) -> str:
    """Say which share of the posterior is below, inside and above a region, or a value."""
    low, high = region
    below, above = float(np.mean(value < low)), float(np.mean(value > high))
    shares = [("below", below), ("inside", 1 - below - above), ("above", above)]
    return _in_words(shares[:: 2 if low == high else 1], value.size)


def _in_words(shares: Sequence[tuple[str, float]], size: int) -> str:
    return "   ".join(f"{name}: {probability_text(share, size)}" for name, share in shares)


def decision(
    made: Decision,
    *,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw how a decision depends on the level of the interval, a panel a quantity.

    Parameters
    ----------
    made
        Result of `posterior.decide(...)`; at most 8 quantities.
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
    if not isinstance(made, Decision):
        raise ArgumentError(f"Give the result of posterior.decide(), not {type(made).__name__}.")
    if len(made.draws) > 8:
        raise ArgumentError(f"{len(made.draws)} quantities do not fit; at most 8 do.")
    count = len(made.draws)
    with styled():
        columns = min(2, count)
        rows = -(-count // columns)
        figure = new_figure(size, (12.8, min(8.0, 2.4 + 2.3 * rows)))
        panels = list(figure.subplots(rows, columns, squeeze=False).ravel())
        outcomes = made.by_level(_LEVELS)
        for axes, (name, value) in zip(panels, made.draws.items(), strict=False):
            _levels(axes, made, value, outcomes.loc[[name]].to_numpy()[0].tolist())
            below, inside, above = made.shares(name)
            shares = [("below", below), ("inside", inside), ("above", above)]
            words = _in_words(shares[:: 2 if made.single else 1], value.size)
            axes.set_title(f"{name}   ({words})")
        for axes in panels[count:]:
            axes.set_visible(False)
        low, high = made.region
        what = f"the value {low:.4g}" if made.single else f"the region {low:.4g} to {high:.4g}"
        kind = "HDIs" if made.kind == "hdi" else "central intervals"
        accept = "" if made.single else ' Wholly inside the region: "accept" (green, solid).'
        return finish(
            figure,
            f"Decision on {what} of {made.quantity}",
            f'Rows: {kind} of several levels. Wholly outside: "reject" (red, dashed).{accept} '
            "Neither: decision withheld (grey, dotted). A decision that changes with the level is "
            "not yet a firm one.",
            text,
            about=made,
        )


def _levels(axes: Axes, made: Decision, value: np.ndarray, outcomes: list[str]) -> None:
    low, high = made.region
    if made.single:
        axes.axvline(low, color=INK, lw=1.6)
    else:
        axes.axvspan(low, high, color=tint(GREEN, 0.4), lw=0, zorder=0)
    _named(axes, "value" if made.single else "region", (low + high) / 2)
    for row, (level, outcome) in enumerate(zip(_LEVELS, outcomes, strict=True)):
        a, b = interval(value, level, made.kind)
        axes.plot([a, b], [row, row], color=_COLOURS[outcome], ls=_STYLES[outcome], lw=3)
        axes.plot([a, b], [row, row], "|", color=_COLOURS[outcome], ms=11, mew=2)
    axes.plot([np.median(value)] * len(_LEVELS), range(len(_LEVELS)), "o", color="white", mec=INK)
    labels = [
        f"{100 * level:.0f} %: {outcome}" for level, outcome in zip(_LEVELS, outcomes, strict=True)
    ]
    axes.set_yticks(range(len(_LEVELS)), labels)
    axes.set_ylim(len(_LEVELS) - 0.5, -0.5)
    axes.margins(x=0.08)
    light_grid(axes, "x")
