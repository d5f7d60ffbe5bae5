"""A starter sheet: a plain model of one column of a data file, to be changed by its reader."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import pandas as pd
import tomlkit

from millwright.errors import DataError, nearest
from millwright.language.printing import number_text
from millwright.studies.scales import rounded_middle

__all__ = ["starter_sheet"]

_TOO_FEW_FOR_A_SPREAD = 5
_MOST_LABELS = 50
_LARGEST_COUNT = 200
_NAME = re.compile(r"[^\W\d]\w*")
_TAKEN = ("base", "noise", "shape", "chain", "draw", "iteration", "row")


def starter_sheet(data: pd.DataFrame, outcome: str | None, name: str) -> str:
    """Return the text of a sheet: the outcome explained by the other columns.

    Parameters
    ----------
    outcome
        The column to explain; by default the last one of numbers.
    name
        Name of the data file, for the title.

    Raises
    ------
    DataError
        If there is no column of numbers, or no such column.
    """
    numbers = [str(c) for c in data.columns if pd.api.types.is_numeric_dtype(data[c])]
    if not numbers:
        raise DataError("None of the columns holds numbers, so there is nothing to explain.")
    chosen = numbers[-1] if outcome is None else outcome
    if chosen not in numbers:
        raise DataError(
            f"`{chosen}` is not a column of numbers.{nearest(chosen, numbers)} "
            f"Columns of numbers: {', '.join(numbers)}."
        )
    writer = _Writer(data)
    for column in map(str, data.columns):
        if column != chosen:
            writer.add(column, column in numbers)
    return writer.text(chosen, name)


@dataclass(frozen=True, kw_only=True)
class _Outcome:
    """How an outcome is modelled.

    Attributes
    ----------
    words
        What its values look like, for a comment.
    spread
        Scale of the effects of predictors, written as a number.
    base, rest
        Priors before and after those of the predictors: name, text and comment of each.
    likelihood
        With MEAN where the sum of effects belongs.
    """

    words: str
    spread: str
    base: tuple[str, str, str]
    rest: tuple[tuple[str, str, str], ...]
    likelihood: str


def _outcome(values: np.ndarray) -> _Outcome:
    known = values[np.isfinite(values)]
    if len(known) and np.isin(known, (0, 1)).all():
        return _Outcome(
            words="is 0 or 1: the model is of the chance of a 1, on the log-odds scale.",
            spread="1",
            base=("base", "normal(0, 1.5)", "log odds at average predictors"),
            rest=(),
            likelihood="bernoulli(log_odds=MEAN)",
        )
    middle, spread = float(known.mean()), _short(float(known.std()) or 1.0)
    if _counts(known):
        return _Outcome(
            words="holds whole numbers from 0: the model is of counts, on the log scale. Where "
            "they are successes among trials, use binomial(trials=..., log_odds=...).",
            spread="1",
            base=(
                "base",
                f"normal({_short(np.log(middle))}, 1)",
                "log count at average predictors",
            ),
            rest=(
                ("shape", "exponential(rate=0.1)", "small: counts vary more than Poisson ones"),
            ),
            likelihood="negative_binomial(mean=exp(MEAN), shape=shape)",
        )
    return _Outcome(
        words="is a number on a scale.",
        spread=spread,
        base=(
            "base",
            f"normal({_middle(middle, float(spread))}, 2 * {spread})",
            "the outcome at average predictors",
        ),
        rest=(("noise", f"half_normal({spread})", "what the predictors leave unexplained"),),
        likelihood="normal(MEAN, noise)",
    )


def _counts(known: np.ndarray) -> bool:
    whole = len(known) > 0 and bool((known == np.round(known)).all())
    return whole and known.min() >= 0 and 0 < known.max() <= _LARGEST_COUNT


def _varies(values: np.ndarray) -> bool:
    """Whether a column varies, and does more than number the rows."""
    numbers_rows = len(values) > 2 and bool((np.diff(values) == 1).all())
    return float(np.nanstd(values)) > 0 and not numbers_rows


class _Writer:
    def __init__(self, data: pd.DataFrame) -> None:
        self.data = data
        self.aliases: dict[str, str] = {}
        self.priors: list[tuple[str, str, str]] = []
        self.terms: list[str] = []
        self.left: list[str] = []
        self.gappy: list[str] = []
        self.filled: list[tuple[str, str, str]] = []

    def alias(self, column: str) -> str:
        """Return a name that can be written; others are listed under [columns]."""
        if _NAME.fullmatch(column) and column not in _TAKEN:
            return column
        word = re.sub(r"\W+", "_", column).strip("_") or "column"
        word = f"column_{word}" if word[0].isdigit() or word in _TAKEN else word
        while word in self.aliases or word in map(str, self.data.columns):
            word += "_"
        self.aliases[word] = column
        return word

    def add(self, column: str, numeric: bool) -> None:
        values = self.data[column]
        labels = values.nunique()
        if not numeric and values.isna().any():
            self.gappy.append(column)
        elif not numeric and 1 < labels <= _TOO_FEW_FOR_A_SPREAD:
            # So few labels hardly tell how much labels differ: sampling that would go astray.
            name = self.alias(column)
            self.priors.append(
                (
                    f"of_{name}",
                    f"normal(0, SPREAD) per {name}",
                    f"one for each of the {labels} labels of {column!r}",
                )
            )
            self.terms.append(f"of_{name}[{name}]")
        elif not numeric and labels <= _MOST_LABELS and labels > 1:
            name = self.alias(column)
            self.priors.append(
                (
                    f"of_{name}",
                    f"normal(0, between_{name}) per {name}",
                    f"one for each of the {labels} labels of {column!r}",
                )
            )
            self.priors.insert(
                0,
                (
                    f"between_{name}",
                    "half_normal(SPREAD)",
                    f"how much the labels of {column!r} differ",
                ),
            )
            self.terms.append(f"of_{name}[{name}]")
        elif numeric and np.isinf(values.to_numpy(float)).any():
            self.gappy.append(column)
        elif numeric and _varies(numbers := values.to_numpy(float)):
            name = self.alias(column)
            middle, width = float(np.nanmean(numbers)), float(np.nanstd(numbers))
            if np.isnan(numbers).any():
                self._fill(name, column, middle, width)
            scale = f"normal(0, {_short(1 / width)} TIMES)"
            self.priors.append((f"by_{name}", scale, f"change for one more of {column!r}"))
            self.terms.append(f"by_{name} * ({name} - {_middle(middle, width)})")
        else:
            self.left.append(column)

    def _fill(self, name: str, column: str, middle: float, width: float) -> None:
        """Give a predictor with gaps a distribution, from which the gaps are estimated."""
        self.priors += [
            (
                f"middle_{name}",
                f"normal({_middle(middle, width)}, {_short(2 * width)})",
                f"mean of {column!r}, for its gaps",
            ),
            (f"spread_{name}", f"half_normal({_short(width)})", f"sd of {column!r}, for its gaps"),
        ]
        self.filled.append(
            (
                name,
                f"normal(middle_{name}, spread_{name})",
                f"{column!r} has gaps: each is an unknown of this distribution",
            )
        )

    def text(self, outcome: str, file: str) -> str:
        kind = _outcome(self.data[outcome].to_numpy(float))
        name = self.alias(outcome)
        document = tomlkit.document()
        document.add(tomlkit.comment("A starter: read every line; change what you know better."))
        document.add(tomlkit.comment("Check it with: millwright check SHEET DATA"))
        document.add(tomlkit.comment(f"{outcome!r} {kind.words}"))
        document.add("title", tomlkit.item(f"{outcome} in {file}"))
        if self.gappy:
            document.add(
                tomlkit.comment(
                    "Not used, since labels are missing or numbers infinite in some rows: "
                    f"{', '.join(map(repr, self.gappy))}"
                )
            )
        if self.left:
            document.add(
                tomlkit.comment(
                    "Not used, since they do not vary, number the rows, or have too many "
                    f"labels: {', '.join(map(repr, self.left))}"
                )
            )
        priors = tomlkit.table()
        for key, prior, words in (kind.base, *self.priors, *kind.rest):
            times = "" if kind.spread == "1" else f"* {kind.spread}"
            prior = prior.replace(" TIMES", times and f" {times}").replace("SPREAD", kind.spread)
            item = tomlkit.item(prior)
            priors.add(key, item.comment(words))
        document.add("priors", priors)
        likelihood = tomlkit.table()
        mean = " + ".join(["base", *self.terms])
        likelihood.add(name, tomlkit.item(kind.likelihood.replace("MEAN", mean)))
        for key, distribution, words in self.filled:
            likelihood.add(key, tomlkit.item(distribution).comment(words))
        document.add("likelihood", likelihood)
        if self.data[outcome].isna().any():
            fit = tomlkit.table()
            some = f"rows without {outcome!r} are left out of the fit, and counted"
            fit.add("missing", tomlkit.item("drop").comment(some))
            document.add("fit", fit)
        if self.aliases:
            columns = tomlkit.table()
            for word, column in self.aliases.items():
                columns.add(word, tomlkit.item(column))
            document.add("columns", columns)
        return tomlkit.dumps(document)


def _short(value: float) -> str:
    return f"{value:.3g}"


def _middle(value: float, spread: float) -> str:
    """Return a centre to a hundredth of the spread: three digits could lie far from all rows."""
    return number_text(rounded_middle(value, spread))
