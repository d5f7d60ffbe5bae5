"""Checks of state-space outcomes: times of rows, and what is known of the first state."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from millwright.distributions.state_space import StateSpace
from millwright.errors import DataError, ModelError
from millwright.modelling.evaluate import Evaluation
from millwright.modelling.labelled import Labelled
from millwright.modelling.specification import Part, rests_on_unknowns

__all__ = ["check_first_state", "check_times"]

_SAME = 1e-6
"""Steps of time that are apart by less, as shares of a step, are the same."""


def check_times(part: Part, given: Labelled, evaluation: Evaluation) -> None:
    """Refuse times that go back, or on by different steps: the state moves once to the next.

    Raises
    ------
    ModelError
        If the times rest on an unknown.
    DataError
        Which names the rows.
    """
    node = dict(part.arguments)["time"]
    if rests_on_unknowns(node, evaluation.program.by_name):
        raise ModelError(part.definition.message("its `time` must be known, a column", node))
    times = np.asarray(given.values, dtype=float)
    if times.ndim != 1:
        raise ModelError(
            part.definition.message("its `time` must be a column, one number a row", node)
        )
    gaps = np.diff(times)
    if (gaps < 0).any():
        row = int(np.argmax(gaps < 0)) + 2
        raise DataError(
            part.definition.message(
                f"its rows must be in the order of time, but row {row} is at {times[row - 1]:g}, "
                f"after {times[row - 2]:g}: sort the rows",
                node,
            )
        )
    _check_steps(part, times, gaps)


def _check_steps(part: Part, times: np.ndarray, gaps: np.ndarray) -> None:
    steps = gaps[gaps > 0]
    if not len(steps):
        return
    usual = float(steps.min())
    if (steps <= usual * (1 + _SAME)).all():
        return
    row = int(np.argmax(gaps > usual * (1 + _SAME))) + 1
    raise DataError(
        part.definition.message(
            f"from one time to the next its state moves once, but from row {row} to row {row + 1} "
            f"time goes on by {gaps[row - 1]:g} and elsewhere by {usual:g}: add a row with a "
            "missing reading for each time between",
            dict(part.arguments)["time"],
        )
    )


def check_first_state(
    part: Part,
    family: StateSpace,
    observed: np.ndarray,
    given: dict[str, np.ndarray],
    unknowns: Mapping[str, Part],
) -> None:
    """Refuse a series whose first state may be anything and is not told by its readings.

    Raises
    ------
    DataError
        Which counts readings and states.
    """
    nodes = dict(part.arguments)
    free = any(rests_on_unknowns(nodes[name], unknowns) for name in ("transition", "loading"))
    if not part.open_start or free:
        # At some values of the unknowns the readings may well tell it.
        return
    root = family.first_state(observed, given).root
    if np.isfinite(root).all():
        return
    states = root.shape[-1]
    readings = int(np.isfinite(observed).sum(axis=-1).min())
    raise DataError(
        part.definition.message(
            f"its first state may be anything, and {readings} readings do not tell all of its "
            f"{states} entries apart: give `start` and `start_scale`, or fewer states",
            part.definition.expression,
        )
    )
