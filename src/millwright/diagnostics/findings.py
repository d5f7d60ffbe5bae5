"""What can be wrong with the draws of a fit, each in words with what to do about it.

Every threshold is stated with the direction that is good, because numbers such as R-hat are
easily read the wrong way round.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from millwright.diagnostics.convergence import FEWEST_DRAWS
from millwright.diagnostics.energy import energy_fraction
from millwright.diagnostics.measures import R_HAT_MOST, Measures

__all__ = [
    "ENERGY_LEAST",
    "ESS_PER_CHAIN",
    "GRADIENT_ACCEPTANCE",
    "WALK_ACCEPTANCE",
    "Finding",
    "Sampling",
    "all_findings",
    "good_range",
]

ESS_PER_CHAIN = 100
ENERGY_LEAST = 0.3
GRADIENT_ACCEPTANCE = (0.6, 1.0)
WALK_ACCEPTANCE = (0.1, 0.6)
_FEW_DIVERGENCES = 0.001
_FEW_TRIPS = 5
HIGHEST_GOOD_K = 0.7

Weight = Literal["stop", "caution", "note"]


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
class Sampling:
    """How draws were made, as far as the verdict needs it.

    Attributes
    ----------
    chains, draws
        Number of chains, and of draws of each.
    diverging
        Divergent transitions of each chain, shape (chains,); None for a method without
        trajectories.
    cut_short
        Transitions that ended at the longest trajectory, 2^max_depth steps.
    energy
        Energies, shape (chains, draws), where the method has them.
    acceptance
        Mean acceptance of each chain, shape (chains,); None where it says nothing.
    good_acceptance
        Least and largest acceptance that is good for the method.
    enough
        Effective draws that are enough.
    stuck
        Chains (from 1) that never moved.
    complete, trial, extended
        Whether the fit came to its end, was a trial, went on after its planned end.
    flat
        Quantities with an improper prior.
    divergent_at
        Where divergences sit, in words.
    round_trips
        Fewest journeys along a tempering ladder of any chain, and the lowest rate of exchange.
    approximation_k
        For draws from an approximation, the Pareto k of its ratios to the posterior.
    """

    chains: int
    draws: int
    diverging: np.ndarray | None = None
    cut_short: int = 0
    max_depth: int = 10
    energy: np.ndarray | None = None
    acceptance: np.ndarray | None = None
    good_acceptance: tuple[float, float] = GRADIENT_ACCEPTANCE
    enough: int = 400
    stuck: tuple[int, ...] = ()
    complete: bool = True
    trial: bool = False
    extended: bool = False
    flat: tuple[str, ...] = ()
    divergent_at: str = ""
    round_trips: tuple[int, float] | None = None
    approximation_k: float | None = None

    @property
    def total(self) -> int:
        """Draws of all chains."""
        return self.chains * self.draws

    @property
    def warm_up_again(self) -> str:
        """What to say where the warm-up was the trouble."""
        if self.extended:
            return (
                "Extending does not repeat the warm-up, which was the trouble: fit anew with a "
                "longer one (warmup=)."
            )
        return "Give a longer warm-up (warmup=)."


def all_findings(measures: Measures, made: Sampling) -> list[Finding]:
    """Return what is wrong, the most harmful first."""
    if made.approximation_k is not None:
        return [_approximation_finding(made.approximation_k)]
    findings = [
        *_plan_findings(made),
        *_stuck_findings(made),
        *_value_findings(measures),
        *_r_hat_findings(measures, made),
        *_divergence_findings(made),
        *_ess_findings(measures, made),
        *_trip_findings(made),
        *_energy_findings(made.energy),
        *_length_findings(made),
        *_acceptance_findings(made),
    ]
    order = {"stop": 0, "caution": 1, "note": 2}
    return sorted(findings, key=lambda finding: order[finding.weight])


def _approximation_finding(k: float) -> Finding:
    good = k < HIGHEST_GOOD_K
    return Finding(
        "caution" if good else "stop",
        "These are draws from a NORMAL APPROXIMATION around the mode, not from the posterior. "
        f"Pareto k of the posterior against it is {k:.2f}; below {HIGHEST_GOOD_K} it is close, "
        "larger is worse.",
        "Use it for a first look; fit() samples the posterior itself.",
    )


def _plan_findings(made: Sampling) -> list[Finding]:
    found = []
    if not made.complete:
        found.append(
            Finding(
                "caution",
                f"The fit was stopped before its end; {made.draws} draws a chain are kept.",
                "Let it go on: posterior.extend(), or mw.resume() for a stored run.",
            )
        )
    if made.trial:
        found.append(
            Finding(
                "caution",
                f"This was a trial: {made.draws} draws a chain show whether the model works, no "
                "more.",
                "Fit without trial=True before you report anything.",
            )
        )
    if made.draws < FEWEST_DRAWS:
        found.append(
            Finding(
                "stop",
                f"{made.draws} draws a chain are too few to judge anything.",
                "Ask for at least 100 draws a chain.",
            )
        )
    if made.chains == 1:
        found.append(
            Finding(
                "caution",
                "There is one chain only, so nothing shows whether another would agree.",
                "Run four chains (chains=4).",
            )
        )
    return found


def _stuck_findings(made: Sampling) -> list[Finding]:
    if not made.stuck:
        return []
    which = _numbers(made.stuck)
    return [
        Finding(
            "stop",
            f"Never moved: chain {which}. All its draws are one point.",
            "Its start was too far from the posterior, or the density is not smooth there. "
            f"{made.warm_up_again} Or give priors that keep to sensible values.",
        )
    ]


def _value_findings(measures: Measures) -> list[Finding]:
    found = []
    overflown = _names(measures, ~measures.finite)
    if overflown:
        found.append(
            Finding(
                "stop",
                f"{_listed(overflown)}: not finite in some draws; the numbers overflow.",
                "The posterior reaches without bound, or the definition does not keep to its "
                "range: give the quantities it rests on tighter, proper priors.",
            )
        )
    constant = _names(measures, measures.finite & ~np.isfinite(measures.r_hat))
    if constant:
        found.append(
            Finding(
                "stop",
                f"{_listed(constant)}: constant in all or some chains.",
                "Check the definition and its prior: the quantity may be fixed, or not be "
                "informed by anything.",
            )
        )
    return found


def _r_hat_findings(measures: Measures, made: Sampling) -> list[Finding]:
    bad = np.nan_to_num(measures.r_hat, nan=1.0) > R_HAT_MOST
    if not bad.any():
        return []
    worst = int(np.nanargmax(measures.r_hat))
    value = measures.r_hat[worst]
    weight: Weight = "stop" if value > 1.05 else "caution"
    who = "The chains disagree" if made.chains > 1 else "The halves of the chain disagree"
    problem = (
        f"{who} about {_listed(_names(measures, bad, measures.r_hat))}: R-hat is up to "
        f"{value:.2f} (for `{measures.names[worst]}`); 1.00 is perfect, up to {R_HAT_MOST} "
        "is good, larger is worse."
    )
    return [Finding(weight, *_why_disagreeing(measures, made, worst, bad, problem))]


def _why_disagreeing(
    measures: Measures, made: Sampling, worst: int, bad: np.ndarray, problem: str
) -> tuple[str, str]:
    """Return problem and advice by what the disagreement looks like."""
    flat = [n for n in _names(measures, bad) if n.split("[")[0] in made.flat]
    apart = _places_apart(measures, worst)
    held = ""
    far = made.diverging is None or made.cut_short > 0.05 * made.total
    if flat and far and measures.r_hat[worst] > 1.05:
        held = (
            f" The prior of {_listed(flat)} is flat: where nothing else holds a quantity, the "
            "posterior is improper and chains wander for ever; a proper prior mends that."
        )
    if apart:
        return f"{problem} Chains stay in places of their own: {apart}.", (
            "The posterior has separate modes, or two quantities that the data cannot tell "
            "apart: exchange them (label switching), give priors that set them apart, or let "
            f"method='tempering' weigh the modes.{held}"
        )
    return problem, (
        "Look at the trace of that quantity. If the chains drift towards each other, run "
        f"longer. {made.warm_up_again} If they drift apart, give tighter priors or fewer "
        f"quantities.{held}"
    )


def _places_apart(measures: Measures, at: int) -> str:
    """Say where groups of chains stay, if they stay far apart."""
    medians, spreads = measures.medians[:, at], measures.spreads[:, at]
    if len(medians) < 2 or not np.isfinite(medians).all():
        return ""
    order = np.argsort(medians, kind="stable")
    width = 2.0 * float(np.median(spreads)) + 1e-300
    cuts = np.flatnonzero(np.diff(medians[order]) > width) + 1
    if not len(cuts) or len(cuts) > 3:
        return ""
    groups = np.split(order, cuts)
    return "; ".join(
        f"chain {_numbers(sorted(group + 1))} near {np.median(medians[group]):.3g}"
        for group in groups
    )


def _divergence_findings(made: Sampling) -> list[Finding]:
    count = 0 if made.diverging is None else int(made.diverging.sum())
    if not count:
        return []
    share = count / made.total
    if share <= _FEW_DIVERGENCES:
        return [
            Finding(
                "note",
                f"{count} of {made.total} transitions diverged; 0 is best, and a few single "
                f"ones, up to {_FEW_DIVERGENCES:.1%} of all, hardly change an answer.",
                "Nothing need be done; target_acceptance=0.95 should make them vanish.",
            )
        ]
    weight: Weight = "stop" if share > 0.01 else "caution"
    return [
        Finding(
            weight,
            f"{count} of {made.total} transitions diverged ({_percent(share)}); 0 is good. The "
            "sampler could not follow the posterior everywhere, so a part of it may be missing."
            + (f" {made.divergent_at}" if made.divergent_at else ""),
            "Try target_acceptance=0.95 or 0.99. If divergences stay, tighten the priors of "
            "scales, or try another group_form= for group effects and processes.",
        )
    ]


def _ess_findings(measures: Measures, made: Sampling) -> list[Finding]:
    worst = np.fmin(measures.ess_bulk, measures.ess_tail)
    bad = np.nan_to_num(worst, nan=np.inf) < made.enough
    if not bad.any():
        return []
    at = int(np.nanargmin(worst))
    factor = made.enough / worst[at]
    weight: Weight = "stop" if worst[at] < 0.25 * made.enough else "caution"
    needed = int(np.ceil(1.2 * factor * made.draws / 100) * 100)
    return [
        Finding(
            weight,
            f"Too few effective draws of {_listed(_names(measures, bad, -worst))}: the "
            f"effective sample size is {worst[at]:.0f} for `{measures.names[at]}`; {made.enough} "
            "or more is enough, more is better. Means and interval ends are uncertain until then.",
            f"Run longer: draws={needed} a chain should do "
            f"(posterior.extend({needed - made.draws}) goes on from here)."
            if factor < 50 and needed > made.draws
            else "First see to the other findings; more draws alone will not help.",
        )
    ]


def _trip_findings(made: Sampling) -> list[Finding]:
    if made.round_trips is None or made.round_trips[0] >= _FEW_TRIPS:
        return []
    trips, rate = made.round_trips
    return [
        Finding(
            "caution",
            f"Few round trips along the tempering ladder: {trips} in the worst chain; "
            f"{_FEW_TRIPS} or more is good. Separate modes may be weighed wrongly.",
            f"Run longer, or give more rungs (mw.Tempering(rungs=...)): the lowest rate of "
            f"exchange is {rate:.2f}, and 0.3 or more is good.",
        )
    ]


def _energy_findings(energy: np.ndarray | None) -> list[Finding]:
    if energy is None:
        return []
    fraction = energy_fraction(energy)
    low = np.flatnonzero(np.nan_to_num(fraction, nan=1.0) < ENERGY_LEAST)
    if not low.size:
        return []
    return [
        Finding(
            "caution",
            f"Slow moves between energy levels in chain {_numbers(low + 1)}: the energy fraction "
            f"is down to {np.nanmin(fraction):.2f}; {ENERGY_LEAST} or more is good. Heavy tails "
            "or a funnel are the usual reason.",
            "Run longer, and give scales priors that keep them away from zero.",
        )
    ]


def _length_findings(made: Sampling) -> list[Finding]:
    if made.cut_short <= 0.01 * made.total:
        return []
    return [
        Finding(
            "note",
            f"{_percent(made.cut_short / made.total)} of the trajectories were cut at "
            f"{2**made.max_depth} steps. This costs time, not correctness.",
            "Put quantities on similar scales, for instance by standardising columns.",
        )
    ]


def _acceptance_findings(made: Sampling) -> list[Finding]:
    if made.acceptance is None:
        return []
    least, most = made.good_acceptance
    off = np.flatnonzero((made.acceptance < least) | (made.acceptance > most))
    off = np.array([chain for chain in off if chain + 1 not in made.stuck], dtype=int)
    if not off.size:
        return []
    worst = made.acceptance[off[0]]
    return [
        Finding(
            "caution",
            f"{'Few' if worst < least else 'Too many'} steps are accepted in chain "
            f"{_numbers(off + 1)}: {worst:.2f} on average; {good_range(made.good_acceptance)} is "
            "good. The size of the steps did not settle in the warm-up.",
            made.warm_up_again,
        )
    ]


def good_range(fitting: tuple[float, float]) -> str:
    """Say which acceptance is good."""
    least, most = fitting
    return f"{least} or more" if most >= 1 else f"{least} to {most}"


def _numbers(chains: Sequence[int] | np.ndarray, most: int = 6) -> str:
    shown = ", ".join(str(int(chain)) for chain in chains[:most])
    more = len(chains) - most
    return f"{shown} and {more} more" if more > 0 else shown


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
