"""In which way chains disagree about a quantity: told from the quartiles of their halves."""

from __future__ import annotations

import numpy as np

from millwright.wording import setting

__all__ = ["groups_apart", "numbers", "what_differs"]

_FAR_APART = 2.0
_APART = 0.6
_WIDER = 2.0


def groups_apart(medians: np.ndarray, spreads: np.ndarray) -> str:
    """Say where groups of chains stay, if they stay far apart.

    Parameters
    ----------
    medians, spreads
        Median and interquartile range of each chain, shape (chains,).
    """
    if len(medians) < 2 or not np.isfinite(medians).all():
        return ""
    order = np.argsort(medians, kind="stable")
    width = _FAR_APART * float(np.median(spreads)) + 1e-300
    cuts = np.flatnonzero(np.diff(medians[order]) > width) + 1
    if not len(cuts) or len(cuts) > 3:
        return ""
    groups = np.split(order, cuts)
    return "; ".join(
        f"chain{'s' if len(group) > 1 else ''} {numbers(sorted(group + 1))} "
        f"near {np.median(medians[group]):.3g}"
        for group in groups
    )


def what_differs(medians: np.ndarray, spreads: np.ndarray, halves: np.ndarray) -> tuple[str, str]:
    """Say how the chains differ, and what that means.

    Parameters
    ----------
    halves
        Medians of the first and of the second half of each chain, shape (2, chains).

    Returns
    -------
    Two sentences, or two empty texts where nothing stands out.
    """
    if not (np.isfinite(medians).all() and np.isfinite(halves).all()):
        return "", ""
    usual = float(np.median(spreads))
    still = np.flatnonzero(spreads <= 1e-9 * max(usual, 1e-300))
    if len(still) and len(still) < len(spreads):
        return (
            f"{_who(still, 'moves', 'hardly ')}.",
            f"Its steps are refused: give a longer warm-up ({setting('warmup')}) or tighter "
            "priors.",
        )
    moved = np.abs(halves[1] - halves[0])
    drifting = np.flatnonzero(moved > _APART * usual)
    if len(drifting):
        worst = int(np.argmax(moved))
        return (
            f"{_who(drifting, 'drifts')}: the median of chain {worst + 1} goes from "
            f"{halves[0, worst]:.3g} in its first half to {halves[1, worst]:.3g} in its second.",
            "A chain that drifts has not reached the posterior: run longer, with a longer warm-up "
            f"({setting('warmup')}).",
        )
    if len(medians) < 2:
        return "", ""
    return _against_each_other(medians, spreads, usual)


def _against_each_other(medians: np.ndarray, spreads: np.ndarray, usual: float) -> tuple[str, str]:
    wider = np.flatnonzero(spreads > _WIDER * usual)
    narrower = np.flatnonzero(_WIDER * spreads < usual)
    if len(wider) or len(narrower):
        odd = wider if len(wider) else narrower
        word = "wider" if len(wider) else "narrower"
        return (
            f"{_who(odd, 'spreads')} {word} than the others: interquartile range "
            f"{spreads[odd[0]]:.3g} against {usual:.3g}.",
            "Some chains explore only a part of the posterior: run longer, and look at the trace.",
        )
    off = np.abs(medians - np.median(medians))
    apart = np.flatnonzero(off > _APART * usual)
    if len(apart) and len(apart) < len(medians):
        at = int(np.argmax(off))
        return (
            f"{_who(apart, 'lies')} apart: median {medians[at]:.3g} against "
            f"{np.median(medians):.3g} over the chains.",
            "Look at the trace: a chain that stays apart found a place that the others did not.",
        )
    return "", ""


def _who(chains: np.ndarray, verb: str, before: str = "") -> str:
    """Name chains, counted from 0, as the subject of a verb given in the singular."""
    if len(chains) == 1:
        return f"Chain {chains[0] + 1} {before}{verb}"
    return f"Chains {numbers(chains + 1)} {before}{verb.removesuffix('s')}"


def numbers(chains: np.ndarray | list[int] | tuple[int, ...], most: int = 6) -> str:
    """List chains."""
    shown = ", ".join(str(int(chain)) for chain in chains[:most])
    more = len(chains) - most
    return f"{shown} and {more} more" if more > 0 else shown
