"""What the study of a curve found."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.checks import check_whole, is_among
from millwright.comparison.bayes_factors import BayesFactors, weighed
from millwright.comparison.compare import Comparison, compared
from millwright.diagnostics.finding import Finding
from millwright.draws.labelled_draws import thinned
from millwright.draws.numbers import decimals_of, fixed
from millwright.errors import ArgumentError, nearest
from millwright.posterior.posterior import Posterior
from millwright.studies.curve_bands import Curves, is_table, places_in_table, places_of
from millwright.studies.curve_formula import Formula, FunctionFormula
from millwright.studies.curve_parts import ERROR_FACTOR, NOISE, CurveParts
from millwright.studies.curve_smearing import LARGEST_GAP, SmearedFormula
from millwright.studies.curve_trying import read_formula
from millwright.studies.findings import Findings
from millwright.wording import setting

if TYPE_CHECKING:
    from millwright.studies.curve_study import CurveStudy

__all__ = ["CurveFindings"]

_UNEVEN = 1.5
_NEAR, _PILED = 0.25, 0.08
_WIDE = 0.8
_GRID = 200
_MOST = 1000
_CHECKED = 40
_REPEATED = 4
"""Thinning by less saves little."""


@dataclass(frozen=True, eq=False, kw_only=True)
class CurveFindings(Findings):
    """The unknowns of a curve, and the spread of its curves."""

    study: CurveStudy

    def _parts(self, name: str | None = None) -> tuple[str, CurveParts, Posterior]:
        key = next(iter(self.posteriors)) if name is None else name
        if not is_among(key, self.posteriors):
            raise ArgumentError(
                f"There is no formula {key!r}.{nearest(str(key), self.posteriors)} There are: "
                f"{', '.join(self.posteriors)}."
            )
        return key, self.study.parts[key], self.posteriors[key]

    def _numbers(self) -> dict[str, np.ndarray]:
        _, parts, posterior = self._parts()
        scales = [name for name in (NOISE, ERROR_FACTOR) if name in parts.priors]
        known = set(posterior.draws.names())
        asked = [*parts.free, *scales, *parts.derived]
        return posterior.draws.single([name for name in asked if name in known])

    def _one_sided(self) -> tuple[str, ...]:
        _, parts, _ = self._parts()
        from_zero = {
            n for n, low in zip(parts.space.names, parts.space.low, strict=True) if low >= 0
        }
        return tuple(
            name
            for name in self.numbers
            if name in from_zero or name.split("[")[0] in (NOISE, ERROR_FACTOR)
        )

    def _sentences(self) -> tuple[str, ...]:
        name, _, _ = self._parts()
        texts = self.values()["text"]
        lines = [f"`{key}` = {text}" for key, text in texts.items()]
        uneven = any("+-" not in text for text in texts)
        sides = "; both sides of it where it is uneven" if uneven else ""
        told = [f"{'; '.join(lines)} (median and half of the central 68 % interval{sides})."]
        told.append(self.study.points[name].fit_words)
        told += self._thinning_words()
        if len(self.posteriors) > 1:
            told.append(
                "Which formula the points speak for: .compare() by leave-one-out, .evidences() by "
                "evidence under these priors."
            )
        return tuple(told)

    @property
    def thinning(self) -> int:
        """How many steps of the sampler one kept draw should stand for, by the autocorrelation.

        Half of the integrated autocorrelation time of the slowest unknown (Geyer 1992): what is
        left out then hardly adds to what is kept.
        """
        _, _, posterior = self._parts()
        measures = posterior.measures
        sizes = measures.bulk_size[np.isfinite(measures.bulk_size) & (measures.bulk_size > 0)]
        together = float(np.prod(posterior.draws.shape)) / sizes.min() if len(sizes) else 1.0
        return max(1, round(together / 2)) * int(posterior.record.settings["thin"])

    def _thinning_words(self) -> list[str]:
        """Say how to store less, where many draws repeat each other."""
        _, _, posterior = self._parts()
        found, now = self.thinning, int(posterior.record.settings["thin"])
        if found < _REPEATED * now:
            return []
        return [
            f"Draws repeat each other: about {2 * found // now} are worth one independent one. "
            f"Thinned to every {found} steps, one draw in {found // now} would be stored, and "
            "tell nearly the same."
        ]

    def values(self, name: str | None = None) -> pd.DataFrame:
        """Return each number as value and uncertainty: median and half of the central 68 %.

        Parameters
        ----------
        name
            Which formula, where there are several.

        Returns
        -------
        One row a number: `value`, `uncertainty`, `above` and `below` (to the ends of the
        interval), and `text`, rounded to two digits of the uncertainty; where the interval is
        uneven the text has both sides.

        Raises
        ------
        ArgumentError
            For a formula that is not there.
        """
        _, parts, posterior = self._parts(name)
        numbers = self.numbers
        if name is not None:
            names = [n for n in posterior.draws.names() if n != parts.curve_name]
            numbers = posterior.draws.single(names)
        rows = {key: _value_row(one.reshape(-1)) for key, one in numbers.items()}
        return pd.DataFrame.from_dict(rows, orient="index").rename_axis("quantity")

    def correlations(self) -> pd.DataFrame:
        """Return the correlations of the numbers of the answer over the draws."""
        numbers = self.numbers
        flat = np.stack([one.reshape(-1) for one in numbers.values()])
        found = np.atleast_2d(np.corrcoef(flat))
        return pd.DataFrame(found, index=list(numbers), columns=list(numbers))

    def compare(self) -> Comparison:
        """Compare the formulas by leave-one-out; see `mw.compare`.

        Raises
        ------
        ArgumentError
            If there is one formula.
        """
        self._check_several()
        return compared(self.posteriors, progress=False)

    def evidences(self) -> BayesFactors:
        """Weigh the formulas by their evidence under these priors; see `mw.bayes_factors`.

        Raises
        ------
        ArgumentError
            If there is one formula.
        """
        self._check_several()
        return weighed(self.posteriors)

    def _check_several(self) -> None:
        if len(self.posteriors) < 2:
            raise ArgumentError("There is one formula; give several to the study to compare them.")

    def curves(
        self,
        function: str | Callable[..., Any] | None = None,
        x: Any = None,
        *,
        name: str | None = None,
        label: str | None = None,
        smeared: bool = True,
        draws: int = _MOST,
    ) -> Curves:
        """Return the spread of curves: of the formula, or of any function of its unknowns.

        Parameters
        ----------
        function
            A text, or a function of x and some of the unknowns by name, such as the slope of the
            curve; by default the formula itself.
        x
            Where, shape (points,); by default 200 places over the range of the data. Of several
            columns the first; the others stay at their means. Or a table of places with all of
            them.
        name
            Which formula, where there are several.
        label
            Which data set, where unknowns differ by it.
        smeared
            Whether the formula is averaged over the resolution of x, as the readings are, where
            the study has one; between rows it is interpolated.
        draws
            The most draws to use.

        Returns
        -------
        Draws of the curve with bands.

        Raises
        ------
        ArgumentError
            For a data set or formula that is not there, or places that are no numbers.
        DataError
            For a table of places without rows, or whose columns hold no numbers.
        ModelError, LanguageError
            For a function that fails, or a text that cannot be read.
        """
        _, parts, posterior = self._parts(name)
        at = self._label(parts, label)
        table = places_in_table(list(parts.data.x.values()), x) if is_table(x) else None
        places = self._places(parts, x, table)
        check_whole("draws", draws, 1)
        keep = thinned(posterior.draws, draws)
        codes = np.full(len(places[0]), at)
        unknowns = parts.unknowns_of(posterior.draws, codes, keep)
        columns: Sequence[np.ndarray] = places
        formula = parts.formula
        if function is not None:
            formula, columns = _other(function, parts, columns[: len(parts.data.x)], unknowns)
        elif isinstance(formula, SmearedFormula) and not smeared:
            formula, columns = formula.inner, columns[:-1]
        given = {n: unknowns[n] for n in formula.unknowns}
        if not given:
            count = len(next(iter(unknowns.values())))
            found = np.repeat(formula.values(columns, {}), count, axis=0)
        else:
            found = formula.values(columns, given)
        return Curves(x=places[0], draws=found, level=self.level, kind=self.kind, places=table)

    def _label(self, parts: CurveParts, label: str | None) -> int:
        labels = parts.data.labels
        if label is not None:
            if label not in labels:
                known = ", ".join(labels) or "there are none"
                raise ArgumentError(
                    f"There is no data set {label!r}.{nearest(str(label), labels)} Data sets: "
                    f"{known}."
                )
            return labels.index(label)
        if any(one not in (NOISE, ERROR_FACTOR) for one in parts.each):
            raise ArgumentError(
                f"The curves of the data sets differ: say which by {setting('label')}. Data sets: "
                f"{', '.join(labels)}."
            )
        return 0

    def _places(self, parts: CurveParts, x: Any, table: pd.DataFrame | None) -> list[np.ndarray]:
        """Return the columns of a formula at places; those that are not given at their means."""
        data = parts.data
        rows = data.columns()
        if table is None:
            places = places_of(rows[0], x, _GRID)
            found = [places, *(np.full(len(places), one.mean()) for one in rows[1 : len(data.x)])]
        else:
            found = [table[name].to_numpy() for name in table]
            places = found[0]
        if data.width is not None:
            order = np.argsort(rows[0], kind="stable")
            found.append(np.interp(places, rows[0][order], rows[-1][order]))
        return found

    def residuals(self, name: str | None = None) -> pd.DataFrame:
        """Return what is left of each row.

        Parameters
        ----------
        name
            Which formula, where there are several.

        Returns
        -------
        The rows, with `fitted` (median of the curves), `residual`, `error` (as given, times the
        factor where it is unknown; the noise where no errors are given: medians), and `residual /
        error`; names that the rows have already get `of the fit` behind.

        Raises
        ------
        ArgumentError
            For a formula that is not there.
        """
        rows = self.study.table.frame
        return rows.assign(
            **{
                key if key not in rows else f"{key} of the fit": values
                for key, values in self.fit_of_rows(name).items()
            }
        )

    def fit_of_rows(self, name: str | None = None) -> dict[str, np.ndarray]:
        """Return what `residuals` adds to the rows, each of shape (rows,)."""
        _, parts, posterior = self._parts(name)
        data = parts.data
        keep = thinned(posterior.draws, _MOST)
        unknowns = parts.unknowns_of(posterior.draws, data.codes(), keep)
        fitted = np.median(parts.formula.values(data.columns(), unknowns), axis=0)
        error = data.errors * self._scale(parts, posterior)
        left = data.readings - fitted
        return {
            "fitted": fitted,
            "residual": left,
            "error": error,
            "residual / error": left / error,
        }

    def _scale(self, parts: CurveParts, posterior: Posterior) -> np.ndarray | float:
        """Return what the errors of the rows are multiplied by: a median."""
        for name in (NOISE, ERROR_FACTOR):
            if name in parts.priors:
                cells = posterior.draws.single([name])
                middles = np.array([np.median(one) for one in cells.values()])
                return middles[parts.data.codes()] if name in parts.each else float(middles[0])
        return 1.0

    @cached_property
    def _limits(self) -> tuple[Finding, ...]:
        """What draws say of unknowns at an end of their range, and of those that nothing moves."""
        _, parts, posterior = self._parts()
        space, found = parts.space, []
        cells = posterior.draws.single(list(parts.free))
        ends = zip(space.low, space.high, strict=True)
        for at, (name, draws, pair) in enumerate(
            zip(space.names, cells.values(), ends, strict=True)
        ):
            spread = float(draws.std(ddof=1))
            for end in pair:
                if np.isfinite(end) and (np.abs(draws - end) < _NEAR * spread).mean() > _PILED:
                    side = "upper" if end == pair[1] else "lower"
                    found.append(
                        Finding(
                            "caution",
                            f"`{name}` is pressed against {end:g}, the {side} end of its range.",
                            "Widen the range, or accept that the data do not limit it there.",
                            of_data=True,
                        )
                    )
            if spread > _WIDE * float(space.draws[:, at].std(ddof=1)):
                found.append(
                    Finding(
                        "note",
                        f"The data hardly move `{name}`: its posterior is nearly as wide as its "
                        "prior.",
                        "Read it as its prior.",
                        of_data=True,
                    )
                )
        return tuple(found)

    def _cautions(self) -> tuple[Finding, ...]:
        points = self.study.points[self._parts()[0]]
        misfit: list[Finding] = []
        if points.given_errors and points.freedom > 0 and points.chance < 0.001:
            misfit.append(
                Finding(
                    "caution",
                    f"The curve does not fit within the errors: reduced chi-square "
                    f"{points.reduced:.3g}.",
                    "The uncertainties are too small: look at the residuals, try another formula, "
                    f"or let the errors be right up to a factor, {setting('error_factor', True)}.",
                    of_data=True,
                )
            )
        return (*self._wrong, *misfit, *self._limits)

    @cached_property
    def _wrong(self) -> tuple[Finding, ...]:
        """What is wrong with the way in which the curve was computed, tried on some draws."""
        _, parts, posterior = self._parts()
        formula, data = parts.formula, parts.data
        if not formula.here:
            return ()
        found = []
        keep = thinned(posterior.draws, _CHECKED)
        unknowns = parts.unknowns_of(posterior.draws, data.codes(), keep)
        inner = formula.inner if isinstance(formula, SmearedFormula) else formula
        if (
            isinstance(inner, FunctionFormula)
            and inner.together
            and not inner.agrees(data.columns()[: len(data.x)], unknowns)
        ):
            found.append(
                Finding(
                    "stop",
                    f"The function `{inner.name}` gives other values for many draws in one call "
                    "than for each by itself.",
                    "Wrap it so that it computes one draw at a time: `def curve(x, a): return "
                    f"{inner.name}(x, float(a))`.",
                )
            )
        if isinstance(formula, SmearedFormula):
            errors = data.errors * self._scale(parts, posterior)
            gap = formula.gap(data.columns(), unknowns, errors)
            if gap > LARGEST_GAP:
                found.append(
                    Finding(
                        "caution",
                        f"The average over the resolution of x is wrong by up to {gap:.2g} "
                        "errors: the curve is sharper than its nodes tell.",
                        "Narrow the ranges of what makes the curve sharp.",
                        of_data=True,
                    )
                )
        return tuple(found)


def _value_row(draws: np.ndarray) -> dict[str, Any]:
    low, middle, high = np.quantile(draws, [0.16, 0.5, 0.84])
    half = float((high - low) / 2)
    above, below = float(high - middle), float(middle - low)
    decimals = decimals_of(half)
    text = f"{fixed(float(middle), decimals)} +- {fixed(half, decimals)}"
    if max(above, below) > _UNEVEN * min(above, below):
        text = (
            f"{fixed(float(middle), decimals)} +{fixed(above, decimals)} -{fixed(below, decimals)}"
        )
    return {
        "value": float(middle),
        "uncertainty": half,
        "above": above,
        "below": below,
        "text": text,
    }


def _other(
    function: str | Callable[..., Any],
    parts: CurveParts,
    columns: Sequence[np.ndarray],
    unknowns: dict[str, np.ndarray],
) -> tuple[Formula, Sequence[np.ndarray]]:
    """Return another function of x and the unknowns, and the columns it takes."""
    some = {name: one[:8] for name, one in unknowns.items()}
    return read_formula(function, list(parts.data.x), list(unknowns), (columns, some)), columns
