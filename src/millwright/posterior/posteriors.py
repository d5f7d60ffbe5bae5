"""The posteriors of one model for many data sets, by name."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.diagnostics.measures import measure_each
from millwright.display import Shown, middle_left_out, text_table
from millwright.draws.expressions import single_numbers
from millwright.draws.intervals import IntervalKind, check_kind
from millwright.draws.supports import never_negative
from millwright.draws.table import Table, make_table
from millwright.errors import ArgumentError, MillwrightError, nearest
from millwright.fitting.fit import Fit
from millwright.posterior.posterior import Posterior
from millwright.wording import visible

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Posteriors", "judged"]

_MOST_NAMED = 8
_WORDS = {
    "Converged": "converged",
    "USE WITH CARE": "to be used with care",
    "NOT CONVERGED": "NOT CONVERGED",
}


@dataclass(frozen=True, kw_only=True)
class Posteriors(Shown, Mapping[Any, Posterior]):
    """The posteriors of one model for many data sets; `posteriors["Upper"]` is that of one.

    Attributes
    ----------
    posteriors
        By the name of the data set.
    failures
        Data sets that could not be fitted, each with the reason.
    again
        Data sets that were fitted again by the no-U-turn sampler, since the quick way left
        doubts; what counts is that second fit.
    searched
        In how many data sets separate modes were searched for, of those that went the quick way.
    by
        The column that cut one table into data sets.
    """

    posteriors: Mapping[Any, Posterior] = field(repr=False)
    failures: Mapping[Any, str] = field(default_factory=dict)
    again: tuple[Any, ...] = ()
    searched: int = 0
    by: str | None = None

    def __getitem__(self, name: Any) -> Posterior:
        if name in self.posteriors:
            return self.posteriors[name]
        if name in self.failures:
            raise ArgumentError(
                f"The data set {name!r} could not be fitted: {self.failures[name]}"
            )
        known = list(map(str, self.posteriors))
        shown = ", ".join(known[:_MOST_NAMED]) + (", ..." if len(known) > _MOST_NAMED else "")
        raise ArgumentError(
            f"There is no data set {name!r}.{nearest(str(name), known)} Data sets: {shown}."
        )

    def __iter__(self) -> Iterator[Any]:
        return iter(self.posteriors)

    def __len__(self) -> int:
        return len(self.posteriors)

    def __contains__(self, name: object) -> bool:
        return name in self.posteriors

    @property
    def verdicts(self) -> dict[Any, str]:
        """The verdict of each data set in one line; of those that failed the reason."""
        words = {name: one.verdict.headline for name, one in self.posteriors.items()}
        return {**words, **{name: f"FAILED: {_first(why)}" for name, why in self.failures.items()}}

    @property
    def good(self) -> bool:
        """Whether every data set was fitted and every verdict is good."""
        return not self.failures and all(one.verdict.good for one in self.posteriors.values())

    def draws_of(self, quantity: str) -> dict[tuple[Any, str], np.ndarray]:
        """Return the draws of a quantity by data set and name, each of shape (chains, draws).

        Raises
        ------
        UnknownLabelError, ModelError
            If no data set has it.
        """
        found: dict[tuple[Any, str], np.ndarray] = {}
        reason: MillwrightError | None = None
        for name, posterior in self.posteriors.items():
            try:
                numbers = single_numbers(posterior.draws, quantity)
            except MillwrightError as error:
                # A label that only some data sets have.
                reason = error
                continue
            found |= {(name, part): values for part, values in numbers.items()}
        if not found and reason is not None:
            raise reason
        if not found:
            raise ArgumentError("None of the data sets could be fitted.")
        return found

    def table(
        self, quantity: str, level: float = 0.95, kind: IntervalKind = "central"
    ) -> pd.DataFrame:
        """Return a quantity in all data sets, one row each.

        Parameters
        ----------
        quantity
            A quantity, or an expression such as `slope / noise`. With labels it has a row for
            each label.
        level, kind
            Level and kind of the credible interval: `central` or `hdi`.

        Returns
        -------
        Mean, sd, median, interval, probability above 0, effective draws, R-hat, and the verdict
        on the fit; the last column of data sets that could not be fitted says why.

        Raises
        ------
        UnknownLabelError, ModelError
            If no data set has the quantity.
        ArgumentError
            For a level outside (0, 1) or another kind.
        """
        import pandas as pd

        rows, table = self._table(quantity, level, kind)
        frame = pd.DataFrame(table.columns)
        verdicts = self.verdicts
        frame["verdict"] = [verdicts[name] for name, _ in rows]
        failed = pd.DataFrame(
            {"verdict": [verdicts[name] for name in self.failures]}, columns=frame.columns
        )
        names: list[tuple[Any, ...]] = [(name, part) for name, part in rows]
        if len(failed):
            frame = pd.concat([frame, failed.astype(frame.dtypes)], ignore_index=True)
            names += [(name, quantity) for name in self.failures]
        if len({part for _, part in rows}) == 1:
            frame.index = pd.Index([name for name, _ in names], name=self._heading)
        else:
            frame.index = pd.MultiIndex.from_tuples(names, names=[self._heading, "quantity"])
        return frame

    def summary(
        self,
        quantity: str,
        level: float = 0.95,
        kind: IntervalKind = "central",
        most: int | None = 40,
    ) -> str:
        """Return the table as text.

        Parameters
        ----------
        quantity, level, kind
            As for `table`.
        most
            How many rows to show, of a longer table the first and the last; None for all.

        Raises
        ------
        UnknownLabelError, ModelError, ArgumentError
            As for `table`.
        """
        rows, table = self._table(quantity, level, kind)
        several = len({part for _, part in rows}) > 1
        names = [f"{name}  {part}" if several else str(name) for name, part in rows]
        verdicts = self.verdicts
        shown = {column: list(cells) for column, cells in table.shown.items()}
        shown["verdict"] = [_short(verdicts[name]) for name, _ in rows]
        title = f"{visible(quantity)}, for each {self._heading}"
        # Which last digits are reliable is said of rows by the names of a single fit's quantities.
        return "\n".join(
            [title, text_table(*middle_left_out(names, shown, most)), *table.notes, *self._bad()]
        )

    def _table(
        self, quantity: str, level: float, kind: IntervalKind
    ) -> tuple[list[tuple[Any, str]], Table]:
        found = self.draws_of(quantity)
        keys = {visible(f"{name}: {part}"): (name, part) for name, part in found}
        sided = {
            name: never_negative(self.posteriors[name].draws) for name in {n for n, _ in found}
        }
        one_sided = [text for text, (name, part) in keys.items() if part in sided[name]]
        draws = {text: found[key] for text, key in keys.items()}
        table = make_table(draws, level, check_kind(kind), one_sided=one_sided)
        return [keys[name] for name in table.names], table

    @property
    def _heading(self) -> str:
        return self.by or "data set"

    def __str__(self) -> str:
        total = len(self.posteriors) + len(self.failures)
        counts = Counter(_short(one.verdict.headline) for one in self.posteriors.values())
        words = [f"{counts[state]} {state}" for state in _WORDS.values() if counts[state]]
        words += [f"{n} {state}" for state, n in counts.items() if state not in _WORDS.values()]
        if self.failures:
            words.append(f"{len(self.failures)} FAILED")
        lines = [f"{total} data sets: {', '.join(words)}."]
        if self.again:
            was = "was" if len(self.again) == 1 else "were"
            lines.append(
                f"{len(self.again)} {was} fitted again by the no-U-turn sampler, since the quick "
                f"way left doubts: {_listed(self.again)}. These second fits are what counts."
            )
        if self.searched:
            lines.append(
                f"Separate modes were searched for in {self.searched} of them, and one mode was "
                "found in each."
            )
        return "\n".join([*lines, *self._bad()])

    def _bad(self) -> list[str]:
        """Name the data sets under each verdict that is not good, and those that failed."""
        found: dict[str, list[Any]] = {}
        for name, one in self.posteriors.items():
            if not one.verdict.good:
                found.setdefault(one.verdict.headline, []).append(name)
        lines = [f"{headline[:-1]}: {_listed(tuple(n))}." for headline, n in found.items()]
        return lines + [
            f"{visible(str(name))} FAILED: {_first(why)}" for name, why in self.failures.items()
        ]


def _first(why: str) -> str:
    return why.split("\n")[0]


def judged(fits: Sequence[Fit]) -> list[Posterior]:
    """Return posteriors whose convergence numbers are worked out all at once.

    The draws of all fits have one shape.
    """
    posteriors = [Posterior(fit) for fit in fits]
    if not posteriors:
        return []
    found = measure_each([one.draws.single() for one in posteriors])
    for posterior, measures in zip(posteriors, found, strict=True):
        # As the posterior would keep them itself.
        posterior.__dict__["measures"] = measures
    return posteriors


def _short(headline: str) -> str:
    state = headline.split(":")[0]
    return _WORDS.get(state, state)


def _listed(names: tuple[Any, ...]) -> str:
    shown = ", ".join(visible(str(name)) for name in names[:_MOST_NAMED])
    more = len(names) - _MOST_NAMED
    return shown + (f" and {more} more" if more > 0 else "")
