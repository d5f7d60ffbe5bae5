"""The verdict: whether the draws can be used, in words, with what to do if not.

Findings are ranked by how much they harm the answer. Every threshold is stated with the
direction that is good, because numbers such as R-hat are easily read the wrong way round.
"""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from millwright.diagnostics.convergence import FEWEST_DRAWS, ess_bulk, ess_tail, r_hat
from millwright.diagnostics.energy import energy_fraction

__all__ = [
    "ENERGY_LEAST",
    "ESS_PER_CHAIN",
    "GRADIENT_ACCEPTANCE",
    "WALK_ACCEPTANCE",
    "R_HAT_MOST",
    "Finding",
    "Measures",
    "Verdict",
    "judge",
    "measure",
]

R_HAT_MOST = 1.01
ESS_PER_CHAIN = 100
ENERGY_LEAST = 0.3
GRADIENT_ACCEPTANCE = (0.6, 1.0)
WALK_ACCEPTANCE = (0.1, 0.6)

Weight = Literal["stop", "caution", "note"]


@dataclass(frozen=True)
class Measures:
    """Convergence numbers of each quantity; arrays have one entry a name."""

    names: tuple[str, ...]
    r_hat: np.ndarray
    ess_bulk: np.ndarray
    ess_tail: np.ndarray


@dataclass(frozen=True)
class Finding:
    """One thing that is wrong.

    Attributes
    ----------
    weight
        `stop`: the draws should not be used. `caution`: parts of the answer may be off.
        `note`: nothing is wrong with the answer.
    problem, advice
        What was seen, and what to do next.
    """

    weight: Weight
    problem: str
    advice: str


@dataclass(frozen=True)
class Verdict:
    """The answer of the convergence check.

    Attributes
    ----------
    findings
        What is wrong, the most harmful first; empty when all is well.
    facts
        The numbers behind the verdict, each with its threshold and direction.
    """

    findings: tuple[Finding, ...]
    facts: tuple[str, ...]

    @property
    def good(self) -> bool:
        """Whether the draws can be used."""
        return not any(finding.weight != "note" for finding in self.findings)

    @property
    def headline(self) -> str:
        """The verdict in one line."""
        weights = {finding.weight for finding in self.findings}
        if "stop" in weights:
            return "NOT CONVERGED: do not use these results."
        if "caution" in weights:
            return "USE WITH CARE: parts of these results may be off."
        return "Converged: nothing speaks against using these draws."

    def __str__(self) -> str:
        lines = [f"Verdict: {self.headline}"]
        for finding in self.findings:
            lines += [
                _wrapped(f"- {finding.problem}", "  "),
                _wrapped(f"What to do: {finding.advice}", "    "),
            ]
        lines += [f"  {fact}" for fact in self.facts]
        return "\n".join(lines)


def _wrapped(text: str, indent: str) -> str:
    return textwrap.fill(
        text,
        110,
        initial_indent=indent,
        subsequent_indent=indent + "  ",
        break_on_hyphens=False,
        break_long_words=False,
    )


def measure(draws: Mapping[str, np.ndarray]) -> Measures:
    """Return the convergence numbers of named draws, each of shape (chains, draws)."""
    names = tuple(draws)
    x = np.stack([draws[name] for name in names], axis=-1)
    return Measures(names, r_hat(x), ess_bulk(x), ess_tail(x))


def judge(
    measures: Measures,
    shape: tuple[int, int],
    diverging: np.ndarray,
    cut_short: int = 0,
    max_depth: int = 10,
    energy: np.ndarray | None = None,
    complete: bool = True,
    remarks: tuple[str, ...] = (),
    acceptance: np.ndarray | None = None,
    fitting_acceptance: tuple[float, float] = GRADIENT_ACCEPTANCE,
) -> Verdict:
    """Judge a fit.

    Parameters
    ----------
    measures
        Numbers of every quantity that the verdict covers.
    shape
        Number of chains and of draws a chain.
    diverging
        Divergent transitions of each chain, shape (chains,).
    cut_short
        Transitions that ended at the longest trajectory, 2^max_depth steps.
    energy
        Energies, shape (chains, draws).
    complete
        False if the fit was stopped before its end.
    remarks
        Further facts to state, such as rows left out.
    acceptance
        Mean acceptance of each chain, shape (chains,).
    fitting_acceptance
        Least and largest acceptance that is good for the method.
    """
    chains, draws = shape
    findings = [
        *_chain_findings(chains, draws, complete),
        *_value_findings(measures),
        *_r_hat_findings(measures, chains),
        *_divergence_findings(int(diverging.sum()), chains * draws),
        *_ess_findings(measures, chains, draws),
        *_energy_findings(energy),
        *_length_findings(cut_short, chains * draws, max_depth),
        *_acceptance_findings(acceptance, fitting_acceptance),
    ]
    order = {"stop": 0, "caution": 1, "note": 2}
    findings.sort(key=lambda finding: order[finding.weight])
    facts = _facts(measures, shape, int(diverging.sum()), acceptance, energy, fitting_acceptance)
    return Verdict(tuple(findings), (*facts, *remarks))


