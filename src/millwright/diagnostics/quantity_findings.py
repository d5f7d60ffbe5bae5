"""What the draws of single quantities show: disagreement, few effective draws, heavy tails."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from scipy.special import chdtri

from millwright.diagnostics.disagreement import groups_apart, what_differs
from millwright.diagnostics.finding import Finding, Sampling, Weight, listed
from millwright.diagnostics.measures import R_HAT_MOST, Measures
from millwright.wording import action, setting

__all__ = ["ess_findings", "r_hat_findings", "tail_findings", "value_findings"]

_NO_SD = 0.55
"""Pareto k from which there is no standard deviation: 0.5, and room for chance."""
_SURE = 0.45
_STANDARD_ERRORS = 1.64
_BY_CHANCE = 0.01
_MOST_FOR_ONE = 1.3
"""Draws for an effective one that chance is given; chains that are apart have many more."""
_FEW = 100
"""Draws a chain below which chains apart may only be chains that have not arrived."""


def value_findings(measures: Measures) -> list[Finding]:
    found = []
    overflown = _names(measures, ~measures.finite)
    if overflown:
        found.append(
            Finding(
                "stop",
                f"{listed(overflown)}: not finite in some draws; the numbers overflow.",
                "The posterior reaches without bound, or the definition does not keep to its "
                "range: give the quantities it rests on tighter, proper priors.",
            )
        )
    constant = _names(measures, measures.finite & ~np.isfinite(measures.scale_reduction))
    if constant:
        found.append(
            Finding(
                "stop",
                f"{listed(constant)}: constant in all or some chains.",
                "Check the definition and its prior: the quantity may be fixed, or not be "
                "informed by anything.",
            )
        )
    return found


def r_hat_findings(measures: Measures, made: Sampling) -> list[Finding]:
    bad = np.nan_to_num(measures.scale_reduction, nan=1.0) > R_HAT_MOST
    if not bad.any():
        return []
    worst = int(np.nanargmax(measures.scale_reduction))
    value = measures.scale_reduction[worst]
    weight: Weight = "stop" if value > 1.05 else "caution"
    who = "The chains disagree" if made.chains > 1 else "The halves of the chain disagree"
    problem = (
        f"{who} about {listed(_names(measures, bad, measures.scale_reduction))}: R-hat is up to "
        f"{_rounded_up(value):.3f} (for `{measures.names[worst]}`); 1.00 is perfect, up to "
        f"{R_HAT_MOST} is good, larger is worse."
    )
    return [Finding(weight, *_why_disagreeing(measures, made, worst, bad, problem))]


def _rounded_up(scale_reduction: float) -> float:
    """Return R-hat to three decimals, never as the threshold that it is above."""
    return float(np.ceil(1000 * scale_reduction) / 1000)


def _why_disagreeing(
    measures: Measures, made: Sampling, worst: int, bad: np.ndarray, problem: str
) -> tuple[str, str]:
    """Return problem and advice by what the disagreement looks like."""
    flat = [n for n in _names(measures, bad) if n.split("[")[0] in made.flat]
    quartiles = measures.medians[:, worst], measures.spreads[:, worst]
    apart = groups_apart(*quartiles)
    held = ""
    far = made.diverging is None or made.cut_short > 0.05 * made.total
    if flat and far and measures.scale_reduction[worst] > 1.05:
        held = (
            f" The prior of {listed(flat)} is flat: where the data do not limit a quantity, the "
            "posterior is improper and chains never converge; give a proper prior."
        )
    if apart:
        the = "The"
        if made.draws < _FEW:
            the = (
                f"{made.draws} draws a chain are too few to tell why: run longer, with a longer "
                f"warm-up ({setting('warmup')}). If the groups stay as they are, the"
            )
        return f"{problem} Chains stay in places of their own: {apart}.", (
            f"{the} posterior has separate modes, or two quantities that the data cannot tell "
            "apart: exchange them (label switching), give priors that set them apart, or let "
            f"{setting('method', 'tempering')} weigh the modes.{held}"
        )
    seen, meaning = what_differs(*quartiles, measures.halves[:, :, worst])
    if seen:
        return f"{problem} {seen}", f"{meaning}{held}"
    needed = _draws_beyond_chance(measures, made, worst)
    if needed > made.draws:
        count = np.isfinite(measures.scale_reduction).sum()
        of = f" of {count} quantities" if count > 1 else ""
        return problem, (
            f"With so few effective draws{of}, R-hat gets as far by chance where chains agree. "
            f"Run longer before anything else: {setting('draws', needed)} a chain "
            f"({action(made.goes_on_by, needed - made.draws)} goes on from here).{held}"
        )
    return problem, (
        "Look at the trace of that quantity. If the chains drift towards each other, run "
        f"longer. {made.warm_up_again} If they drift apart, give tighter priors or fewer "
        f"quantities.{held}"
    )


def _draws_beyond_chance(measures: Measures, made: Sampling, worst: int) -> int:
    """Return from how many draws a chain on the worst R-hat would tell something.

    Between m half-chains that agree, n draws each, R-hat^2 is about 1 + (t F - 1) / n, with F a
    chi-squared variable of m - 1 degrees of freedom over those, and t draws for an effective one.
    0 where this R-hat is beyond chance already.
    """
    parts, length = 2 * made.chains, made.draws // 2
    # Of each quantity two are known: of the draws, and of how far they are from the middle.
    count = 2 * np.isfinite(measures.scale_reduction).sum()
    effective = min(measures.bulk_size[worst], measures.tail_size[worst])
    for_one = min(made.chains * made.draws / effective, _MOST_FOR_ONE)
    # The largest of many: each may go so far by chance.
    largest = for_one * chdtri(parts - 1, _BY_CHANCE / count) / (parts - 1) - 1.0
    if not measures.scale_reduction[worst] ** 2 - 1.0 < largest / max(1, length):
        return 0
    return int(np.ceil(2.0 * largest / (R_HAT_MOST**2 - 1.0) / 100) * 100)


def ess_findings(measures: Measures, made: Sampling) -> list[Finding]:
    worst = np.fmin(measures.bulk_size, measures.tail_size)
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
            f"Too few effective draws of {listed(_names(measures, bad, -worst))}: the "
            f"effective sample size is {worst[at]:.0f} for `{measures.names[at]}`; {made.enough} "
            "or more is enough, more is better. Means and interval ends are uncertain until then.",
            f"Run longer: {setting('draws', needed)} a chain should do "
            f"({action(made.goes_on_by, needed - made.draws)} goes on from here)."
            if factor < 50 and needed > made.draws
            else "First see to the other findings; more draws alone will not help.",
        )
    ]


def tail_findings(measures: Measures, light: Collection[str] = ()) -> list[Finding]:
    """Warn of moments that do not exist, or only just; not of quantities known to have them.

    Measured over 100 fits each: a Cauchy density is flagged in 99 or more, a Student-t with 3
    degrees of freedom, whose k is 1/3, in none; one with 2, whose k is 1/2, in few.
    """
    least = measures.tails - _STANDARD_ERRORS * measures.tail_errors
    sure = (measures.tails > _NO_SD) & (least > _SURE)
    sure &= np.array([name.split("[")[0] not in light for name in measures.names], dtype=bool)
    heavy = _names(measures, sure, measures.tails)
    if not heavy:
        return []
    worst = float(measures.tails[measures.names.index(heavy[0])])
    lost = "mean and standard deviation" if worst > 0.95 else "standard deviation"
    return [
        Finding(
            "caution",
            f"Heavy tails in {listed(heavy)}: as far as the draws reach, Pareto k of the tail is "
            f"about {worst:.2f}; from 0.5 on there is no standard deviation, from 1 on no mean. "
            f"Do not use the {lost} in the table.",
            "Report median and interval, which are valid; or give the quantity, or what it is "
            "divided by, a prior that keeps it away from the extremes.",
        )
    ]


def _names(measures: Measures, chosen: np.ndarray, badness: np.ndarray | None = None) -> list[str]:
    """Return the names of the chosen quantities, the worst first."""
    at = np.flatnonzero(chosen)
    if badness is not None:
        at = at[np.argsort(-badness[at], kind="stable")]
    return [measures.names[i] for i in at]
