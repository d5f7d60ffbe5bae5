"""Outcomes drawn for new rows."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from millwright.distributions.processes import GaussianProcess
from millwright.draws.conditioning import (
    MOST,
    Conditional,
    condition_on_data,
    forecast,
    is_series,
    joint_outcomes,
)
from millwright.draws.expected_outcomes import expected_outcomes, lead_of
from millwright.draws.extending import extended
from millwright.draws.labelled_draws import Draws, thinned
from millwright.draws.new_labels import grown_labels
from millwright.draws.prediction import Predictions
from millwright.errors import DataError
from millwright.modelling.arguments import family_of
from millwright.modelling.binding import Binding, bind
from millwright.modelling.drawn_columns import with_gaps
from millwright.modelling.reading import read_tables
from millwright.modelling.simulate import draw_outcomes
from millwright.modelling.specification import Part
from millwright.sampling.streams import Stream, generator_of
from millwright.wording import setting

__all__ = ["predict"]


def predict(
    draws: Draws,
    data: Any,
    rows: int | None,
    seed: int,
    numbers: Mapping[str, np.ndarray] | None = None,
    fresh: bool = False,
) -> Predictions:
    """Draw outcomes for new rows, once for each posterior draw.

    `numbers` are the rows' numbers for tables; by default they count from 1, and those of a
    series that goes on count from its last fitted row. `fresh` lets effects of labels that the
    fit has not seen be drawn from the distribution of the groups.
    """
    old = draws.binding
    read = read_tables(data, old.specification.columns, rows)
    tables = with_gaps(old.specification, read, continuous=True)
    grown = grown_labels(draws, tables, fresh)
    try:
        labels = grown or old.labels
        binding = bind(old.specification, tables, labels, outcomes="drawn", like=old)
    except DataError as error:
        if data is None:
            raise DataError(
                f"{error.marked}\nRows alone are for models without predictors: give the columns "
                "of the new rows as data instead."
            ) from error
        if not fresh and grown_labels(draws, tables, fresh=True) != grown:
            raise DataError(
                f"{error.marked}\nTo predict for labels that the fit has not seen, ask "
                f"for {setting('new_labels', 'draw')}."
            ) from error
        raise
    together = joint_outcomes(binding)
    generator = generator_of(seed, Stream.PREDICTION)
    # A factorisation for each draw takes long: a thousand draws say enough.
    keep = thinned(draws, MOST) if grown or together else slice(None)
    missing = [part for part in binding.program.unknowns if part.rows_of]
    more = grown or missing
    known = extended(draws, binding, keep, generator) if more else draws.known(keep)
    evaluation = binding.evaluation(known)
    size = lead_of(evaluation)
    joint = {part.name: _together(part)(draws, part, tables, keep, generator) for part in together}
    copies = draw_outcomes(binding, size, generator, evaluation, leave_out=tuple(joint))
    expected = expected_outcomes(binding, evaluation, copies)
    copies |= {name: found.outcome for name, found in joint.items()}
    for part in missing:
        # What the other outcomes rest on, not drawn a second time.
        gaps = binding.arguments["gaps", part.rows_of]
        copies[part.rows_of][:, gaps] = known[part.name].values
    expected |= {name: found.mean.mean(axis=0) for name, found in joint.items()}
    latent = {name: found.latent for name, found in joint.items()}
    numbers = numbers or _going_on(old, binding, together)
    return Predictions(
        draws=copies,
        expected=expected,
        latent=latent,
        _known=known,
        _binding=binding,
        _generator_seed=seed,
        _joint=joint,
        _numbers=numbers,
    )


def _together(part: Part) -> Callable[..., Conditional]:
    """Return what draws new rows of an outcome whose rows depend on each other."""
    family = family_of(part.family, part.arguments)
    return condition_on_data if isinstance(family, GaussianProcess) else forecast


def _going_on(old: Binding, new: Binding, parts: Sequence[Part]) -> dict[str, np.ndarray]:
    """Return the numbers of rows that follow the fitted ones of a series."""
    result = {}
    for part in parts:
        if is_series(part):
            axis = dict(new.program.outcome_axes)[part.name][0]
            last = len(old.arguments["observed", part.name])
            result[axis] = last + np.arange(1, new.program.shape((axis,))[0] + 1)
    return result