def _chain_findings(chains: int, draws: int, complete: bool) -> list[Finding]:
    found = []
    if not complete:
        found.append(
            Finding(
                "caution",
                f"The fit was stopped before its end; {draws} draws a chain are kept.",
                "Fit again and let it finish, or ask for fewer draws.",
            )
        )
    if draws < FEWEST_DRAWS:
        found.append(
            Finding(
                "stop",
                f"{draws} draws a chain are too few to judge anything.",
                "Ask for at least 100 draws a chain.",
            )
        )
    if chains == 1:
        found.append(
            Finding(
                "caution",
                "There is one chain only, so nothing shows whether another would agree.",
                "Run four chains (chains=4).",
            )
        )
    return found


def _value_findings(measures: Measures) -> list[Finding]:
    bad = _names(measures, ~np.isfinite(measures.r_hat))
    if not bad:
        return []
    return [
        Finding(
            "stop",
            f"{_listed(bad)}: constant, or not finite, in all or some draws.",
            "Check the definition and its prior: the quantity may be fixed, overflow, or not "
            "be informed by anything.",
        )
    ]


def _r_hat_findings(measures: Measures, chains: int) -> list[Finding]:
    bad = np.nan_to_num(measures.r_hat, nan=1.0) > R_HAT_MOST
    if not bad.any():
        return []
    worst = int(np.nanargmax(measures.r_hat))
    value = measures.r_hat[worst]
    weight: Weight = "stop" if value > 1.05 else "caution"
    who = "The chains disagree" if chains > 1 else "The halves of the chain disagree"
    return [
        Finding(
            weight,
            f"{who} about {_listed(_names(measures, bad, measures.r_hat))}: R-hat is up to "
            f"{value:.2f} (for `{measures.names[worst]}`); 1.00 is perfect, up to {R_HAT_MOST} "
            "is good, larger is worse.",
            "Look at the trace of that quantity. If the chains drift towards each other, run "
            "longer (warmup= and draws=); if each stays in a place of its own, the posterior "
            "has separate modes or two quantities that the data cannot tell apart: give "
            "tighter priors or fewer quantities.",
        )
    ]


def _divergence_findings(count: int, total: int) -> list[Finding]:
    if not count:
        return []
    share = count / total
    weight: Weight = "stop" if share > 0.01 else "caution"
    return [
        Finding(
            weight,
            f"{count} of {total} transitions diverged ({_percent(share)}); 0 is good. The "
            "sampler could not follow the posterior everywhere, so a part of it may be missing.",
            "Try target_acceptance=0.95 or 0.99. If divergences stay, tighten the priors of "
            "scales, or try another group_form= for group effects and processes.",
        )
    ]


def _ess_findings(measures: Measures, chains: int, draws: int) -> list[Finding]:
    least = ESS_PER_CHAIN * chains
    worst = np.fmin(measures.ess_bulk, measures.ess_tail)
    bad = np.nan_to_num(worst, nan=np.inf) < least
    if not bad.any():
        return []
    at = int(np.nanargmin(worst))
    factor = least / worst[at]
    weight: Weight = "stop" if worst[at] < 0.25 * least else "caution"
    needed = int(np.ceil(1.2 * factor * draws / 100) * 100)
    return [
        Finding(
            weight,
            f"Too few effective draws of {_listed(_names(measures, bad, -worst))}: the "
            f"effective sample size is {worst[at]:.0f} for `{measures.names[at]}`; {least} or "
            "more is enough, more is better. Means and interval ends are uncertain until then.",
            f"Run longer: draws={needed} a chain should do."
            if factor < 50
            else "First see to the other findings; more draws alone will not help.",
        )
    ]


