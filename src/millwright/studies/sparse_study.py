"""Which of many candidates matter: slopes are pulled to 0 unless the data speak for them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from millwright.checks import check_positive
from millwright.errors import ArgumentError
from millwright.posterior.posterior import Posterior
from millwright.studies.families import family_named
from millwright.studies.findings import Findings
from millwright.studies.reading import find_column, quoted, table_of
from millwright.studies.regression_study import (
    RegressionStudy,
    rebuild as rebuild_regression,
    regression,
)
from millwright.studies.selection_data import candidate_formula
from millwright.studies.shrinkage import usual_size
from millwright.studies.sparse_findings import SparseFindings
from millwright.studies.study import Study
from millwright.wording import setting

__all__ = ["SparseStudy", "sparse_selection"]

_PRIOR_DRAWS = 4000
_REGIONS = {"logit": 0.18, "log": 0.1, "probit": 0.1, "cloglog": 0.1}


@dataclass(frozen=True, eq=False, kw_only=True)
class SparseStudy(RegressionStudy):
    """Candidates for a regression of any family, under a regularised horseshoe.

    Attributes
    ----------
    terms
        Names of the candidates, with the columns of each.
    """

    name: ClassVar[str] = "sparse_selection"

    terms: Mapping[str, tuple[str, ...]] = field(repr=False)

    @property
    def kind(self) -> str:
        """What the study is called."""
        return "variable_selection"

    @property
    def region(self) -> float:
        """Half the width of the region around 0 in which a slope counts as out."""
        return float(self.settings["rope"][1])

    @cached_property
    def free(self) -> tuple[str, ...]:
        """Candidates whose slopes are pulled to 0."""
        pulled = set(next(iter(self.parts.values())).shrunk)
        return tuple(name for name, columns in self.terms.items() if pulled & set(columns))

    @cached_property
    def prior(self) -> tuple[np.ndarray, np.ndarray]:
        """Prior probability of each candidate and of each number of them, by draws."""
        inside = self._inside_before(self.region)
        sizes = np.bincount(inside.sum(axis=1), minlength=len(self.terms) + 1) / len(inside)
        return inside.mean(axis=0), sizes

    def prior_beyond(self, region: float) -> np.ndarray:
        """Return the prior probability of each candidate with another region."""
        return np.asarray(self._inside_before(region).mean(axis=0))

    @cached_property
    def _slopes_before(self) -> dict[str, np.ndarray]:
        shrunk = self.parts["regression"].shrunk
        drawn = self.model.simulate(self.data_of("regression"), draws=_PRIOR_DRAWS, seed=0)
        slopes = drawn.draws.get("candidate_slope").reshape(-1, len(shrunk))
        return dict(zip(shrunk, slopes.T, strict=True))

    def _inside_before(self, region: float) -> np.ndarray:
        """Return which candidates are in at draws of the prior, (draws, terms)."""
        slopes, free = self._slopes_before, set(self.free)
        always = np.ones(_PRIOR_DRAWS, bool)
        every = [
            np.any([np.abs(slopes[one]) > region for one in columns if one in slopes], axis=0)
            if name in free
            else always
            for name, columns in self.terms.items()
        ]
        return np.stack(every, axis=1)

    def _found(self, posteriors: Mapping[str, Posterior], settings: Mapping[str, Any]) -> Findings:
        return SparseFindings(study=self, posteriors=posteriors, fit_settings=settings)


def sparse_selection(
    data: Any,
    outcome: str | None,
    candidates: Sequence[str] | str | None,
    *,
    always: Sequence[str],
    expected_size: float | None,
    region: float | None,
    missing: str,
    **settings: Any,
) -> SparseStudy:
    """Return the study; see `variable_selection`."""
    width = None if region is None else check_positive("region", region)
    frame = table_of(data)
    name = find_column(frame, outcome, "outcome")
    named = [settings[key] for key in ("trials", "exposure") if settings.get(key) is not None]
    for one in named:
        find_column(frame, one, "trials")
    read = candidate_formula(frame, name, candidates, leave_out=named)
    forced = [always] if isinstance(always, str) else list(always)
    formula = f"{quoted(name)} ~ {read.text.partition('~')[2].strip()}"
    if expected_size is None:
        terms = [str(term) for term in read.right if str(term) not in ("0", "1")]
        expected_size = usual_size(max(len(terms) - len(forced), 1))
    made = regression(
        formula,
        frame,
        expected_size=expected_size,
        always=forced,
        rope=None if width is None else (-width, width),
        missing=missing,
        **settings,
    )
    return _as_selection(made)


def _as_selection(made: RegressionStudy) -> SparseStudy:
    """Return a regression of candidates as a study of which matter."""
    parts = made.parts["regression"]
    settings = dict(made.settings)
    if settings["rope"] is None:
        _, link = family_named(settings["family"], settings["link"])
        width = _REGIONS.get(link, 0.1 * parts.unit)
        settings["rope"] = (-width, width)
        rule = _rule(link)
    else:
        rule = "stated by you"
    kept = {one.name: getattr(made, one.name) for one in fields(made)}
    terms = {term.replace("`", ""): tuple(cs) for term, cs in parts.design.terms.items()}
    width = settings["rope"][1]
    of = "`" + parts.outcome + "`"
    kept |= {
        "question": f"Which of {len(terms)} candidates matter for {of}?",
        "settings": settings,
        "choices": (
            *made.choices,
            f"In: a slope beyond {width:g} on either side, for one sd of its column ({rule}); of "
            "several columns any of them. No slope is exactly 0, so this is an approximation to "
            "weighing models with and without a candidate."
            + " Interactions may be in without their parents."
            * any(":" in one for one in terms),
        ),
        "terms": terms,
    }
    return SparseStudy(**kept)


def _rule(link: str) -> str:
    if link == "identity":
        return "a tenth of the outcome's sd"
    if link == "logit":
        return "a tenth of the sd of the logistic distribution, on the scale of log odds"
    return f"a tenth on the {link} scale"


def refuse_search(given: Mapping[str, Any]) -> None:
    """Refuse settings of a search over subsets.

    Raises
    ------
    ArgumentError
        Which names the first.
    """
    if given:
        raise ArgumentError(
            f"{setting(next(iter(given)))} is of linear regressions weighed one by one; here all "
            "candidates are in one model, with slopes that are pulled to 0."
        )


def rebuild(data: pd.DataFrame, settings: Mapping[str, Any], remarks: tuple[str, ...]) -> Study:
    """Return a stored study."""
    return _as_selection(rebuild_regression(data, settings, remarks))
