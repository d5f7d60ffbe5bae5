"""Prior of the models of a variable selection, and of g."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from scipy.special import betaln, gammaln

from millwright.errors import ArgumentError
from millwright.studies.checks import check_number
from millwright.studies.selection_data import Candidates, term_numbers
from millwright.subsets.space import Space
from millwright.subsets.weights import GPrior

__all__ = ["G_PRIORS", "g_prior", "size_prior", "space_of"]

G_PRIORS = ("n", "k^2", "max(n, k^2)", "hyper-g", "hyper-g/n")
_PRIORS = ("beta-binomial", "uniform")


def g_prior(given: Any, rows: int, columns: int) -> GPrior:
    """Return what is said of g.

    Raises
    ------
    ArgumentError
        For what is no number above 0, and none of `G_PRIORS`.
    """
    known = {"n": rows, "k^2": columns**2, "max(n, k^2)": max(rows, columns**2)}
    if isinstance(given, str):
        if given in known:
            return GPrior(given, float(known[given]), rows)
        if given in G_PRIORS:
            return GPrior(given, None, rows, per_rows=given.endswith("/n"))
        raise ArgumentError(f"`g` is a number or one of {', '.join(G_PRIORS)}, not {given!r}.")
    check_number("g", given)
    if given <= 0:
        raise ArgumentError(f"`g` is above 0, not {given!r}.")
    return GPrior(f"{given:g}", float(given), rows)


def space_of(made: Candidates, settings: Mapping[str, Any]) -> Space:
    """Return the allowed subsets with their prior probabilities.

    Raises
    ------
    ArgumentError
        For terms that are not there, or probabilities that are none.
    """
    terms = len(made.terms)
    always = set(term_numbers(made, settings["always"], "always"))
    needed = {made.terms[at] for at in always}
    for term in needed:
        for parent in made.parents[term]:
            if parent not in needed:
                raise ArgumentError(
                    f"`{term}` is always in, so its parent `{parent}` must be: name it in "
                    "`always` too."
                )
    free = np.array([at for at in range(terms) if at not in always], dtype=np.int64)
    rivals = _rivals(made, settings["exclusive"], always)
    parents = [[made.terms.index(one) for one in made.parents[term]] for term in made.terms]
    by_size, log_odds = _probabilities(made, settings, free)
    return Space(
        made.first,
        free,
        *_rows(parents),
        *_rows(rivals),
        by_size,
        log_odds,
    )


def _rows(lists: Sequence[Sequence[int]]) -> tuple[np.ndarray, np.ndarray]:
    """Return lists one after the other, and where each begins."""
    flat = np.array([one for some in lists for one in some], dtype=np.int64)
    begins = np.concatenate([[0], np.cumsum([len(some) for some in lists])])
    return flat, begins.astype(np.int64)


def _rivals(
    made: Candidates, groups: Sequence[Sequence[str]], always: set[int]
) -> list[list[int]]:
    found: list[set[int]] = [set() for _ in made.terms]
    for group in groups:
        if isinstance(group, str) or len(group) < 2:
            raise ArgumentError(
                "`exclusive` holds groups of two or more candidates, such as "
                f"[('rain', 'rain_last_week')], not {group!r}."
            )
        numbers = term_numbers(made, group, "exclusive")
        if len(always & set(numbers)) > 1:
            raise ArgumentError(f"Two of {tuple(group)} are always in, and exclude each other.")
        for one in numbers:
            found[one] |= set(numbers) - {one}
    return [sorted(some) for some in found]


def _probabilities(
    made: Candidates, settings: Mapping[str, Any], free: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Return log prior probabilities by size, and log odds of terms."""
    count = len(free)
    by_size, log_odds = np.zeros(count + 1), np.zeros(len(made.terms))
    prior, expected = settings["prior"], settings["expected_size"]
    if prior == "beta-binomial":
        a, b = _beta(count, expected)
        sizes = np.arange(count + 1)
        return betaln(a + sizes, b + count - sizes) - betaln(a, b), log_odds
    if expected is not None:
        raise ArgumentError("`expected_size` goes with prior='beta-binomial'.")
    if prior == "uniform":
        return by_size, log_odds
    names = [made.terms[at] for at in free]
    stated = dict.fromkeys(names, prior) if not isinstance(prior, Mapping) else dict(prior)
    term_numbers(made, list(stated), "prior")
    for at in free:
        chance = stated.get(made.terms[at], 0.5)
        if isinstance(prior, str):
            raise ArgumentError(
                f"`prior` is one of {', '.join(_PRIORS)}, a probability, or one for each "
                f"candidate, not {prior!r}."
            )
        check_number("prior", chance)
        if not 0 < chance < 1:
            raise ArgumentError(
                f"The prior probability of `{made.terms[at]}` is between 0 and 1, not {chance!r}: "
                "name it in `always`, or leave it out."
            )
        log_odds[at] = np.log(chance) - np.log1p(-chance)
    return by_size, log_odds


def _beta(count: int, expected: float | None) -> tuple[float, float]:
    """Return the beta prior of the share of candidates that are in (Ley and Steel 2009)."""
    if expected is None or count == 0:
        return 1.0, 1.0
    check_number("expected_size", expected)
    if not 0 < expected < count:
        raise ArgumentError(f"`expected_size` is above 0 and below {count}, not {expected!r}.")
    return 1.0, (count - expected) / expected


def size_prior(space: Space) -> np.ndarray:
    """Return the prior probability of each number of terms, (terms + 1,).

    Without regard to parents and rivals, whose effect on it has no closed form.
    """
    terms, count = len(space.first) - 1, len(space.free)
    found = np.zeros(terms + 1)
    if np.ptp(space.by_size) > 0 or not space.log_odds.any():
        sizes = np.arange(count + 1)
        logs = gammaln(count + 1) - gammaln(sizes + 1) - gammaln(count - sizes + 1) + space.by_size
        chances = np.exp(logs - logs.max())
    else:
        chances = np.ones(1)
        for at in space.free:
            odds = np.exp(space.log_odds[at])
            chances = np.convolve(chances, [1 / (1 + odds), odds / (1 + odds)])
    found[terms - count :] = chances / chances.sum()
    return found