def _energy_findings(energy: np.ndarray | None) -> list[Finding]:
    if energy is None:
        return []
    fraction = energy_fraction(energy)
    low = np.flatnonzero(np.nan_to_num(fraction, nan=1.0) < ENERGY_LEAST)
    if not low.size:
        return []
    which = ", ".join(str(chain + 1) for chain in low)
    return [
        Finding(
            "caution",
            f"Slow moves between energy levels in chain {which}: the energy fraction is down to "
            f"{np.nanmin(fraction):.2f}; {ENERGY_LEAST} or more is good. Heavy tails or a "
            "funnel are the usual reason.",
            "Run longer, and give scales priors that keep them away from zero.",
        )
    ]


def _length_findings(cut_short: int, total: int, max_depth: int) -> list[Finding]:
    if cut_short <= 0.01 * total:
        return []
    return [
        Finding(
            "note",
            f"{_percent(cut_short / total)} of the trajectories were cut at {2**max_depth} "
            "steps. This costs time, not correctness.",
            "Put quantities on similar scales, for instance by standardising columns.",
        )
    ]


def _acceptance_findings(
    acceptance: np.ndarray | None, fitting: tuple[float, float]
) -> list[Finding]:
    if acceptance is None:
        return []
    least, most = fitting
    off = np.flatnonzero((acceptance < least) | (acceptance > most))
    if not off.size:
        return []
    which = ", ".join(str(chain + 1) for chain in off)
    worst = acceptance[off[0]]
    return [
        Finding(
            "caution",
            f"{'Few' if worst < least else 'Too many'} steps are accepted in chain {which}: "
            f"{worst:.2f} on average; {_good_range(fitting)} is good. The size of the steps did "
            "not settle in the warm-up.",
            "Give a longer warm-up (warmup=).",
        )
    ]


def _good_range(fitting: tuple[float, float]) -> str:
    least, most = fitting
    return f"{least} or more" if most >= 1 else f"{least} to {most}"


def _facts(
    measures: Measures,
    shape: tuple[int, int],
    diverging: int,
    acceptance: np.ndarray | None,
    energy: np.ndarray | None,
    fitting: tuple[float, float],
) -> tuple[str, ...]:
    chains, draws = shape
    facts = [f"{chains} chains of {draws} draws." if chains > 1 else f"1 chain of {draws} draws."]
    if np.isfinite(measures.r_hat).any():
        at = int(np.nanargmax(measures.r_hat))
        facts.append(
            f"Agreement of chains: largest R-hat {measures.r_hat[at]:.3f} "
            f"(`{measures.names[at]}`); 1.00 is perfect, up to {R_HAT_MOST} is good, "
            "larger is worse."
        )
        worst = np.fmin(measures.ess_bulk, measures.ess_tail)
        at = int(np.nanargmin(worst))
        facts.append(
            f"Effective draws: smallest {worst[at]:.0f} of {chains * draws} "
            f"(`{measures.names[at]}`); {ESS_PER_CHAIN * chains} or more is enough, "
            "more is better."
        )
    # A random walk has no trajectory that could diverge.
    line = "" if fitting == WALK_ACCEPTANCE else f"Divergences: {diverging}; 0 is good."
    if acceptance is not None and acceptance.size:
        line += f" Acceptance: {acceptance.mean():.2f} on average; {_good_range(fitting)} is good."
    if line:
        facts.append(line.strip())
    smallest = np.inf
    if energy is not None:
        smallest = float(np.nan_to_num(energy_fraction(energy), nan=np.inf).min())
    if np.isfinite(smallest):
        facts.append(
            f"Energy fraction: smallest {smallest:.2f}; {ENERGY_LEAST} or more is good, smaller "
            "is worse."
        )
    return tuple(facts)


def _names(measures: Measures, chosen: np.ndarray, badness: np.ndarray | None = None) -> list[str]:
    """Return the names of the chosen quantities, the worst first."""
    at = np.flatnonzero(chosen)
    if badness is not None:
        at = at[np.argsort(-badness[at], kind="stable")]
    return [measures.names[i] for i in at]


def _listed(names: Sequence[str], most: int = 4) -> str:
    shown = ", ".join(f"`{name}`" for name in names[:most])
    more = len(names) - most
    return f"{shown} and {more} more" if more > 0 else shown


def _percent(share: float) -> str:
    return f"{100 * share:.1f} %" if share >= 0.001 else "under 0.1 %"
