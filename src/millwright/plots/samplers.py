"""Methods of sampling side by side: how draws depend on each other, and what they say."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Literal, get_args

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.comparison.samplers import SamplersCompared
from millwright.diagnostics.autocorrelation import autocorrelations
from millwright.draws.region import density_on
from millwright.errors import ArgumentError
from millwright.plots.style import CHAINS, GREY, INK, bare, finish, light_grid, new_figure, styled
from millwright.posterior.posterior import Posterior

__all__ = ["samplers"]

View = Literal["estimates", "densities", "successive"]

_MOST = 4
_LAGS = 40


def samplers(
    compared: SamplersCompared,
    names: str | Sequence[str] | None = None,
    *,
    show: View = "estimates",
    exact: Mapping[str, Callable[[np.ndarray], np.ndarray]] | None = None,
    size: tuple[float, float] | None = None,
    text: bool = True,
) -> Figure:
    """Draw autocorrelations and estimates of each method, a row for each quantity.

    Parameters
    ----------
    compared
        Result of `mw.compare_samplers(...)`.
    names
        At most four quantities; by default the first ones of the table.
    show
        What stands beside the autocorrelations: `estimates` of the mean, the `densities` of the
        draws, or each draw against the one before (`successive`).
    exact
        For `densities`: exact ones to lay over them, by quantity, as functions of an array of
        places, such as `scipy.stats.norm(0, 1).pdf`; or from numerical integration.
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
    if show not in get_args(View):
        raise ArgumentError(f"`show` must be one of {', '.join(get_args(View))}, not {show!r}.")
    if not isinstance(compared, SamplersCompared):
        raise ArgumentError(f"Give the result of mw.compare_samplers(), not {compared!r}.")
    known = list(dict.fromkeys(name for _, name in compared.table.index))
    chosen = [names] if isinstance(names, str) else list(names or known[:_MOST])
    unknown = [name for name in chosen if name not in known]
    if unknown or not 0 < len(chosen) <= _MOST:
        raise ArgumentError(f"Choose one to four of these quantities: {', '.join(known[:12])}.")
    with styled():
        figure = new_figure(size, (12.8, min(8.0, 2.0 + 2.2 * len(chosen))))
        grid = figure.subplots(len(chosen), 2, squeeze=False)
        for (left, right), name in zip(grid, chosen, strict=True):
            _autocorrelation(left, compared, name)
            if show == "estimates":
                _estimates(right, compared, name)
            elif show == "densities":
                _densities(right, compared, name, (exact or {}).get(name))
            else:
                _successive(right, compared, name)
        grid[0, 0].legend(loc="best", fontsize=9.5)
        grid[-1, 0].set_xlabel("lag in kept draws")
        truth = " A dotted line marks the truth." if compared.truth else ""
        return finish(
            figure,
            "Methods of sampling: dependence of draws, and what they estimate",
            "Left: autocorrelation of a chain's draws; independent draws fall to 0 at once, a "
            f"slow chain stays near 1. {_RIGHT[show]}{truth}",
            text,
        )


_RIGHT: dict[View, str] = {
    "estimates": "Right: the mean with 2 Monte Carlo standard errors to each side; methods should "
    "agree within these.",
    "densities": "Right: density of the draws of each method; they should lie on each other, and "
    "on the exact one (thick) where it is known.",
    "successive": "Right: each kept draw of the first chain against the one before; a cloud means "
    "that draws forget at once, a narrow band along the diagonal that the chain creeps.",
}


def _draws_of(posterior: Posterior, name: str) -> np.ndarray:
    return posterior.draws.single([name.split("[")[0]])[name]


def _densities(
    axes: Axes,
    compared: SamplersCompared,
    name: str,
    exact: Callable[[np.ndarray], np.ndarray] | None,
) -> None:
    every = {label: _draws_of(p, name).ravel() for label, p in compared.posteriors.items()}
    ends = np.array([np.quantile(value, [0.001, 0.999]) for value in every.values()])
    grid = np.linspace(ends[:, 0].min(), ends[:, 1].max(), 300)
    if exact is not None:
        axes.plot(grid, np.asarray(exact(grid), dtype=float), color=GREY, lw=6, alpha=0.5)
    for at, value in enumerate(every.values()):
        colour, style = CHAINS[at % len(CHAINS)]
        axes.plot(grid, density_on(grid, value), color=colour, ls=style, lw=1.8)
    axes.set_ylim(bottom=0)
    axes.set_title(f"{name}: density of the draws")
    bare(axes)


def _successive(axes: Axes, compared: SamplersCompared, name: str) -> None:
    for at, posterior in enumerate(compared.posteriors.values()):
        chain = _draws_of(posterior, name)[0]
        colour, _ = CHAINS[at % len(CHAINS)]
        axes.plot(chain[:-1][-600:], chain[1:][-600:], "o", ms=2.5, alpha=0.5, color=colour)
    axes.set_title(f"{name}: a draw against the one before")
    axes.set_xlabel("the draw before")


def _autocorrelation(axes: Axes, compared: SamplersCompared, name: str) -> None:
    for at, (label, posterior) in enumerate(compared.posteriors.items()):
        value = posterior.draws.single([name.split("[")[0]])[name]
        most = min(_LAGS, value.shape[1] - 1)
        colour, style = CHAINS[at % len(CHAINS)]
        found = autocorrelations(value, most)
        axes.plot(range(most + 1), found, color=colour, ls=style, lw=1.8, label=label)
    axes.axhline(0, color=INK, lw=0.8)
    axes.set_title(f"{name}: autocorrelation")
    axes.set_ylim(min(-0.12, axes.get_ylim()[0]), 1.05)
    light_grid(axes, "y")


def _estimates(axes: Axes, compared: SamplersCompared, name: str) -> None:
    labels = list(compared.posteriors)
    for row, label in enumerate(labels):
        at = compared.table.index.get_loc((label, name))
        mean, error = compared.table[["estimate", "Monte Carlo error"]].to_numpy(float)[at]
        colour, _ = CHAINS[row % len(CHAINS)]
        axes.plot([mean - 2 * error, mean + 2 * error], [row, row], color=colour, lw=4)
        axes.plot(mean, row, "o", color="white", mec=INK, ms=6, zorder=4)
    if name in compared.truth:
        axes.axvline(compared.truth[name], color=INK, ls=":", lw=1.4, zorder=1)
    good = [compared.posteriors[label].verdict.good for label in labels]
    shown = [
        label if fine else f"{label}\n(see its verdict)"
        for label, fine in zip(labels, good, strict=True)
    ]
    axes.set_yticks(np.arange(len(labels)), shown)
    axes.set_ylim(len(labels) - 0.4, -0.6)
    axes.margins(x=0.1)
    axes.set_title(f"{name}: estimate of the mean")
    light_grid(axes, "x")
    axes.tick_params(axis="y", length=0)
