"""Effects of a causal graph, estimated by regressions on its adjustment sets."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.causal.adjustment import adjustment_sets, fault_of, instruments
from millwright.causal.graph import Graph
from millwright.display import Shown
from millwright.draws.numbers import chance_text
from millwright.errors import ArgumentError
from millwright.studies.causal_data import columns_of, standardised
from millwright.studies.reading import quoted
from millwright.studies.regression_findings import RegressionFindings
from millwright.studies.regression_study import regression
from millwright.studies.sentences import bulleted, size_words

__all__ = ["EffectEstimates", "estimated"]

_MOST = 4
_SCALED = ("normal", "student_t")


@dataclass(frozen=True, kw_only=True)
class EffectEstimates(Shown):
    """An effect, by every set that was adjusted for.

    Attributes
    ----------
    exposure, outcome, effect
        What was asked.
    findings
        The regression of each set, by its names.
    alone
        The regression without adjustment, for contrast; None where nothing is to be adjusted for.
    standardise
        Whether columns of numbers are in units of their sd.
    not_shown
        How many minimal sets more there are.
    remark
        How many rows were left out for missing values; empty for none.
    """

    exposure: str
    outcome: str
    effect: str
    findings: Mapping[str, RegressionFindings] = field(repr=False)
    alone: RegressionFindings | None = field(repr=False)
    standardise: bool
    not_shown: int
    remark: str

    @property
    def every(self) -> tuple[RegressionFindings, ...]:
        """All regressions, the one without adjustment last."""
        return (*self.findings.values(), *([self.alone] if self.alone is not None else []))

    @property
    def good(self) -> bool:
        """Whether every regression can be used."""
        return all(found.verdict.good for found in self.every)

    def draws(self) -> list[tuple[str | None, str, np.ndarray]]:
        """Return draws of the exposure's coefficients.

        Returns
        -------
        What was adjusted for, None for the regression without adjustment; the coefficient; and
        its draws, (chains, draws).
        """
        words: list[str | None] = [*self.findings, *([None] if self.alone is not None else [])]
        found = []
        for one, regressed in zip(words, self.every, strict=True):
            numbers = regressed.numbers
            found += [(one, name, numbers[name]) for name in _columns(regressed, self.exposure)]
        return found

    def table(self) -> pd.DataFrame:
        """Return one row a set and coefficient of the exposure; the last without adjustment."""
        every = dict(self.findings)
        if self.alone is not None:
            every["nothing (not the effect)"] = self.alone
        parts = []
        for name, found in every.items():
            rows = found.coefficients().loc[list(_columns(found, self.exposure))]
            rows.insert(0, "adjusted for", name)
            parts.append(rows)
        return pd.concat(parts)

    def __str__(self) -> str:
        lines = []
        for name, found in self.findings.items():
            lines += [f"Adjusted for {name}: {one}." for one in _told(found, self.exposure)]
        if self.alone is not None:
            words = "Without adjustment, which is not the effect"
            lines += [f"{words}: {one}." for one in _told(self.alone, self.exposure)]
        if self.remark:
            lines.append(self.remark)
        if self.not_shown:
            lines.append(f"{self.not_shown} minimal sets more: name one by `given`.")
        lines.append(
            "It assumes that the graph is right, that nothing else is a common cause, and that "
            "the regression's form fits: linear in its link, without interactions."
        )
        head = (
            f"{self.effect.capitalize()} effect of `{self.exposure}` on `{self.outcome}`, for 1 "
            + ("sd more of it" if self.standardise else "more of it")
        )
        return f"{head}\n{bulleted(lines)}"


def _columns(found: RegressionFindings, exposure: str) -> tuple[str, ...]:
    """Return the coefficients that belong to the exposure."""
    terms = found.study.parts[next(iter(found.posteriors))].design.terms
    return next(names for term, names in terms.items() if term.replace("`", "") == exposure)


def _told(found: RegressionFindings, exposure: str) -> list[str]:
    """Return each coefficient with its interval and direction, and the verdict where it is bad."""
    verdict = found.verdict
    if any(one.weight == "stop" for one in verdict.findings):
        return [f"no answer. {verdict.headline} findings[...] says why"]
    link = found.study.parts[next(iter(found.posteriors))].link
    on = "" if link == "identity" else f" on the {link} scale"
    warned = "" if verdict.good else f" ({verdict.headline.rstrip('.')})"
    lines = []
    for column in _columns(found, exposure):
        values = found.numbers[column]
        up = float((values > 0).mean())
        way = "positive" if up >= 0.5 else "negative"
        named = f"`{column}` " if column.endswith("]") else ""
        size = size_words(values, found.level, found.kind)
        chance = chance_text(max(up, 1 - up), values.size)
        lines.append(f"{named}{size}{on}, {way} with probability {chance}{warned}")
    return lines


def estimated(
    graph: Graph,
    data: Any,
    pair: tuple[str, str],
    effect: str,
    given: Iterable[str] | None,
    standardise: bool,
    seed: int,
    settings: Mapping[str, Any],
) -> EffectEstimates:
    """Estimate an effect; see `CausalGraph.estimate`."""
    exposure, outcome = pair
    sets = adjustment_sets(graph, exposure, outcome, effect)
    if given is not None:
        chosen = frozenset(graph.check(name, "given") for name in given)
        fault = fault_of(graph, exposure, outcome, chosen, effect)
        if fault:
            raise ArgumentError(
                f"Adjusting for {_words(graph, chosen)} does not identify the effect: {fault}."
            )
        sets = [chosen]
    if not sets:
        other = [one.name for one in instruments(graph, exposure, outcome)]
        hint = f" Instruments: {', '.join(other)}." if other else ""
        raise ArgumentError(
            f"The {effect} effect of `{exposure}` on `{outcome}` is not identified by adjustment: "
            f"no set of observed variables closes every path that is not causal.{hint}"
        )
    shown = sets[:_MOST]
    # All fits have the same rows, so that they differ by what is adjusted for alone.
    needed = {exposure, outcome}.union(*shown)
    frame, remark = columns_of(data, [node for node in graph.observed if node in needed])
    if standardise:
        # Counts and yes or no outcomes have a scale of their own.
        own = settings.get("family", "normal") not in _SCALED
        scores = {
            name: standardised(frame[name]) for name in frame.columns if not own or name != outcome
        }
        frame = frame.assign(**{name: one for name, one in scores.items() if one is not None})

    def fitted(some: Iterable[str]) -> RegressionFindings:
        terms = [exposure, *(node for node in graph.nodes if node in set(some))]
        formula = f"{quoted(outcome)} ~ {' + '.join(map(quoted, terms))}"
        found = regression(formula, frame, **settings).fit(seed=seed, progress=False)
        assert isinstance(found, RegressionFindings)
        return found

    findings = {_words(graph, some): fitted(some) for some in shown}
    return EffectEstimates(
        exposure=exposure,
        outcome=outcome,
        effect=effect,
        findings=findings,
        alone=None if frozenset() in sets else fitted(()),
        standardise=standardise,
        remark=remark,
        not_shown=len(sets) - len(shown),
    )


def _words(graph: Graph, some: Iterable[str]) -> str:
    chosen = set(some)
    return ", ".join(f"`{node}`" for node in graph.nodes if node in chosen) or "nothing"
