"""What the study of a shape found."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from millwright.checks import check_whole
from millwright.diagnostics.finding import Finding
from millwright.draws.labelled_draws import thinned
from millwright.draws.numbers import chance_text, decimals_of, fixed
from millwright.errors import ArgumentError
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.checks import check_from_zero
from millwright.studies.curve_bands import Curves, beside_places
from millwright.studies.findings import Findings
from millwright.studies.sentences import size_words
from millwright.studies.smooth_family import EXCESS
from millwright.studies.smooth_model import SHAPE
from millwright.studies.smooth_places import candidate_places, places_along
from millwright.studies.smooth_process import (
    Hyperparameters,
    Readings,
    function_draws,
    gain,
    gain_of_draws,
    hyperparameters,
    rising,
)
from millwright.wording import setting, visible

if TYPE_CHECKING:
    from millwright.studies.smooth_study import SmoothStudy

__all__ = ["SmoothFindings"]

_MOST = 400
_MAPPED = 100
_GRID = 100
_SURE = 0.95
_SHARE_OF_EDGE = 0.3
_SCATTERED, _RARE, _LARGER = 400, 0.01, 1.2
_LOST = 1.0
_LOST_FROM = 100


@dataclass(frozen=True, eq=False, kw_only=True)
class SmoothFindings(Findings):
    """The shape of y along x, its slope, and where another reading would help."""

    study: SmoothStudy

    def _numbers(self) -> dict[str, np.ndarray]:
        draws = self.posterior.draws
        wanted = ("level", "height", *self.study.lengths, "noise", EXCESS)
        return draws.single([name for name in wanted if name in draws.names()])

    def _one_sided(self) -> tuple[str, ...]:
        return ("height", *self.study.lengths, "noise", EXCESS)

    def _known(self, most: int = _MOST) -> tuple[Readings, Hyperparameters]:
        """Return what is read, or the function's values in each draw, and what is unknown."""
        draws, made = self.posterior.draws, self.study.readings
        keep = thinned(draws, most)
        known = hyperparameters(draws, keep, self.study.lengths)
        if not self.study.family.latent:
            return made, known
        values = draws.get(SHAPE)
        return replace(made, y=values.reshape(-1, values.shape[-1])[keep]), known

    def curve(
        self,
        x: Any = None,
        *,
        along: str | None = None,
        at: Mapping[str, float] | None = None,
        draws: int = _MOST,
        seed: int = 0,
    ) -> Curves:
        """Draw the function given the readings: a mean without noise, a rate or a probability.

        Parameters
        ----------
        x
            Where, shape (points,); by default 100 places over the range of the data. Or a table
            of places, with every column that the shape is along.
        along, at
            Of several columns: which one, by default the first, and where the others are held, by
            default at their medians.
        draws
            The most draws to use.
        seed
            Any whole number from 0.

        Returns
        -------
        The functions, with bands, which widen where there are no readings.

        Raises
        ------
        ArgumentError
            For columns or places that are not there, or a number of draws or a seed that makes no
            sense.
        DataError
            For a table of places without rows, or whose columns hold no numbers.
        """
        found = self._drawn(x, along, at, draws, seed, slope=False)
        return replace(found, draws=self.study.family.natural(found.draws))

    def slope(
        self,
        x: Any = None,
        *,
        along: str | None = None,
        at: Mapping[str, float] | None = None,
        draws: int = _MOST,
        seed: int = 0,
    ) -> Curves:
        """Draw the slope of the function, in units of y per unit of x.

        Of counts and yes/no it is that of the log rate or the log odds.

        Parameters
        ----------
        x, along, at, draws, seed
            As for `curve`.

        Returns
        -------
        The slopes, with bands.

        Raises
        ------
        ArgumentError
            As for `curve`.
        """
        return self._drawn(x, along, at, draws, seed, slope=True)

    def _drawn(
        self,
        x: Any,
        along: str | None,
        at: Mapping[str, float] | None,
        draws: int,
        seed: int,
        slope: bool,
    ) -> Curves:
        check_whole("draws", draws, 2)
        check_whole("seed", seed, 0)
        on = places_along(self.study.rows, self.study.x, x, along, at, _GRID)
        generator, own = generator_of(seed, Stream.CURVE), on.own if slope else None
        made = function_draws(*self._known(draws), on.places, generator, along=own)
        return Curves(x=on.values, draws=made, level=self.level, kind=self.kind, places=on.table)

    def rising(
        self, x: Any = None, *, along: str | None = None, at: Mapping[str, float] | None = None
    ) -> pd.DataFrame:
        """Return the probability that the function rises at each place.

        Parameters
        ----------
        x, along, at
            As for `curve`.

        Returns
        -------
        One row a place: `x`, or the columns of a table of places, and `P(rising)`.

        Raises
        ------
        ArgumentError
            For columns or places that are not there.
        """
        on = places_along(self.study.rows, self.study.x, x, along, at, _GRID)
        chances = pd.DataFrame({"P(rising)": rising(*self._known(), on.places, on.own)})
        return beside_places(on.values, on.table, chances)

    def new_readings(
        self,
        x: Any = None,
        *,
        along: str | None = None,
        at: Mapping[str, float] | None = None,
        error: float = 1.0,
        draws: int = _MOST,
        seed: int = 0,
    ) -> Curves:
        """Draw new readings of a curve with a normal noise: the curve and the noise of each.

        Parameters
        ----------
        x, along, at
            Where, as for `curve`.
        error
            How large their error is, over that of the readings (their median).
        draws
            The most draws to use.
        seed
            Any whole number from 0.

        Returns
        -------
        The readings, with bands.

        Raises
        ------
        ArgumentError
            For counts and yes/no, or places, an error, a number of draws or a seed that makes no
            sense.
        """
        if self.study.family.latent:
            raise ArgumentError(
                "New readings are of a shape that is read with a normal noise; of counts and "
                "yes/no `curve` gives rates and probabilities."
            )
        check_from_zero("error", error)
        found = self.curve(x, along=along, at=at, draws=draws, seed=seed)
        _, known = self._known(draws)
        units = generator_of(seed, Stream.PREDICTION).standard_normal(found.draws.shape)
        size = error * self.study.error_of_one * known.noise
        return replace(found, draws=found.draws + size[:, None] * units)

    def over_two(self, count: int = 14) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Draw the function over the ranges of two columns.

        Parameters
        ----------
        count
            How many places along each.

        Returns
        -------
        The places along each, (count,), and draws, (draws, count, count), of some draws.

        Raises
        ------
        ArgumentError
            For a shape along another number of columns.
        """
        check_whole("count", count, 2)
        if len(self.study.x) != 2:
            raise ArgumentError(f"The shape is along {len(self.study.x)} columns, not two.")
        rows = self.study.rows
        across, up = (np.linspace(one.min(), one.max(), count) for one in rows.T)
        places = np.stack(np.meshgrid(across, up, indexing="ij"), axis=-1).reshape(-1, 2)
        made = function_draws(*self._known(_MAPPED), places, generator_of(0, Stream.CURVE))
        found = self.study.family.natural(made)
        return across, up, found.reshape(-1, count, count)

    @cached_property
    def _told(self) -> dict[str, tuple[Curves, pd.DataFrame]]:
        """The curve along each column and where it rises, as the answer tells them."""
        return {name: (self.curve(along=name), self.rising(along=name)) for name in self.study.x}

    def next_place(self, candidates: Any = None, *, error: float = 1.0) -> pd.DataFrame:
        """Return where another reading would help most, over the range of the data.

        Parameters
        ----------
        candidates
            Places that can be read, shape (places,); by default 100 over the range of the data. Of
            several columns a table of them; by default 128 spread over their ranges.
        error
            How large the error of the new reading is, over that of the readings (their median).

        Returns
        -------
        One row a place, the best first: `x`, or the columns of several, and `variance less by`,
        the share by which a reading there lowers the variance of the function, averaged over the
        range of the data. Of counts and yes/no the function is the log rate or the log odds, and
        the share is by a normal approximation.

        Raises
        ------
        ArgumentError
            For places that are no numbers, or an error below 0.
        """
        check_from_zero("error", error)
        rows, columns = self.study.rows, self.study.x
        places = candidate_places(rows, columns, candidates, _GRID)
        over = candidate_places(rows, columns, None, 60)
        found = self._gain(places, over, error)
        names = ["x"] if len(columns) == 1 else list(columns)
        frame = pd.DataFrame(places, columns=names).assign(**{"variance less by": found})
        order = np.argsort(-found, kind="stable")
        return frame.iloc[order].reset_index(drop=True)

    def _gain(self, places: np.ndarray, over: np.ndarray, error: float) -> np.ndarray:
        if not self.study.family.latent:
            size = error * self.study.error_of_one
            return gain(*self._known(100), places, over, size)
        every = np.concatenate([places, over])
        drawn = function_draws(*self._known(), every, generator_of(0, Stream.CURVE))
        at_places = drawn[:, : len(places)]
        told = self.study.family.information(at_places, self._excess).mean(axis=0)
        with np.errstate(divide="ignore"):
            told = told / error**2
        return gain_of_draws(at_places, drawn[:, len(places) :], told)

    @property
    def _scatter_advice(self) -> str:
        if self.study.family.name != "poisson":
            return ""
        return (
            " Counts that vary more than Poisson ones do the same: "
            f"{setting('family', 'negative_binomial')} allows for them."
        )

    @property
    def _excess(self) -> np.ndarray:
        """How far counts vary beside chance, (draws, 1); 0 where they do not."""
        if self.study.family.name != "negative_binomial":
            return np.zeros((1, 1))
        draws = self.posterior.draws
        return draws.get(EXCESS).reshape(-1, 1)[thinned(draws, _MOST)]

    def _sentences(self) -> tuple[str, ...]:
        lines = []
        for name, (curve, rising_at) in self._told.items():
            lines += [self._ends(name, curve), *self._directions(name, rising_at)]
        best = self._best
        where = ", ".join(
            f"{visible(name)} = {self._place(best.iloc[at], name)}"
            for at, name in enumerate(self.study.x)
        )
        told = f"the {self.study.family.scale or 'curve'}"
        lines.append(
            f"Another reading would help most near {where}: it lowers the variance of {told} by "
            f"{100 * best['variance less by']:.2g} % on average."
        )
        return tuple(lines)

    def _ends(self, name: str, curve: Curves) -> str:
        """Say where the curve is highest and lowest along a column."""
        middle = curve.median
        decimals = decimals_of(float(curve.draws.std(axis=0).mean()))
        high, low = int(np.argmax(middle)), int(np.argmin(middle))
        x = visible(name)
        held = ", the other columns at their medians" * (len(self.study.x) > 1)
        return (
            f"{self.study.told} is highest near {x} = {self._place(curve.x[high], name)} "
            f"({size_words(curve.draws[:, high], self.level, self.kind)}) and lowest near "
            f"{x} = {self._place(curve.x[low], name)} ({fixed(float(middle[low]), decimals)}), "
            f"between the first and the last place{held}."
        )

    @cached_property
    def _best(self) -> pd.Series:
        return self.next_place().iloc[0]

    def _place(self, x: float, name: str) -> str:
        """Return a place along a column with the decimals that tell a hundredth of the range."""
        return fixed(float(x), decimals_of(float(np.ptp(self.study.data[name])) / 10))

    def _directions(self, name: str, rising_at: pd.DataFrame) -> list[str]:
        places, up = (rising_at[name].to_numpy() for name in ("x", "P(rising)"))
        lines = []
        for word, sure in (("rises", up > _SURE), ("falls", up < 1 - _SURE)):
            pieces = [
                f"{self._place(first, name)} to {self._place(last, name)}"
                for first, last in _stretches(places, sure)
            ]
            if pieces:
                lines.append(
                    f"It {word}, with probability above {_SURE:g} at each place, for "
                    f"{visible(name)} {', '.join(pieces)}."
                )
        if not lines:
            along = f" along {visible(name)}" * (len(self.study.x) > 1)
            lines.append(
                f"At no place is it sure (probability {_SURE:g}) to rise or to fall{along}."
            )
        return lines

    def _cautions(self) -> tuple[Finding, ...]:
        """Say where a length runs out of what the data can tell."""
        found = [
            self._caution(column, name)
            for column, name in zip(self.study.x, self.study.lengths, strict=True)
        ]
        found = [self._nodes_caution(), self._excess_caution(), *found]
        return tuple(one for one in found if one is not None)

    def _excess_caution(self) -> Finding | None:
        """Say where counts scatter around the curve as no Poisson ones do."""
        if self.study.family.name != "poisson":
            return None
        draws = self.posterior.draws
        part = draws.binding.program.outcomes[0]
        evaluation = draws.evaluation(keep=thinned(draws, _SCATTERED))
        rates = np.exp(np.asarray(evaluation.parameters(part)["log_rate"].values))
        counts = np.asarray(draws.binding.arguments["observed", part.name])
        chance = generator_of(self.posterior.record.seed, Stream.CURVE).poisson(rates)
        seen, made = (((y - rates) ** 2 / rates).mean(axis=1) for y in (counts, chance))
        share = float((made >= seen).mean())
        if share > _RARE or np.median(seen) < _LARGER * np.median(made):
            return None
        return Finding(
            "caution",
            f"The counts scatter around the curve {np.median(seen) / np.median(made):.2g} times "
            "as widely (in variance) as Poisson counts would; as widely or more has probability "
            f"{chance_text(share)}. The curve follows chance, and its bands are too narrow.",
            f"Ask with {setting('family', 'negative_binomial')}, whose counts vary more.",
            of_data=True,
        )

    def _nodes_caution(self) -> Finding | None:
        """Say where the nodes of gathered rows leave out more of the curve than is nothing."""
        lost = self.lost
        if lost < _LOST:
            return None
        made = self.study.gathered
        assert made is not None
        rows = len(made.x)
        unit, then = "the variance of the noise", "it counts as noise"
        if self.study.family.latent:
            unit, then = "what a row leaves open", "the curve is too smooth"
        return Finding(
            "caution",
            f"The {len(made.nodes)} nodes at which {rows} rows are gathered leave out part of the "
            f"curve: a variance of {lost:.2g}, in units of {unit} and summed over all rows. Up to "
            f"{_LOST:g} it does not show; above, {then}.",
            f"Ask with more of them, {setting('nodes', 2 * len(made.nodes))}, or with a smoother "
            f"kernel; {setting('nodes', 0)} goes through every row, and takes long.",
            of_data=True,
        )

    @cached_property
    def lost(self) -> float:
        """What gathering leaves out of the curve: variance summed over rows, over the noise's.

        Nine of ten draws leave out less; 0 where rows are not gathered.
        """
        made = self.study.gathered
        if made is None:
            return 0.0
        _, known = self._known(_LOST_FROM)
        every = zip(known.height, known.length.reshape(-1), known.noise, strict=True)
        kernel = self.study.readings.kernel
        lost = np.quantile([made.lost(kernel, *one) for one in every], 0.9)
        return self.study.information_of_one * float(lost)

    def _caution(self, column: str, name: str) -> Finding | None:
        x = np.unique(self.study.data[column])
        length = self.posterior.draws.get(name)
        span, spacing = float(x[-1] - x[0]), float(np.median(np.diff(x)))
        short, long = float((length < spacing).mean()), float((length > span).mean())
        which = "The length" if len(self.study.x) == 1 else f"The length along `{visible(column)}`"
        if short > _SHARE_OF_EDGE:
            return Finding(
                "caution",
                f"{which} is below the distance of neighbouring places ({spacing:.3g}) "
                f"with probability {short:.2f}: the curve follows single readings.",
                f"Read at places closer together, or give a prior of `{name}` that rules short "
                "ones out." + self._scatter_advice,
                of_data=True,
            )
        if long > _SHARE_OF_EDGE:
            return Finding(
                "note",
                f"{which} is beyond the span of the places ({span:.3g}) with probability "
                f"{long:.2f}: over them the curve is nearly a line or a simple bend.",
                "A formula would say the same with fewer unknowns.",
                of_data=True,
            )
        return None


def _stretches(x: np.ndarray, which: np.ndarray) -> list[tuple[float, float]]:
    """Return the first and the last place of each run."""
    edges = np.diff(np.concatenate([[0], which.astype(int), [0]]))
    begins, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1) - 1
    return [
        (float(x[first]), float(x[last]))
        for first, last in zip(begins, ends, strict=True)
        if last > first
    ]
