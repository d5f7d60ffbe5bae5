"""What a variable selection says of its choices."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from millwright.studies.selection_study import SelectionStudy

__all__ = ["choice_words"]


def choice_words(study: SelectionStudy) -> tuple[str, ...]:
    settings, made = study.settings, study.candidates
    g = study.g
    told = f"g = {g.known:g} ({g.words})" if g.known is not None else f"{g.words}, a = 3"
    lines = [
        f"Slopes: normal around 0 with the variance g noise^2 (X'X)^-1, {told}; level and log of "
        "the noise flat (Zellner 1986; Liang et al. 2008).",
        _subset_words(settings, len(study.space.free)),
        *(
            f"`{column}`: reference {labels[0]}, of {', '.join(labels)}; they enter together."
            for column, labels in made.design.levels.items()
        ),
    ]
    if settings["always"]:
        lines.append(f"Always in: {', '.join(settings['always'])}.")
    lines += [f"At most one of {', '.join(group)}." for group in settings["exclusive"]]
    if any(made.parents.values()):
        lines.append("Interactions are in only beside their parents.")
    walks = study.walks
    if walks is None:
        lines.append("Every subset is weighed.")
    else:
        lines.append(
            f"{walks.chains} walks over subsets from different starts, {walks.steps:,} steps each "
            f"after {walks.burn_in:,}; subsets are weighed exactly where they are met."
        )
        if study.bound:
            lines.append(
                "Some subsets are left out: prior probabilities of candidates and sizes are "
                "shares of the steps of walks without the data."
            )
    return tuple(lines)


def _subset_words(settings: Mapping[str, Any], free: int) -> str:
    prior, expected = settings["prior"], settings["expected_size"]
    if prior == "beta-binomial":
        size = free / 2 if expected is None else expected
        return (
            "Subsets: beta-binomial"
            + (", every number of candidates as probable" if expected is None else "")
            + f"; {size:g} expected (Ley and Steel 2009)."
        )
    if prior == "uniform":
        return f"Subsets: all as probable, so {free / 2:g} candidates expected."
    if isinstance(prior, Mapping):
        each = ", ".join(f"{name} {value:g}" for name, value in prior.items())
        return f"Prior probability of being in: {each}; others 0.5."
    return f"Prior probability of being in: {prior:g} for each candidate."
