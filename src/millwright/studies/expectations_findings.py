"""What equations with expectations found in series."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.checks import check_whole
from millwright.diagnostics.finding import Finding
from millwright.draws.intervals import interval, kind_words
from millwright.draws.labelled_draws import thinned
from millwright.draws.numbers import decimals_of, fixed, range_text
from millwright.draws.supports import never_negative
from millwright.sampling.streams import Stream, generator_of
from millwright.studies.autoregression_ahead import Forecast, stated_paths
from millwright.studies.autoregression_responses import Responses, Shares, check_shock
from millwright.studies.expectations_parts import Worlds
from millwright.studies.expectations_paths import answers_of, forecast_draws
from millwright.studies.expectations_smoothed import Paths, smoothed
from millwright.studies.findings import Findings
from millwright.studies.sentences import size_words
from millwright.wording import setting, visible

if TYPE_CHECKING:
    from millwright.studies.expectations_study import ExpectationsStudy

__all__ = ["ExpectationsFindings"]

_MOST = 2000
_MOST_SENTENCES = 8
_FAR = 40
_SAME = 1e-9


@dataclass(frozen=True, eq=False, kw_only=True)
class ExpectationsFindings(Findings):
    """The answer of a study of series on the stable path of equations."""

    study: ExpectationsStudy

    @cached_property
    def worlds(self) -> Worlds:
        """The system at each of at most 2000 draws, in even steps."""
        chains, draws = self.posterior.draws.shape
        every = max(1, -(-chains * draws // _MOST))
        return self.study.parts.worlds(self.posterior.draws, slice(None, None, every))

    @property
    def variables(self) -> tuple[str, ...]:
        """The variables that the equations name."""
        system = self.study.parts.system
        return system.variables[: system.named]

    def responses(
        self, *, horizon: int = 24, shock: str = "sd", cumulated: bool = False
    ) -> Responses:
        """Say how all variables answer to each shock.

        Parameters
        ----------
        horizon
            How many steps after the shock.
        shock
            `sd`: of one of its sds. `unit`: of 1.
        cumulated
            Whether answers are added up over steps.

        Returns
        -------
        The responses, with `.table()`.

        Raises
        ------
        ArgumentError
            For another shock, or a horizon that makes no sense.
        """
        check_whole("horizon", horizon, 1)
        check_shock(shock)
        moves = answers_of(self.worlds, horizon)[:, :, : len(self.variables)]
        if shock == "unit":
            moves = moves / self.worlds.sizes[:, None, None]
        if cumulated:
            moves = np.cumsum(moves, axis=1)
        size = "one sd" if shock == "sd" else "1"
        return Responses(
            draws={"all": moves},
            series=self.variables,
            shocks=self.study.parts.system.shocks,
            words=f"shocks of {size}, each alone{', added up over steps' * cumulated}.",
            level=self.level,
            kind=self.kind,
            about=self,
        )

    def shares(self, *, horizon: int = 24) -> Shares:
        """Say which share of each variable's forecast variance comes from which shock.

        Parameters
        ----------
        horizon
            How many steps ahead.

        Returns
        -------
        The shares, with `.table()`; errors of reading are no part of them.

        Raises
        ------
        ArgumentError
            For a horizon that makes no sense.
        """
        check_whole("horizon", horizon, 1)
        moves = answers_of(self.worlds, horizon - 1)[:, :, : len(self.variables)]
        whole = np.cumsum(moves**2, axis=1)
        total = whole.sum(axis=-1, keepdims=True)
        return Shares(
            draws=np.divide(whole, total, out=np.zeros_like(whole), where=total > 0),
            series=self.variables,
            shocks=self.study.parts.system.shocks,
            words="of the variables themselves, without errors of reading.",
            level=self.level,
            kind=self.kind,
        )

    def forecast(
        self,
        horizon: int = 12,
        *,
        given: Mapping[str, Sequence[float | None]] | None = None,
        seed: int = 0,
    ) -> Forecast:
        """Draw the readings after the last time.

        Parameters
        ----------
        horizon
            How many steps.
        given
            Paths that are stated: readings of some series by name, None where nothing is; the
            others are drawn given all of them, by shocks that would bring them about, with
            unknowns as drawn without them.
        seed
            Any whole number from 0.

        Returns
        -------
        The forecast, with `.table()` and `.score(truth)`.

        Raises
        ------
        ArgumentError
            For numbers that make no sense, or stated readings that cannot be together.
        """
        check_whole("horizon", horizon, 1)
        check_whole("seed", seed, 0)
        parts = self.study.parts
        stated = stated_paths(given or {}, parts.data.series, horizon)
        drawn = forecast_draws(self.worlds, parts, stated, generator_of(seed, Stream.FORECAST))
        remarks = ["Nothing but the shocks of the equations moves what is to come."]
        if given:
            remarks.append(
                f"Given the stated readings of {', '.join(given)}, later ones too; unknowns are "
                "those drawn without them."
            )
        return Forecast(
            draws=drawn.draws,
            series=parts.data.series,
            labels=parts.data.times.after(horizon),
            level=self.level,
            kind=self.kind,
            runaway=0.0,
            remarks=tuple(remarks),
            ahead=drawn,
            about=self,
            stated=stated,
        )

    def paths(self, *, draws: int = 200, seed: int = 0) -> Paths:
        """Say where every variable was at each time, given all readings, also unread ones.

        Parameters
        ----------
        draws
            The most draws to use.
        seed
            Any whole number from 0.

        Returns
        -------
        The paths, from where the variables rest, with `.table()`.

        Raises
        ------
        ArgumentError
            For numbers that make no sense.
        """
        return self._smoothed(draws, seed, shocks=False)

    def shocks(self, *, draws: int = 200, seed: int = 0) -> Paths:
        """Say which shocks came at each time, in their sds, given all readings.

        Parameters
        ----------
        draws, seed
            As for `paths`.

        Returns
        -------
        The shocks, with `.table()`.

        Raises
        ------
        ArgumentError
            As `paths`.
        """
        return self._smoothed(draws, seed, shocks=True)

    def _smoothed(self, draws: int, seed: int, shocks: bool) -> Paths:
        check_whole("draws", draws, 2)
        check_whole("seed", seed, 0)
        parts = self.study.parts
        worlds = parts.worlds(self.posterior.draws, thinned(self.posterior.draws, draws))
        generator = generator_of(seed, Stream.LATENT)
        return Paths(
            draws=smoothed(worlds, parts, shocks, generator),
            names=parts.system.shocks if shocks else self.variables,
            labels=parts.data.labels,
            what="shock" if shocks else "variable",
            level=self.level,
            kind=self.kind,
        )

    def _numbers(self) -> dict[str, np.ndarray]:
        return self.posterior.draws.single()

    def _one_sided(self) -> tuple[str, ...]:
        return tuple(never_negative(self.posterior.draws))

    def _cautions(self) -> tuple[Finding, ...]:
        lost = sum(path.kind != "one" for path in self.worlds.paths)
        if not lost:
            return self._edge_words()
        return (
            Finding(
                "stop",
                f"At {lost} of {len(self.worlds)} draws the equations have no single stable path "
                "when they are solved a second way: the draws lie where the solution cannot be "
                "computed well.",
                "Look at the roots in findings.worlds.paths, and keep the priors away from there.",
            ),
        )

    def _edge_words(self) -> tuple[Finding, ...]:
        """Say what divergences are likely to be, where the priors reach beyond stable paths."""
        cut = 1 - sum(path.kind == "one" for path in self.study.tried.paths) / len(
            self.study.tried
        )
        if not cut or not self.posterior.fit.statistics["diverged"].any():
            return ()
        return (
            Finding(
                "note",
                f"{100 * cut:.2g} % of the priors lie where there is no single stable path; "
                "trajectories that run into that edge diverge.",
                f"Give priors that end at the edge, or sample by "
                f"{setting('method', 'random_walk')}, which no edge disturbs.",
                of_data=True,
            ),
        )

    @property
    def _stopped(self) -> bool:
        return super()._stopped or any(one.weight == "stop" for one in self._cautions())

    def _sentences(self) -> tuple[str, ...]:
        moves = answers_of(self.worlds, _FAR)
        shares = self.shares(horizon=_FAR).draws[:, -1].mean(axis=0)
        shocks, variables = self.study.parts.system.shocks, self.study.parts.readings.variables
        every = [(j, i) for j in variables for i in range(len(shocks)) if shares[j, i] > 0]
        pairs = sorted(every, key=lambda one: -shares[one])
        lines = [
            self._answer_words(moves[:, :, j, i], self.variables[j], shocks[i], shares[j, i])
            for j, i in pairs[:_MOST_SENTENCES]
        ]
        if len(pairs) > _MOST_SENTENCES:
            lines.append(f"... and {len(pairs) - _MOST_SENTENCES} answers more in responses().")
        lines.append(self._slowest_words())
        lines.append(
            "Not asked: whether the equations are right. Compare them with others, and with "
            "vector_autoregression, by their forecasts."
        )
        return tuple(lines)

    def _slowest_words(self) -> str:
        roots = np.array([path.roots[path.roots < 1].max() for path in self.worlds.paths])
        if roots.max() < _SAME:
            return "Nothing lasts: shocks are gone at the next time."
        gone = f"half of what lasts longest is gone after {_steps_words(_half_life(roots))}."
        if np.ptp(roots) < _SAME:
            return f"The slowest root of the stable path is {roots[0]:.3g} at every draw: {gone}"
        words = size_words(roots, self.level, self.kind)
        return f"The slowest root of the stable path is {words}: {gone}"

    def _answer_words(self, moves: np.ndarray, variable: str, shock: str, share: float) -> str:
        middle = np.median(moves, axis=0)
        peak = int(np.argmax(np.abs(middle)))
        low, high = interval(moves[:, peak], self.level, self.kind)
        spread = float(moves[:, peak].std(ddof=1))
        told = fixed(float(middle[peak]), decimals_of(spread))
        words = (
            f"{kind_words(self.kind, self.level)} {range_text(float(low), float(high), spread)}"
        )
        when = "at once" if peak == 0 else f"after {_steps_words(peak)}"
        later = np.flatnonzero(np.abs(middle[peak:]) <= abs(middle[peak]) / 2)
        gone = (
            f"half of it is gone after {_steps_words(int(later[0]))} more"
            if len(later)
            else f"after {_FAR} steps more than half of it is left"
        )
        return (
            f"A shock of one sd of `{visible(shock)}` moves `{visible(variable)}` most {when}, by "
            f"{told} ({words}); {gone}. Such shocks make {100 * share:.0f} % of "
            f"its variance {_FAR} steps ahead."
        )

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        if self._stopped:
            return {**super().record, "responses": []}
        table = self.responses(horizon=12).table().reset_index()
        return {
            **super().record,
            "responses": [
                {
                    "shock": row["shock of"],
                    "variable": row["answer of"],
                    "step": int(row["step"]),
                    "median": float(row["median"]),
                    "interval_low": float(row.iloc[6]),
                    "interval_high": float(row.iloc[7]),
                }
                for _, row in table.iterrows()
            ],
        }


def _half_life(roots: np.ndarray) -> float:
    """Return the median number of steps after which half is left."""
    return float(np.median(np.log(0.5) / np.log(roots.clip(1e-12, 1 - 1e-12))))


def _steps_words(steps: float) -> str:
    told = f"{steps:.0f}" if isinstance(steps, int) or steps >= 10 else f"{steps:.1f}"
    return f"{told} step{'s' * (told != '1')}"
