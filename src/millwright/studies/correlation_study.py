"""The study of correlation: two columns of numbers, or each pair of several."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import is_among
from millwright.draws.decision import region_ends
from millwright.errors import ArgumentError, DataError
from millwright.language.parse import normal_name
from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.studies.checks import check_number
from millwright.studies.correlation_data import CorrelationData, column_table
from millwright.studies.correlation_findings import CorrelationFindings
from millwright.studies.exact import exact_fit
from millwright.studies.findings import Findings
from millwright.studies.rho import RhoPosterior, RhoPrior, sample_correlation
from millwright.studies.rho_draws import joint_draws
from millwright.studies.study import Fitting, Study
from millwright.wording import setting

__all__ = ["CorrelationStudy", "correlation"]

_FORMS = ("normal", "ranks", "robust")
_DEFINITIONS = ("share", "rho", "centre", "log_spread", "spread", "df", "df_above_one")
_DRAWS = 2500
_DRAWS_OF_MANY = 500


@dataclass(frozen=True, eq=False, kw_only=True)
class CorrelationStudy(Study):
    """Correlations of pairs of columns.

    Attributes
    ----------
    columns
        The columns, or their normal scores.
    """

    name: ClassVar[str] = "correlation"

    columns: CorrelationData = field(repr=False)

    @property
    def prior(self) -> RhoPrior:
        """The prior of each correlation."""
        low, high = _ENDS[self.settings["direction"]]
        return RhoPrior(float(self.settings["width"]), low, high)

    @cached_property
    def pair_of(self) -> dict[str, tuple[str, str]]:
        """The pair of columns of each model."""
        return dict(zip(self.models, self.columns.pairs, strict=True))

    def data_of(self, name: str) -> pd.DataFrame:
        """Return the complete rows of a pair."""
        rows = self.columns.rows(self.pair_of[name])
        return rows.rename(columns=_in_model)

    def data_lines(self) -> tuple[str, ...]:
        """Return the sample correlation of each pair."""
        lines = []
        for one, other in self.columns.pairs[:15]:
            rows = self.columns.rows((one, other)).to_numpy(float)
            found = sample_correlation(*rows.T)
            lines.append(f"`{one}` and `{other}`: {found.n} rows, r = {found.r:.3f}.")
        if len(self.columns.pairs) > 15:
            lines.append(f"... and {len(self.columns.pairs) - 15} pairs more.")
        return tuple(lines)

    def _held(self, name: str) -> Mapping[str, Any]:
        """Centres and spreads have flat priors: a simulation holds them at those of the data."""
        rows = self.data_of(name).to_numpy(float)
        return {"centre": rows.mean(axis=0), "log_spread": np.log(rows.std(axis=0, ddof=1))}

    def _fit_one(self, name: str, how: Fitting) -> Posterior:
        if self.settings["form"] == "robust":
            return super()._fit_one(name, how)
        rows = self.data_of(name)
        posterior_of_rho = self.rho(self.pair_of[name])

        def drawn(generator: np.random.Generator, draws: int) -> dict[str, np.ndarray]:
            return joint_draws(posterior_of_rho, rows.to_numpy(float), generator, draws)

        usual = {"draws": _DRAWS if len(self.models) == 1 else _DRAWS_OF_MANY}
        words = (
            "independent draws: the correlation by quadrature of the density of r, spreads and "
            "centres given it"
        )
        settings = {**usual, **how.settings}
        return exact_fit(self.models[name], rows, drawn, words, settings, how.save)

    def rho(self, pair: tuple[str, str], prior: RhoPrior | None = None) -> RhoPosterior:
        """Return the exact posterior of the correlation of a pair."""
        rows = self.columns.rows(pair).to_numpy(float)
        return RhoPosterior(sample_correlation(*rows.T), prior or self.prior)

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return CorrelationFindings(study=self, posteriors=posteriors, fit_settings=settings)


def _in_model(column: str) -> str:
    """Return what the model calls a column: another name than those of its own."""
    return f"{column}_column" if normal_name(column) in (*_DEFINITIONS, "values") else column


_ENDS = {"both": (-1.0, 1.0), "positive": (0.0, 1.0), "negative": (-1.0, 0.0)}


def correlation(
    data: Any,
    first: str | None = None,
    second: str | None = None,
    *,
    columns: Sequence[str] | None = None,
    form: str = "normal",
    width: float = 1.0,
    direction: str = "both",
    rope: tuple[float, float] | None = None,
    missing: str = "refuse",
) -> CorrelationStudy:
    """Ask how strongly columns of numbers go together.

    Parameters
    ----------
    data
        DataFrame, or mapping of columns.
    first, second
        Two columns of numbers.
    columns
        Instead: several columns, each pair of which is looked at; by default all of numbers.
    form
        `normal`: the correlation of a bivariate normal distribution, exact. `ranks`: that of the
        normal scores of the ranks, for relations that rise or fall without being a line, exact.
        `robust`: of a bivariate Student t distribution, which outliers move little, sampled.
    width
        Of the prior of a correlation, a beta distribution stretched over -1 to 1 with
        alpha = beta = 1 / width: 1 is uniform, less holds it closer to 0.
    direction
        `both`, or a prior on one side only: `positive`, `negative`.
    rope
        Region of practical equivalence of the correlation.
    missing
        `refuse` rows with a gap, `drop` them, or use for each `pairs` of columns the rows that are
        complete in both.

    Returns
    -------
    The study; nothing is sampled yet.

    Raises
    ------
    ArgumentError
        For columns or settings that make no sense.
    DataError
        For fewer than three rows, constant columns, or points on a line.
    """
    if form not in _FORMS:
        raise ArgumentError(f"`form` must be one of {', '.join(_FORMS)}, not {form!r}.")
    found = column_table(data, first, second, columns, missing, form == "ranks")
    settings = {"form": form, "width": width, "direction": direction, "rope": rope}
    return build(found, settings)


def build(found: CorrelationData, settings: Mapping[str, Any]) -> CorrelationStudy:
    """Return the study of columns under settings, all checked."""
    check_number("width", settings["width"])
    if settings["width"] <= 0:
        raise ArgumentError(f"`width` must be above 0, not {settings['width']!r}.")
    if not is_among(settings["direction"], _ENDS):
        raise ArgumentError(
            f"`direction` must be one of {', '.join(_ENDS)}, not {settings['direction']!r}."
        )
    if settings["rope"] is not None:
        region_ends(settings["rope"])
    pairs = found.pairs
    models = {}
    for pair in pairs:
        if settings["form"] == "robust":
            _refuse_equal_points(found.rows(pair), pair)
        name = settings["form"] if len(pairs) == 1 else f"{pair[0]}, {pair[1]}"
        models[name] = _model(pair, settings)
    return CorrelationStudy(
        question=_question(found, settings),
        data=found.frame,
        models=models,
        choices=_choices(settings),
        remarks=found.remarks,
        settings=settings,
        columns=found,
    )


def _refuse_equal_points(rows: pd.DataFrame, pair: tuple[str, str]) -> None:
    """Refuse points that pull the spread of heavy tails to zero, without end."""
    point, most = Counter(map(tuple, rows.to_numpy(float).tolist())).most_common(1)[0]
    if 2 * most >= len(rows):
        raise DataError(
            f"{most} of {len(rows)} rows of `{pair[0]}` and `{pair[1]}` are {point}: heavy tails "
            f"could shrink onto that point without end. Choose {setting('form', 'normal')}."
        )


def _model(pair: tuple[str, str], settings: Mapping[str, Any]) -> Model:
    """Return the model of a pair: flat on centres and log spreads, a stretched beta on rho."""
    values = "values"
    weight = number_text(1 / settings["width"])
    ends = {"both": "", "positive": ", low=0.5", "negative": ", high=0.5"}
    priors = {
        "share": f"beta(alpha={weight}, beta={weight}{ends[settings['direction']]})",
        "centre": f"flat() per {values}",
        "log_spread": f"flat() per {values}",
    }
    derived = {"rho": "2 * share - 1", "spread": "exp(log_spread)"}
    matrix = "correlation=[[1, rho], [rho, 1]]"
    likelihood = f"multivariate_normal(centre, scales=spread, {matrix})"
    if settings["form"] == "robust":
        priors["df_above_one"] = "exponential(rate=1 / 29)"
        derived["df"] = "1 + df_above_one"
        likelihood = f"multivariate_student_t(centre, scales=spread, {matrix}, df=df)"
    return Model(
        title=f"Correlation of {pair[0]} and {pair[1]}",
        priors=priors,
        likelihood={values: likelihood},
        derived=derived,
        columns={values: [_in_model(column) for column in pair]},
    )


def _choices(settings: Mapping[str, Any]) -> tuple[str, ...]:
    width = settings["width"]
    prior = (
        "uniform from -1 to 1"
        if width == 1
        else f"a beta distribution stretched over -1 to 1, width {width:g} (alpha = beta = "
        f"{1 / width:g})"
    )
    side = {"both": "", "positive": ", above 0 only", "negative": ", below 0 only"}
    lines = [
        f"The correlation has the prior {prior}{side[settings['direction']]}; rho = 2 share - 1.",
        "Centres and logarithms of spreads have flat priors: the answer then rests on r and the "
        "number of rows alone.",
    ]
    if settings["form"] == "normal":
        lines.append("Exact: the density of r given the correlation (Hotelling 1953).")
    elif settings["form"] == "ranks":
        lines.append(
            "Values are replaced by normal scores of their ranks (Blom 1958), and the correlation "
            "is that of the scores. Exact given the scores."
        )
    else:
        lines.append(
            "A bivariate Student t distribution; its degrees of freedom are 1 + an exponential "
            "with mean 29. Sampled. Of heavy tails rho is the correlation of the ellipses."
        )
    return tuple(lines)


def _question(found: CorrelationData, settings: Mapping[str, Any]) -> str:
    names = [f"`{name}`" for name in found.frame.columns]
    of = "the ranks of " if settings["form"] == "ranks" else ""
    if len(names) == 2:
        return f"How strongly do {of}{names[0]} and {names[1]} go together?"
    return f"How strongly do {of}the {len(names)} columns go together, pair by pair?"


def rebuild(
    data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]
) -> CorrelationStudy:
    """Return a stored study."""
    rope = settings["rope"]
    found = CorrelationData(frame=data, remarks=remarks)
    return build(found, {**settings, "rope": None if rope is None else tuple(rope)})
