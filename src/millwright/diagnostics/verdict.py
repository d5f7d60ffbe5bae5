"""The verdict: whether the draws can be used, in words, with what to do if not."""

from __future__ import annotations

import textwrap
from collections.abc import Callable
from dataclasses import dataclass
from html import escape

import numpy as np

from millwright.diagnostics.energy import energy_fraction
from millwright.diagnostics.finding import (
    ENERGY_LEAST,
    HIGHEST_GOOD_K,
    Finding,
    Sampling,
    good_range,
)
from millwright.diagnostics.findings import all_findings
from millwright.diagnostics.measures import R_HAT_MOST, Measures
from millwright.diagnostics.modes import mode_facts
from millwright.wording import for_python

__all__ = ["ABOVE_ALL", "Verdict", "judge"]

ABOVE_ALL = (
    "An estimate above the number of draws is no fault, and where successive draws "
    "tend to lie on opposite sides of the mean, they average out faster than independent ones."
)
_FACTS = 140
"""Width of lines of facts, each of which is one line as a rule."""


@dataclass(frozen=True)
class Verdict:
    """The answer of the convergence check.

    Attributes
    ----------
    findings
        What is wrong, the most harmful first; empty when all is well.
    facts
        The numbers behind the verdict, each with its threshold and direction.
    approximation
        Whether the draws come from an approximation of the posterior.
    exact
        Whether they are independent draws of the posterior itself.
    """

    findings: tuple[Finding, ...]
    facts: tuple[str, ...]
    approximation: bool = False
    exact: bool = False

    @property
    def good(self) -> bool:
        """Whether the draws can be used."""
        return not any(finding.weight != "note" for finding in self.findings)

    @property
    def sound(self) -> bool:
        """Whether the draws are those of the posterior, whatever was seen in the data."""
        return not any(one.weight != "note" and not one.of_data for one in self.findings)

    @property
    def headline(self) -> str:
        """The verdict in one line."""
        if self.approximation:
            return "APPROXIMATION: " + (
                "far from the posterior, do not use it."
                if self.findings[0].weight == "stop"
                else "close to the posterior, for a first look."
            )
        weights = {finding.weight for finding in self.findings}
        if "stop" in weights:
            return "NOT CONVERGED: do not use these results."
        if "caution" in weights:
            return "USE WITH CARE: parts of these results may be off."
        return f"{'Exact' if self.exact else 'Converged'}: no problem found."

    def __str__(self) -> str:
        return self.told(for_python)

    def told(self, word: Callable[[str], str]) -> str:
        """Return the verdict as text, with advice worded by a face."""
        lines = [f"Verdict: {self.headline}"]
        for finding in self.findings:
            lines += [
                _wrapped(f"- {finding.problem}", "  "),
                _wrapped(f"What to do: {word(finding.marked)}", "    "),
            ]
        lines += [_wrapped(fact, "  ", _FACTS) for fact in self.facts]
        return "\n".join(lines)

    def _repr_html_(self) -> str:
        findings = [
            f"<li>{escape(one.problem)}<br>What to do: {escape(one.advice)}</li>"
            for one in self.findings
        ]
        facts = "<br>".join(map(escape, self.facts))
        said = f"<ul>{''.join(findings)}</ul>" if findings else ""
        return f"<p><strong>Verdict: {escape(self.headline)}</strong></p>{said}<p>{facts}</p>"


def _wrapped(text: str, indent: str, width: int = 110) -> str:
    return textwrap.fill(
        text,
        width,
        initial_indent=indent,
        subsequent_indent=indent + "  ",
        break_on_hyphens=False,
        break_long_words=False,
    )


def judge(measures: Measures, made: Sampling, remarks: tuple[str, ...] = ()) -> Verdict:
    """Judge a fit.

    Parameters
    ----------
    measures
        Numbers of every quantity that the verdict covers.
    made
        How the draws were made.
    remarks
        Further facts to state, such as rows left out.
    """
    findings = tuple(all_findings(measures, made))
    if made.approximation_k is not None:
        return Verdict(findings, (f"{made.total} independent draws.", *remarks), True)
    if made.exact:
        said = f"{made.total} independent draws of the exact posterior: nothing had to converge."
        return Verdict(findings, (said, *remarks), exact=True)
    return Verdict(findings, (*_facts(measures, made), *remarks))


def _facts(measures: Measures, made: Sampling) -> tuple[str, ...]:
    chains, draws = made.chains, made.draws
    facts = [f"{chains} chains of {draws} draws." if chains > 1 else f"1 chain of {draws} draws."]
    if np.isfinite(measures.scale_reduction).any():
        at = int(np.nanargmax(measures.scale_reduction))
        facts.append(
            f"Agreement of chains: largest R-hat {measures.scale_reduction[at]:.3f} "
            f"(`{measures.names[at]}`); 1.00 is perfect, up to {R_HAT_MOST} is good, "
            "larger is worse."
        )
        worst = np.fmin(measures.bulk_size, measures.tail_size)
        at = int(np.nanargmin(worst))
        facts.append(
            f"Effective draws: smallest {worst[at]:.0f} of {made.total} "
            f"(`{measures.names[at]}`); {made.enough} or more is enough, more is better."
            + (f" {ABOVE_ALL}" if worst[at] > made.total else "")
        )
    return (*facts, *_method_facts(made), *(mode_facts(made.modes) if made.modes else []))


def _method_facts(made: Sampling) -> list[str]:
    facts = []
    line = "" if made.diverging is None else f"Divergences: {made.diverging.sum():.0f}; 0 is good."
    if made.acceptance is not None and made.acceptance.size:
        good = good_range(made.good_acceptance)
        line += f" Acceptance: {made.acceptance.mean():.2f} on average; {good} is good."
    if line:
        facts.append(line.strip())
    if made.candidates_k is not None:
        facts.append(
            f"Candidates of the grid: Pareto k of their weights {made.candidates_k:.2f}; below "
            f"{HIGHEST_GOOD_K} is good, larger is worse."
        )
    if made.round_trips is not None:
        trips, rate = made.round_trips
        facts.append(
            f"Tempering: at least {trips} round trips a chain, 5 or more is good; lowest rate of "
            f"exchange {rate:.2f}, 0.3 or more is good."
        )
    smallest = np.inf
    if made.energy is not None:
        smallest = float(np.nan_to_num(energy_fraction(made.energy), nan=np.inf).min())
    if np.isfinite(smallest):
        facts.append(
            f"Energy fraction: smallest {smallest:.2f}; {ENERGY_LEAST} or more is good, smaller "
            "is worse."
        )
    return facts
