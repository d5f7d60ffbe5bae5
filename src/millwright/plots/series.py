"""Series in time: readings, the states behind them, and how they go on."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from millwright.checks import check_whole
from millwright.draws.conditioning import is_series, joint_outcomes
from millwright.errors import ArgumentError
from millwright.language.printing import text_of
from millwright.language.tree import Lookup, Name, walk
from millwright.modelling.specification import Part
from millwright.plots.bands import bands
from millwright.plots.choose import check_posterior
from millwright.plots.panels import Size
from millwright.plots.style import BLUE, INK, YELLOW, finish, light_grid, new_figure, styled
from millwright.posterior.posterior import Posterior

__all__ = ["series"]

_MOST_STATES = 4
_MARKERS = [("o", INK), ("s", "white"), ("^", INK), ("D", "white"), ("v", INK), ("o", "white")]
"""Shapes and fills that tell series apart."""


def series(
    posterior: Posterior,
    outcome: str | None = None,
    *,
    ahead: int = 0,
    size: Size | None = None,
    text: bool = True,
) -> Figure:
    """Draw a series: its readings, how it goes on, and of a state-space one its smoothed states.

    Parameters
    ----------
    posterior
        The fit to show.
    outcome
        Which outcome, if there are several.
    ahead
        How many rows to go on after the last one, for a series without predictors.
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
    check_posterior(posterior)
    names = [p.name for p in joint_outcomes(posterior.draws.binding) if is_series(p)]
    name = (names[0] if len(names) == 1 else None) if outcome is None else outcome
    if name not in names:
        raise ArgumentError(
            f"Say which series: {', '.join(names) or 'this model has none as an outcome'}."
        )
    check_whole("ahead", ahead, 0)
    states = _states(posterior, name)
    with styled():
        rows = 1 + len(states)
        figure = new_figure(size, (12.8, min(8.0, 2.6 + 2.0 * rows)))
        panels = figure.subplots(rows, 1, squeeze=False, sharex=True)[:, 0]
        places, axis = _places(posterior, name)
        _readings(panels[0], posterior, name, ahead, places)
        # Rows of one time read one state.
        once = np.unique(places, return_index=True)[1]
        for panel, (label, values) in zip(panels[1:], states.items(), strict=True):
            _bands(panel, places[once], values[:, once], BLUE, "state")
            panel.set_title(f"state {label}, given all readings")
            light_grid(panel, "y")
        panels[-1].set_xlabel(axis)
        return finish(
            figure,
            f"Series: {name}"
            + (", its states" if states else "")
            + (", and how it goes on" if ahead else ""),
            _caption(bool(states), ahead),
            text,
            about=posterior,
        )


def _states(posterior: Posterior, name: str) -> dict[str, np.ndarray]:
    """Return draws of the first states by label, (draws, rows); none of a series without any."""
    if _part(posterior, name).family != "state_space":
        return {}
    found = posterior.latent(name)
    labels = [str(label) for label in found.coords[found.dims[3]].values][:_MOST_STATES]
    values = found.values.reshape(-1, *found.shape[2:])
    return {label: values[..., at] for at, label in enumerate(labels)}


def _caption(states: bool, ahead: int) -> str:
    told = [
        "Bands are 50 % and 95 % central intervals." if states or ahead else "",
        "States are smoothed: each is judged by all readings, before and after it."
        if states
        else "",
        "Beyond the last reading: new readings, noise included." if ahead else "",
    ]
    return " ".join(filter(None, told))


def _part(posterior: Posterior, name: str) -> Part:
    return next(part for part in joint_outcomes(posterior.draws.binding) if part.name == name)


def _places(posterior: Posterior, name: str) -> tuple[np.ndarray, str]:
    """Return where each row stands along the axis, and the axis's name."""
    binding = posterior.draws.binding
    part = _part(posterior, name)
    if "time" not in dict(part.arguments):
        return np.arange(1, len(np.asarray(binding.arguments["observed", name])) + 1), "row"
    time = posterior.draws.evaluation(keep=slice(0, 1)).parameters(part)["time"]
    node = dict(part.arguments)["time"]
    label = text_of(node)
    if isinstance(node, Name):
        label = binding.specification.with_unit(node.name)
    return np.asarray(time.values, dtype=float), label


def _readings(axes: Axes, posterior: Posterior, name: str, ahead: int, places: np.ndarray) -> None:
    seen = np.asarray(posterior.draws.binding.arguments["observed", name])
    for (marker, fill), (label, rows) in zip(_MARKERS, _kinds(posterior, name), strict=False):
        axes.plot(places[rows], seen[rows], marker, color=INK, ms=4, mfc=fill, label=label)
    for gap in places[np.isnan(seen)]:
        axes.axvline(float(gap), color=INK, lw=0.6, ls=":")
    if ahead:
        draws = posterior.predict(rows=ahead).draws[name]
        x = np.arange(len(seen) + 1, len(seen) + ahead + 1)
        _bands(axes, x, draws, YELLOW, "forecast")
    title = posterior.draws.binding.specification.with_unit(name)
    axes.set_title(f"{title}; dotted: no reading" if np.isnan(seen).any() else title)
    axes.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), fontsize=10)
    light_grid(axes, "y")


def _kinds(posterior: Posterior, name: str) -> list[tuple[str, np.ndarray]]:
    """Return the rows of each series, if the readings are looked up by a column of few labels."""
    binding = posterior.draws.binding
    rows = len(np.asarray(binding.arguments["observed", name]))
    nodes = [node for _, top in _part(posterior, name).arguments for node in walk(top)]
    for node in nodes:
        if isinstance(node, Lookup) and isinstance(node.labels[0], Name):
            column = binding.tables.columns.get(node.labels[0].name)
            found = binding.tables.labels(node.labels[0].name) if column else ()
            if column is not None and len(column.values) == rows and len(found) <= len(_MARKERS):
                values = column.values.tolist()
                return [
                    (str(one), np.array([v in (one, str(one)) for v in values])) for one in found
                ]
    return [("reading", np.full(rows, True))]


def _bands(axes: Axes, x: np.ndarray, draws: np.ndarray, colour: str, label: str) -> None:
    bands(axes, x, draws, colour, label)
    axes.plot(x, np.median(draws, axis=0), color=colour, lw=1.6, label=f"{label}, median")
