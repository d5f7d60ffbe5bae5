"""Results that weigh models and priors, as parts of a page."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from matplotlib.figure import Figure

from millwright import plots
from millwright.accuracy.cross_validation import CrossValidation
from millwright.accuracy.leave_one_out import LeaveOneOut
from millwright.accuracy.waic import Waic
from millwright.comparison.averaged_predictions import AveragedPredictions
from millwright.comparison.averaging import Averaged
from millwright.comparison.bayes_factors import BayesFactors
from millwright.comparison.compare import Comparison
from millwright.comparison.evidence_path import EvidencePath
from millwright.comparison.expected_evidence import ExpectedEvidence
from millwright.errors import ArgumentError
from millwright.evidence.bayes_factor import BayesFactor
from millwright.evidence.evidence import Evidence
from millwright.models.calibration import Calibration
from millwright.models.recovery import Recovery
from millwright.plots.choose import MOST_PANELS
from millwright.posterior.posterior import Posterior
from millwright.posterior.sensitivity import PriorSensitivity
from millwright.posterior.under_priors import UnderPriors
from millwright.reporting.pictures import Picture, picture
from millwright.studies.causal_estimates import EffectEstimates
from millwright.studies.causal_graph import CausalGraph
from millwright.studies.causal_test import GraphTest

__all__ = ["FurtherResult", "further_results"]

Draw = Callable[..., Figure]

_KINDS: dict[type, tuple[str, tuple[Draw, ...]]] = {
    Averaged: ("Models averaged", (plots.average,)),
    AveragedPredictions: ("Averaged predictions", ()),
    BayesFactor: ("Bayes factor of a statement", ()),
    BayesFactors: ("Models by their evidence", (plots.model_probabilities,)),
    Calibration: ("Calibration of the model", (plots.calibration,)),
    Comparison: ("Models by their predictions", ()),
    CausalGraph: ("What causes what", (plots.causal_graph,)),
    CrossValidation: ("Cross-validation", ()),
    EffectEstimates: ("An effect by what was adjusted for", (plots.causal_effects,)),
    Evidence: ("Evidence", ()),
    EvidencePath: ("Evidence as rows came in", (plots.evidence_path,)),
    ExpectedEvidence: ("Evidence to be expected", (plots.expected_evidence,)),
    GraphTest: ("The causal graph against the data", ()),
    LeaveOneOut: ("Leave-one-out", ()),
    PriorSensitivity: ("What the priors decide", (plots.prior_sensitivity,)),
    Recovery: ("Recovery of a known truth", ()),
    UnderPriors: ("Under other priors", (plots.under_priors,)),
    Waic: ("WAIC", ()),
}


def _moved_most(found: PriorSensitivity) -> list[str]:
    def moves(name: str) -> float:
        return max(change.distance for change in found.changes[name].values())

    return sorted(found.changes, key=moves, reverse=True)


def _wrong_first(found: Calibration) -> list[str]:
    words = found.table()["in words"]
    return sorted(found.shares, key=lambda name: bool(words[name] == "calibrated"))


def _under_every(found: UnderPriors) -> list[str]:
    return list(next(iter(found.posteriors.values())).draws.single())


_FIRST = "the first, in the order of the table"
# Which quantities a picture shows where not all have room, and in words.
_CHOICES: dict[type, tuple[Callable[[Any], list[str]], str]] = {
    Averaged: (lambda found: list(found.draws), _FIRST),
    Calibration: (_wrong_first, "those that are not calibrated first"),
    PriorSensitivity: (_moved_most, "those that move most"),
    UnderPriors: (_under_every, _FIRST),
}


@dataclass(frozen=True, kw_only=True)
class FurtherResult:
    """One result: heading, words, pictures."""

    heading: str
    words: str
    pictures: tuple[Picture, ...]


def further_results(posterior: Posterior, results: Sequence[Any]) -> list[FurtherResult]:
    """Return parts of a page: the results given, and a sensitivity that was asked for.

    Raises
    ------
    ArgumentError
        For what is no such result.
    """
    every = list(results)
    asked = posterior.sensitivity_found
    if asked is not None and not any(isinstance(one, PriorSensitivity) for one in every):
        every.append(asked)
    found = []
    for one in every:
        if type(one) not in _KINDS:
            names = ", ".join(sorted(kind.__name__ for kind in _KINDS))
            raise ArgumentError(
                f"`results` holds results such as those of evidence(), mw.average() or "
                f"prior_sensitivity() ({names}), not {type(one).__name__}."
            )
        found.append(_told(one))
    return found


def _told(one: Any) -> FurtherResult:
    heading, drawn = _KINDS[type(one)]
    order, which = _CHOICES.get(type(one), (None, ""))
    names = [] if order is None else order(one)
    if len(names) <= MOST_PANELS:
        pictures = tuple(picture(draw(one)) for draw in drawn)
        return FurtherResult(heading=heading, words=str(one), pictures=pictures)
    pictures = tuple(picture(draw(one, names[:MOST_PANELS])) for draw in drawn)
    cut = f"The picture shows {MOST_PANELS} of {len(names)} quantities: {which}."
    return FurtherResult(heading=heading, words=f"{one}\n{cut}", pictures=pictures)
