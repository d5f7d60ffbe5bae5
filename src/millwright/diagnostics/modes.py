"""Separate modes: what a search before sampling found, and whether the chains weighed them."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from millwright.diagnostics.finding import Finding, more_temperatures
from millwright.wording import setting

__all__ = ["Modes", "mode_facts", "mode_findings", "mode_notes", "mode_sizes"]

_MASS_WORTH_A_CHAIN = 0.01
_MASS_WORTH_A_WORD = 0.001
_HARDLY_ANY = 1e-5
_ENOUGH_VISITS = 100
_USUAL = 128


@dataclass(frozen=True, kw_only=True)
class Modes:
    """Peaks found before sampling, and how the draws are spread over them.

    Attributes
    ----------
    climbs
        How many climbs looked for peaks; 0 if nothing did.
    cut
        Whether the search ended at its largest number of gradients.
    peaks
        How many separate peaks were found.
    places
        Each peak in words, such as "`x` near -6"; empty for one peak.
    masses, errors
        Estimated share of the posterior around each, with standard errors; NaN if unknown.
    shares
        Share of each chain's draws around each peak, shape (chains, peaks).
    moves
        How often each chain went from one peak to another, shape (chains,).
    tempered
        Whether the chains are tempering ladders.
    why_not
        Why there was no search.
    """

    climbs: int = 0
    cut: bool = False
    peaks: int = 0
    places: tuple[str, ...] = ()
    masses: np.ndarray = field(default_factory=lambda: np.zeros(0))
    errors: np.ndarray = field(default_factory=lambda: np.zeros(0))
    shares: np.ndarray = field(default_factory=lambda: np.zeros((0, 0)))
    moves: np.ndarray = field(default_factory=lambda: np.zeros(0))
    tempered: bool = False
    why_not: str = ""


def mode_sizes(shares: np.ndarray) -> float:
    """Return to how many independent draws the chains' shares of the largest mode are worth.

    The variance of a share p over n independent draws is p (1 - p) / n; here it is read off the
    spread between chains, which no autocorrelation can flatter.
    """
    chains = len(shares)
    if chains < 2:
        return np.nan
    p = shares.mean(axis=0)
    at = int(np.argmax(p * (1 - p)))
    variance = float(shares[:, at].var(ddof=1))
    if p[at] * (1 - p[at]) == 0:
        return np.nan
    return float(chains * p[at] * (1 - p[at]) / variance) if variance > 0 else np.inf


def _share(value: float) -> str:
    if 0 < value < _HARDLY_ANY:
        return f"under {100 * _HARDLY_ANY:g} %"
    return f"{100 * value:.0f} %" if value >= 0.1 else f"{100 * value:.2g} %"


def _about(value: float) -> str:
    words = _share(value)
    return words if words.startswith("under") else f"about {words}"


def _listed(modes: Modes, which: np.ndarray, most: int = 6) -> str:
    words = [
        modes.places[at] + ("" if np.isnan(modes.masses[at]) else f" ({_about(modes.masses[at])})")
        for at in which[:most]
    ]
    more = len(which) - most
    return "; ".join(words) + (f"; and {more} more" if more > 0 else "")


def mode_facts(modes: Modes) -> list[str]:
    """Say what the search found, whether it is good or not."""
    if not modes.climbs:
        return [f"Separate modes were not searched for: {modes.why_not}."] if modes.why_not else []
    short = modes.cut and modes.climbs < _USUAL // 2
    cut = f" (fewer than the usual {_USUAL}, since each took long)" if short else ""
    if not modes.peaks:
        return [
            f"Separate modes: none of {modes.climbs} optimisations{cut} ended on a peak, so "
            "nothing is known about modes."
        ]
    if not modes.places:
        return [
            f"Separate modes: one mode found by {modes.climbs} optimisations{cut} from different "
            "points; this does not prove that there is no other."
        ]
    every = np.arange(len(modes.places))
    own = " / ".join(_share(value) for value in modes.shares.mean(axis=0)[:6])
    facts = [
        f"Separate modes: {len(every)} found by {modes.climbs} optimisations{cut}; estimated "
        f"shares of the posterior: {_listed(modes, every)}. Shares of the draws: {own}."
    ]
    size = mode_sizes(modes.shares)
    if np.isfinite(size):
        facts.append(
            f"Between chains these shares vary as those of {max(1, round(size))} independent "
            f"draws would; {_ENOUGH_VISITS} or more is enough, more is better."
        )
    return facts


def mode_notes(modes: Modes, effective: np.ndarray) -> tuple[str, ...]:
    """Say under a table with these effective sizes what they do not see: moves between modes."""
    if not modes.places or not effective.size:
        return ()
    size = mode_sizes(modes.shares)
    if not size < np.nanmax(effective):
        return ()
    return (
        "Effective draws do not show how well the draws weigh separate modes: quantities that "
        f"differ from mode to mode are known no better than by {max(1, round(size))} independent "
        "draws.",
    )


def mode_findings(modes: Modes) -> list[Finding]:
    """Return what is wrong with the weights of the modes."""
    if not modes.places:
        return []
    unknown = np.isnan(modes.masses)
    big = unknown | (modes.masses >= _MASS_WORTH_A_CHAIN)
    small = ~unknown & (modes.masses < _MASS_WORTH_A_CHAIN) & (modes.masses >= _MASS_WORTH_A_WORD)
    own = modes.shares.mean(axis=0)
    missed = big & (own < np.where(unknown, 1e-300, 0.1 * modes.masses))
    found = []
    if missed.any():
        found.append(
            Finding(
                "stop",
                f"A mode that was found before sampling is hardly in the draws: "
                f"{_listed(modes, np.flatnonzero(missed))}. What the draws say is about the "
                "other modes alone.",
                _temper(modes),
            )
        )
    elif big.sum() > 1:
        found += _weighing(modes, np.flatnonzero(big))
    if small.any():
        found.append(
            Finding(
                "note",
                f"Small modes that the draws may lack: {_listed(modes, np.flatnonzero(small))}.",
                "They have less than 1 % of the posterior: only extreme quantiles can change.",
            )
        )
    return found


def _weighing(modes: Modes, big: np.ndarray) -> list[Finding]:
    """Judge chains that hold every mode: do they move between them?"""
    size = mode_sizes(modes.shares)
    still = int((modes.moves == 0).sum())
    if not still and not size < _ENOUGH_VISITS:
        return []
    chains = len(modes.moves)
    if still and chains > 1:
        words = (
            f"{still} of {chains} chains never left the mode in which they began"
            if still < chains
            else "No chain ever left the mode in which it began"
        )
        words += ", so the draws do not say how large each mode is"
    elif still:
        words = "The only chain never left the mode in which it began"
    else:
        words = (
            f"The chains seldom move between modes: their shares are worth "
            f"{max(1, round(size))} independent draws; {_ENOUGH_VISITS} or more is enough"
        )
    stop = bool(still) or size < 10
    return [
        Finding(
            "stop" if stop else "caution",
            f"Separate modes: {_listed(modes, big)}. {words}.",
            _temper(modes),
        )
    ]


def _temper(modes: Modes) -> str:
    if modes.tempered:
        return (
            f"Run longer, with more temperatures ({more_temperatures()}) and more chains "
            f"({setting('chains')})."
        )
    return (
        f"Use {setting('method', 'tempering')}, which goes between modes and weighs them, "
        "or state in the model "
        "which mode is meant (an order, a sign, a tighter prior)."
    )
