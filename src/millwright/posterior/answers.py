"""What a posterior answers: tables, intervals, statements, decisions.

pandas and xarray take longer to load than a small fit takes to sample, so the rooms that need
them are imported where they are used.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from millwright.diagnostics.modes import mode_notes
from millwright.draws.contrasts import contrasts
from millwright.draws.decision import Decision, decide
from millwright.draws.expressions import chosen_numbers, single_numbers
from millwright.draws.intervals import IntervalKind, check_level, interval
from millwright.draws.region import highest_density_region
from millwright.draws.statements import Probabilities, Probability, probability_of
from millwright.draws.supports import never_negative
from millwright.draws.table import Order, Table, TableKind, make_table
from millwright.draws.table_forms import Form, written
from millwright.posterior.fit import Held

if TYPE_CHECKING:
    import pandas as pd
    import xarray as xr

__all__ = ["Answers"]


class Answers(Held):
    """A posterior as far as its tables, intervals, statements and decisions go."""

    def __str__(self) -> str:
        return f"{self.verdict}\n\n{self.summary()}"

    def _repr_html_(self) -> str:
        return f"{self.verdict._repr_html_()}\n{self.summary(form='html')}"

    def table(
        self,
        names: str | Sequence[str] | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        order: Order = "definition",
    ) -> pd.DataFrame:
        """Summarise the posterior, one row a quantity.

        Parameters
        ----------
        names
            Quantities to show, single numbers of them (`share[Marsh]`), or expressions
            (`drying / noise`); by default all unknown and derived quantities but those with one
            value a row.
        level, kind
            Level and kind of the credible interval: `central`, `hdi`, or `both`.
        order
            `definition`: as written. `mean`: the largest first. `R-hat`, `ESS`: the worst first.

        Returns
        -------
        Mean, sd, median, interval, probability above 0 (not a number for quantities that cannot
        be negative), R-hat (1.00 is perfect, up to 1.01 is
        good, larger is worse), bulk and tail ESS (more is better), Monte Carlo standard error
        of the mean.

        Raises
        ------
        UnknownLabelError
            For a quantity that is not there.
        ArgumentError
            For a level outside (0, 1), another kind or order.
        """
        import pandas as pd

        table = self._table(names, level, kind, order)
        return pd.DataFrame(table.columns, index=pd.Index(table.names, name="quantity"))

    def _table(
        self,
        names: str | Sequence[str] | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        order: Order = "definition",
    ) -> Table:
        with np.errstate(invalid="ignore", over="ignore"):
            single = chosen_numbers(self.draws, names)
            one_sided = never_negative(self.draws)
            table = make_table(single, level, kind, order, self.measures, one_sided)
        sizes = np.concatenate([table.columns["bulk ESS"], table.columns["tail ESS"]])
        return replace(table, notes=(*table.notes, *mode_notes(self._modes, sizes)))

    def summary(
        self,
        names: str | Sequence[str] | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        order: Order = "definition",
        form: Form = "text",
    ) -> str:
        """Return the table as text; each row has the decimals at which its sd has two digits.

        Where the draws do not support the last digit, a line below says so.

        Parameters
        ----------
        names, level, kind, order
            As for `table`.
        form
            `text`, `markdown`, `html`, `latex`, or `csv` (all rows and digits). The others fold
            long tables: of a definition with many numbers they show the extremes.
        """
        return written(self._table(names, level, kind, order), form)

    def __getitem__(self, name: str) -> xr.DataArray:
        """Return draws of a quantity.

        Returns
        -------
        Dimensions `draw` (all chains, one after the other) and one for each label set; `chain`
        and `iteration`, both counted from 1, are coordinates on `draw`.
        """
        from millwright.draws.arrays import labelled_array

        return labelled_array(self.draws, name)

    def frame(self) -> pd.DataFrame:
        """Return all draws, one row a draw: `chain`, `draw` (from 1), one column a number."""
        import pandas as pd

        chains, draws = self.draws.shape
        columns: dict[str, Any] = {
            "chain": np.repeat(np.arange(1, chains + 1), draws),
            "draw": np.tile(np.arange(1, draws + 1), chains),
        }
        columns |= {name: value.reshape(-1) for name, value in self.draws.single().items()}
        return pd.DataFrame(columns)

    def interval(
        self, name: str, level: float = 0.95, kind: IntervalKind = "central"
    ) -> xr.DataArray:
        """Return both ends of a credible interval, with a dimension `end` (low, high).

        Raises
        ------
        ArgumentError
            For a level outside (0, 1) or another kind.
        """
        import xarray as xr

        value = self[name]
        low, high = interval(value.values, check_level(level), kind)
        labels = {axis: value.coords[axis] for axis in value.dims if axis != "draw"}
        return xr.DataArray(
            np.stack([low, high]),
            dims=("end", *value.dims[1:]),
            coords={"end": ["low", "high"], **labels},
            name=name,
            attrs={"kind": kind, "level": level},
        )

    def highest_density_region(self, quantity: str, level: float = 0.95) -> pd.DataFrame:
        """Return the region of highest density, in several pieces where it has gaps.

        `interval(kind="hdi")` is always one piece; for a posterior with two humps it holds the
        valley between them too.

        Parameters
        ----------
        quantity
            A quantity or an expression.
        level
            Posterior probability inside.

        Returns
        -------
        One row a piece: quantity, piece (from 1), from, to, and the share of the posterior
        inside.
        """
        import pandas as pd

        rows = []
        for name, value in single_numbers(self.draws, quantity).items():
            flat = value.reshape(-1)
            for at, (low, high) in enumerate(highest_density_region(flat, level), start=1):
                share = float(np.mean((flat >= low) & (flat <= high)))
                rows.append((name, at, low, high, share))
        return pd.DataFrame(rows, columns=["quantity", "piece", "from", "to", "share inside"])

    def probability(self, statement: str) -> Probability | Probabilities:
        """Return the posterior probability of a statement, such as `drying < 0`.

        A statement about a quantity with labels gives one answer for each label; `all(...)` or
        `any(...)` around it gives one joint answer. Printed, a comparison says what a one-sided
        and a two-sided reading make of it.

        Raises
        ------
        ArgumentError
            If it is not a comparison.
        LanguageError, ModelError
            If it cannot be read or names what is not there.
        """
        return probability_of(self.draws, statement)

    def contrasts(
        self,
        name: str,
        against: str | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        over: str | None = None,
    ) -> pd.DataFrame:
        """Summarise the differences between the levels of a quantity, one row a difference.

        Parameters
        ----------
        name
            A quantity with labels, or an expression such as `line["slope"]`.
        against
            The level to compare all others with; by default each pair, later minus earlier.
        level, kind
            As for `table`, whose columns these are.
        over
            The label set whose levels are compared, by default the first; each difference is
            taken within each label of the other sets.

        Raises
        ------
        ArgumentError
            For a quantity without labels, an unknown level or label set, or more than
            400 differences.
        """
        import pandas as pd

        table = make_table(contrasts(self.draws, name, against, over), level, kind)
        return pd.DataFrame(table.columns, index=pd.Index(table.names, name="difference"))

    def contrasts_text(
        self,
        name: str,
        against: str | None = None,
        level: float = 0.95,
        kind: TableKind = "central",
        over: str | None = None,
    ) -> str:
        """Return the table of `contrasts` as text, rounded like every posterior table."""
        return written(make_table(contrasts(self.draws, name, against, over), level, kind))

    def decide(
        self,
        quantity: str,
        rope: tuple[float, float] | None = None,
        null: float | None = None,
        level: float = 0.95,
        kind: IntervalKind = "hdi",
    ) -> Decision:
        """Decide by an interval against a region of practical equivalence, or a single value.

        Reject: the interval lies wholly outside. Accept: wholly inside (never for a single
        value). Withhold: neither (Kruschke 2018).

        Parameters
        ----------
        quantity
            A quantity or an expression, such as `drying / noise` for a standardised effect.
        rope
            Ends of the region of values that are as good as equal.
        null
            A single value instead.
        level, kind
            Level and kind of the interval.

        Raises
        ------
        ArgumentError
            For neither or both of `rope` and `null`, or a region that is none.
        """
        numbers = single_numbers(self.draws, quantity)
        return replace(decide(quantity, numbers, rope, null, level, kind), verdict=self.verdict)
