"""Simulation-based calibration: whether fits recover what data were simulated from.

Talts, Betancourt, Simpson, Vehtari and Gelman (2018), "Validating Bayesian inference algorithms
with simulation-based calibration": over truths drawn from the prior, the rank of the truth among
posterior draws is uniform.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.diagnostics.uniformity import even_probability
from millwright.display import Shown, text_table
from millwright.errors import ArgumentError, nearest
from millwright.models.replications import Replicated, replicated
from millwright.sampling.streams import Stream, generator_of

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Calibration", "calibrate"]

_DRAWS = 99
_FEW = 100
_MOSTLY = 0.9
_LEVEL = 0.05
_CLEAR = 2.5
_SD_OF_A_SHARE = np.sqrt(1 / 12)
_SD_OF_A_SQUARE = np.sqrt(1 / 180)


@dataclass(frozen=True, kw_only=True)
class Calibration(Shown):
    """The result of `Model.calibration`.

    Attributes
    ----------
    ranks
        For each quantity the rank of the truth among `draws` posterior draws, from 0, in each
        replication.
    draws
        How many posterior draws the truth was ranked among.
    shares
        The ranks as shares from 0 to 1, spread evenly where calibration is right.
    replications
        How many data sets were simulated.
    good
        How many of the fits had a good verdict.
    failures
        Data sets that could not be fitted, and why.
    """

    ranks: Mapping[str, np.ndarray] = field(repr=False)
    draws: int
    shares: Mapping[str, np.ndarray] = field(repr=False)
    replications: int
    good: int
    failures: Mapping[Any, str] = field(default_factory=dict)

    @property
    def p_values(self) -> dict[str, float]:
        """For each quantity how often calibrated fits would stray from even ranks as far."""
        return {name: even_probability(value) for name, value in self.shares.items()}

    @property
    def calibrated(self) -> bool:
        """Whether no quantity strays further than chance explains, given how many there are."""
        return all(not words for words in self._words().values())

    def table(self) -> pd.DataFrame:
        """Return one row a quantity.

        Returns
        -------
        p-value of the ranks being even; mean rank as a share (0.5 is right; below it the posterior
        lies too high, above it too low); spread of the ranks over that of even ones (1 is right;
        larger: intervals are too narrow, smaller: too wide); and what is wrong in words.
        """
        import pandas as pd

        words = self._words()
        rows = {
            name: {
                "p-value": p,
                "mean rank": float(self.shares[name].mean()),
                "spread of ranks": _spread(self.shares[name]),
                "in words": words[name] or "calibrated",
            }
            for name, p in self.p_values.items()
        }
        return (
            pd.DataFrame(rows)
            .T.rename_axis("quantity")
            .astype({"p-value": float, "mean rank": float, "spread of ranks": float})
        )

    def _words(self) -> dict[str, str]:
        limit = _LEVEL / len(self.shares)
        return {
            name: _what_is_wrong(self.shares[name]) if p < limit else ""
            for name, p in self.p_values.items()
        }

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        table = self.table()
        return {
            "calibrated": self.calibrated,
            "replications": self.replications,
            "good_fits": self.good,
            "draws": self.draws,
            "quantities": {
                name: {
                    "p_value": float(row["p-value"]),
                    "mean_rank": float(row["mean rank"]),
                    "spread_of_ranks": float(row["spread of ranks"]),
                    "words": row["in words"],
                    "ranks": [int(rank) for rank in self.ranks[str(name)]],
                }
                for name, row in table.iterrows()
            },
            "failures": {str(name): why for name, why in self.failures.items()},
        }

    def _headline(self, count: int) -> str:
        """Say the result, and no more than so many data sets and such fits can show."""
        if not self.calibrated:
            return f"NOT CALIBRATED, over {count} simulated data sets:"
        if count < _FEW:
            return (
                f"No fault seen in {count} simulated data sets: too few to call the model "
                f"calibrated, which takes {_FEW} or more."
            )
        doubt = (
            "" if self.good >= _MOSTLY * count else " Many of the fits are doubtful, see below."
        )
        return (
            f"Calibrated: over {count} simulated data sets the truth lies among the posterior "
            f"draws as often in each place as it should.{doubt}"
        )

    def __str__(self) -> str:
        table = self.table()
        bad = [f"`{name}` is not calibrated: {w}." for name, w in self._words().items() if w]
        count = len(next(iter(self.shares.values())))
        first = self._headline(count)
        columns = {
            "p-value": [f"{p:.3f}" if p >= 0.001 else "< 0.001" for p in table["p-value"]],
            "mean rank": [f"{x:.2f}" for x in table["mean rank"]],
            "spread of ranks": [f"{x:.2f}" for x in table["spread of ranks"]],
            "": list(table["in words"]),
        }
        keys = (
            "p-value: how often calibrated fits would stray as far from even ranks; "
            f"{_LEVEL / len(self.shares):.2g} or more for each of {len(self.shares)} is good. "
            "Mean rank: 0.5 is right; lower: the posterior lies too high. Spread: 1 is right; "
            "larger: intervals are too narrow."
        )
        fits = f"{self.good} of {count} fits have a good verdict."
        failed = []
        if self.failures:
            why = next(iter(self.failures.values())).splitlines()[0]
            failed = [f"{len(self.failures)} data sets could not be fitted; the first: {why}"]
        return "\n".join(
            [first, *bad, text_table(list(table.index), columns), keys, fits, *failed]
        )


def calibrate(
    model: Any,
    data: Any,
    replications: int,
    seed: int,
    rows: int | None,
    names: list[str] | None,
    settings: Mapping[str, Any],
) -> Calibration:
    """Simulate data sets, fit each, and rank the truths; see `Model.calibration`."""
    made = replicated(model, data, replications, seed, None, rows, settings)
    known = [name for name, value in made.truths.items() if np.ptp(value) > 0]
    chosen = known if names is None else names
    for name in chosen:
        if name not in known:
            raise ArgumentError(
                f"`{name}` is not a number that varies with the prior.{nearest(name, known)} "
                f"There are: {', '.join(known[:12])}."
            )
    generator = generator_of(seed, Stream.RANKS)
    ranks, draws = _ranks(made, chosen, generator)
    shares = {
        name: (value + generator.random(len(value))) / (draws + 1) for name, value in ranks.items()
    }
    return Calibration(
        ranks=ranks,
        draws=draws,
        shares=shares,
        replications=replications,
        good=made.good,
        failures=made.fits.failures,
    )


def _ranks(
    made: Replicated, names: list[str], generator: np.random.Generator
) -> tuple[dict[str, np.ndarray], int]:
    """Rank each truth among draws that are far enough apart to be independent."""
    ranks: dict[str, list[int]] = {name: [] for name in names}
    count = 0
    for number, posterior in enumerate(made.posteriors):
        single = posterior.draws.single()
        for name in names:
            flat = single[name].reshape(-1)
            count = min(_DRAWS, len(flat))
            some = flat[np.linspace(0, len(flat) - 1, count).astype(int)]
            truth = made.truths[name][number]
            equal = int(np.sum(some == truth))
            ranks[name].append(int(np.sum(some < truth)) + int(generator.integers(equal + 1)))
    return {name: np.array(value) for name, value in ranks.items()}, count


def _spread(shares: np.ndarray) -> float:
    return float(np.mean((shares - 0.5) ** 2) / _SD_OF_A_SHARE**2)


def _what_is_wrong(shares: np.ndarray) -> str:
    """Say which way ranks stray."""
    size = np.sqrt(len(shares))
    # In their own spread: ranks that pile up at both ends have a mean that varies more.
    lean = (shares.mean() - 0.5) / (shares.std() + 1e-12) * size
    spread = (np.mean((shares - 0.5) ** 2) - _SD_OF_A_SHARE**2) / _SD_OF_A_SQUARE * size
    # Ranks that lean are spread unevenly too, and say nothing of the width of intervals.
    if abs(lean) > _CLEAR:
        return "the posterior lies too high" if lean < 0 else "the posterior lies too low"
    if abs(spread) > _CLEAR:
        return f"its intervals are too {'narrow' if spread > 0 else 'wide'}"
    return "its shape is not right"
