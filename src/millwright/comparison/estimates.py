"""Several fits together: the same quantities across models, and predictions side by side."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from millwright.display import Shown, frame_text, text_table
from millwright.draws.expressions import chosen_numbers
from millwright.draws.intervals import (
    IntervalKind,
    check_kind,
    check_level,
    interval,
    kind_words,
)
from millwright.draws.prediction import Predictions
from millwright.draws.scores import scores_shown
from millwright.draws.supports import never_negative
from millwright.draws.table import Table, make_table
from millwright.errors import ArgumentError
from millwright.posterior.posterior import Posterior

__all__ = ["AcrossFits", "ScoresCompared", "compare_estimates", "compare_predictions"]


@dataclass(frozen=True, kw_only=True)
class AcrossFits(Shown):
    """The same quantities in several fits.

    Attributes
    ----------
    draws
        For each quantity, the draws of each fit that has it, shape (chains, draws).
    good
        Whether each fit's verdict is good.
    one_sided
        Quantities that cannot be negative in any fit.
    """

    draws: Mapping[str, Mapping[str, np.ndarray]] = field(repr=False)
    level: float
    kind: IntervalKind
    good: Mapping[str, bool]
    one_sided: frozenset[str] = frozenset()

    def wide(self) -> pd.DataFrame:
        """Return one row a quantity and one column a fit; gaps where a fit lacks a quantity.

        Under each fit: mean, sd, ends of the interval, probability above 0.
        """
        long = self.table
        columns = {
            (fit, column): long[column].xs(fit, level="fit")
            for fit in self.good
            for column in long.columns
        }
        return pd.DataFrame(columns).reindex(list(self.draws))

    @property
    def table(self) -> pd.DataFrame:
        """One row a quantity and fit: mean, sd, interval, probability above 0."""
        heading = kind_words(self.kind, self.level)
        columns = ["mean", "sd", f"{heading}, from", f"{heading}, to", "probability above 0"]
        index = pd.MultiIndex.from_tuples(self._rows, names=["quantity", "fit"])
        tables = self._tables
        return pd.DataFrame(
            {
                column: [tables[name].columns[column][at] for name, at in self._rows.values()]
                for column in columns
            },
            index=index,
        )

    @cached_property
    def _tables(self) -> dict[str, Table]:
        """The table of each fit, one row a quantity: fits may differ in chains and draws."""
        return {
            fit: make_table(self._of(fit), self.level, self.kind, one_sided=self.one_sided)
            for fit in self.good
            if self._of(fit)
        }

    def _of(self, fit: str) -> dict[str, np.ndarray]:
        return {name: fits[fit] for name, fits in self.draws.items() if fit in fits}

    @property
    def _rows(self) -> dict[tuple[str, str], tuple[str, int]]:
        """Where each quantity and fit stands in the tables."""
        places = {fit: list(self._of(fit)) for fit in self.good}
        return {
            (name, fit): (fit, places[fit].index(name))
            for name, fits in self.draws.items()
            for fit in fits
        }

    @property
    def changes(self) -> tuple[str, ...]:
        """Quantities that are clear of zero in one fit and not in another, in words."""
        sentences = []
        for name, fits in self.draws.items():
            ends = {fit: interval(v.reshape(-1), self.level, self.kind) for fit, v in fits.items()}
            clear = [fit for fit, (low, high) in ends.items() if low > 0 or high < 0]
            unclear = [fit for fit in ends if fit not in clear]
            if clear and unclear:
                sentences.append(
                    f"`{name}` is clear of 0 in {', '.join(clear)}, not in {', '.join(unclear)}: "
                    "it depends on what else is in the model."
                )
            signs = {np.sign(ends[fit][0]) for fit in clear}
            if len(signs) > 1:
                sentences.append(f"`{name}` changes its SIGN between {' and '.join(clear)}.")
        return tuple(sentences)

    def __str__(self) -> str:
        heading = kind_words(self.kind, self.level)
        tables, rows = self._tables, self._rows
        columns = {"fit": [fit for _, fit in rows]} | {
            column: [tables[name].shown[column][at] for name, at in rows.values()]
            for column in ("mean", "sd", heading, "P(above 0)")
        }
        lacking = [
            f"`{name}` is not in {', '.join(fit for fit in self.good if fit not in fits)}."
            for name, fits in self.draws.items()
            if len(fits) < len(self.good)
        ]
        bad = [
            f"The verdict on `{fit}` is not good: see its convergence()."
            for fit, good in self.good.items()
            if not good
        ]
        return "\n".join(
            [text_table([name for name, _ in rows], columns), *self.changes, *lacking, *bad]
        )


def compare_estimates(
    names: str | Sequence[str] | None = None,
    /,
    *,
    level: float = 0.95,
    kind: IntervalKind = "central",
    **posteriors: Posterior,
) -> AcrossFits:
    """Put the same quantities of several fits side by side: of models, or of parts of the data.

    `compare_estimates("slope", alone=a, with_flow=b)`.

    Parameters
    ----------
    names
        Quantities or expressions; by default all, also those that only some fits have.
    level, kind
        Level and kind of the intervals.

    Returns
    -------
    A table of the quantities in each fit, and what changes, in words.

    Raises
    ------
    ArgumentError
        For fewer than two fits, or fits that have no quantity in common.
    """
    check_level(level)
    if len(posteriors) < 2:
        raise ArgumentError(
            "Give two or more posteriors by name: compare_estimates(alone=a, both=b)."
        )
    for fit, posterior in posteriors.items():
        if not isinstance(posterior, Posterior):
            raise ArgumentError(f"`{fit}` must be a posterior, not {type(posterior).__name__}.")
    found: dict[str, dict[str, np.ndarray]] = {}
    for fit, posterior in posteriors.items():
        for name, value in _numbers(posterior, names).items():
            found.setdefault(name, {})[fit] = value
    if not any(len(fits) > 1 for fits in found.values()) and names is None:
        raise ArgumentError("These fits have no quantity in common; name some.")
    if not found:
        raise ArgumentError(f"These fits have no quantity {names!r}.")
    sided = [never_negative(posterior.draws) for posterior in posteriors.values()]
    one_sided = frozenset(
        name
        for name, fits in found.items()
        if all(name in s for fit, s in zip(posteriors, sided, strict=True) if fit in fits)
    )
    good = {fit: posterior.verdict.good for fit, posterior in posteriors.items()}
    return AcrossFits(
        draws=found, level=float(level), kind=check_kind(kind), good=good, one_sided=one_sided
    )


def _numbers(posterior: Posterior, names: str | Sequence[str] | None) -> dict[str, np.ndarray]:
    """Return the numbers that a fit has: a quantity may be missing from some."""
    if names is None:
        return posterior.draws.single()
    asked = [names] if isinstance(names, str) else list(names)
    known = [
        name for name in asked if not name.isidentifier() or name in posterior.draws.binding.axes
    ]
    return chosen_numbers(posterior.draws, known) if known else {}


@dataclass(frozen=True)
class ScoresCompared(Shown):
    """How well the predictions of several models met the same truth.

    Attributes
    ----------
    frame
        One row a model, a way of predicting (the whole posterior; the posterior mean plugged
        in) and an outcome.
    """

    frame: pd.DataFrame

    def __str__(self) -> str:
        shown, key = scores_shown(self.frame)
        return f"{frame_text(shown)}\n{key}"


def compare_predictions(truth: Any, /, **predictions: Predictions) -> ScoresCompared:
    """Score the predictions of several models for the same new rows.

    `compare_predictions(new_rows, straight=a.predict(new_rows), flat=b.predict(new_rows))`.

    Parameters
    ----------
    truth
        The observed outcomes, as for `Predictions.score`.

    Raises
    ------
    ArgumentError
        For fewer than two, or what are no predictions.
    DataError
        If the truth does not fit them.
    """
    if len(predictions) < 2:
        raise ArgumentError("Give two or more predictions by name.")
    for name, found in predictions.items():
        if not isinstance(found, Predictions):
            raise ArgumentError(f"`{name}` must be predictions, not {type(found).__name__}.")
    frames = {name: found.score(truth).frame for name, found in predictions.items()}
    return ScoresCompared(pd.concat(frames, names=["model"]))
