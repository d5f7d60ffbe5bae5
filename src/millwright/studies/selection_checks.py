"""Whether walks over subsets have met what matters: against each other, visits by weights."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from millwright.diagnostics.finding import Finding
from millwright.subsets.explore import Explored, Visits, Walks
from millwright.wording import setting

__all__ = ["Trust", "trusted"]

_APART = 4.0
_FAR = 0.02
_FAR_IN_SIZE = 0.1
_COVERED = 0.5
_MET = 0.7
_KEPT = 0.95
_ERROR = 0.01


@dataclass(frozen=True, kw_only=True)
class Trust:
    """What is to be said of the search.

    Attributes
    ----------
    by_visits, errors
        Share of steps with each term and its Monte Carlo error, (terms,); empty without walks.
    """

    by_visits: np.ndarray = field(repr=False)
    errors: np.ndarray = field(repr=False)
    findings: tuple[Finding, ...]
    sentences: tuple[str, ...]


def trusted(found: Explored, terms: Sequence[str], walks: Walks | None) -> Trust:
    """Judge a search."""
    kept = _kept_findings(found)
    if found.visits is None or walks is None:
        nothing = np.zeros(0)
        words = (f"All {found.met:,} subsets were weighed: nothing had to converge.",)
        return Trust(by_visits=nothing, errors=nothing, findings=kept, sentences=words)
    visits = found.visits
    shares = visits.included
    by_visits = shares.mean(axis=(0, 1))
    # Batches follow each other, walks do not: the larger error of both is the safe one.
    errors = np.maximum(*_sides(shares))
    findings = (*_walk_findings(found, visits, terms, walks, by_visits, errors), *kept)
    sentences = (
        f"{walks.chains} walks met {found.met:,} subsets and moved in "
        f"{100 * visits.accepted:.0f} % of their steps; of the steps in second halves "
        f"{100 * visits.covered:.0f} % were at subsets met in first halves, and "
        f"{100 * visits.kept:.0f} % of all at the {len(found.shares):,} kept. Largest Monte Carlo "
        f"error of an inclusion probability by visits: {errors.max():.3f}.",
    )
    return Trust(by_visits=by_visits, errors=errors, findings=findings, sentences=sentences)


def _sides(shares: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return standard errors from walks, and from batches within them, (terms,) each."""
    chains, batches, _ = shares.shape
    means = shares.mean(axis=1)
    within = (shares - means[:, None]).std(axis=(0, 1)) / np.sqrt(chains * (batches - 1))
    return means.std(axis=0, ddof=1) / np.sqrt(chains), within


def _walk_findings(
    found: Explored,
    visits: Visits,
    terms: Sequence[str],
    walks: Walks,
    by_visits: np.ndarray,
    errors: np.ndarray,
) -> list[Finding]:
    findings = []
    more = _more_steps(walks, errors)
    apart = np.abs(found.included - by_visits)
    wrong = (apart > _APART * errors) & (apart > _FAR)
    if wrong.any():
        at = int(np.argmax(np.where(wrong, apart, 0)))
        findings.append(
            Finding(
                "stop" if visits.covered < _COVERED or apart.max() > 0.2 else "caution",
                f"Weights and visits disagree: `{terms[at]}` is in with probability "
                f"{found.included[at]:.3f} by the weights of the subsets met, and in "
                f"{by_visits[at]:.3f} of the steps.",
                f"Walk longer, {setting('steps', more)}: the walks have not met, or not left, "
                "subsets that matter.",
            )
        )
    between, within = _sides(visits.included)
    split = np.where((between > _FAR) & (between > _APART * within), between, 0.0)
    if split.any():
        at = int(np.argmax(split))
        means = visits.included[:, :, at].mean(axis=1)
        findings.append(
            Finding(
                "caution",
                f"The walks disagree: `{terms[at]}` was in {means.min():.2f} of the steps of one "
                f"and in {means.max():.2f} of another.",
                f"Walk longer, {setting('steps', more)}.",
            )
        )
    sizes = visits.mean_size
    apart, expected = (float(one[0]) for one in _sides(sizes[..., None]))
    if apart > _FAR_IN_SIZE and apart > _APART * expected:
        means = sizes.mean(axis=1)
        findings.append(
            Finding(
                "caution",
                f"The walks disagree on the number of candidates: {means.min():.1f} on average in "
                f"one and {means.max():.1f} in another.",
                f"Walk longer, {setting('steps', more)}.",
            )
        )
    if visits.covered < _MET:
        findings.append(
            Finding(
                "caution",
                f"Of the steps in second halves {100 * visits.covered:.0f} % were at subsets met "
                f"before; {100 * _MET:.0f} % or more is good: much of the probability lies in "
                "subsets that were not met, so exact weights lean towards those that were.",
                f"Read the inclusion by visits beside that by weights, or walk longer, "
                f"{setting('steps', more)}.",
            )
        )
    return findings


def _more_steps(walks: Walks, errors: np.ndarray) -> int:
    """Return how many steps would bring every error to a hundredth, at least twice as many."""
    steps = walks.chains * walks.steps
    wanted = steps * max(2.0, float((errors.max() / _ERROR) ** 2))
    return int(np.ceil(wanted / 100_000) * 100_000)


def _kept_findings(found: Explored) -> tuple[Finding, ...]:
    share = found.visits.kept if found.visits is not None else float(found.shares.sum())
    if share >= _KEPT:
        return ()
    return (
        Finding(
            "caution",
            f"The {len(found.shares):,} subsets that are kept hold {100 * share:.0f} % of the "
            f"probability; {100 * _KEPT:.0f} % or more is good: densities, draws, pairs and "
            "predictions rest on them.",
            f"Keep more, {setting('kept', 10 * len(found.shares))}.",
        ),
    )
