"""What made a posterior, and what of it belongs into every verdict."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from millwright.draws.labelled_draws import Draws
from millwright.modelling.complete_data import passed_over

__all__ = ["Origin", "Record", "remarks"]


class Origin(StrEnum):
    """Where draws come from."""

    CHAINS = "chains"
    EXACT = "exact draws"
    APPROXIMATION = "approximation"
    AVERAGE = "average over models"
    SWEEPS = "sweeps of a study"
    FILES = "files"
    DAMAGED_RUN = "damaged run"

    @property
    def of_posterior(self) -> bool:
        """Whether the draws are those of the posterior of a model that can be fitted again."""
        return self in (Origin.CHAINS, Origin.EXACT)

    @property
    def independent(self) -> bool:
        """Whether the draws are independent, so that nothing had to converge."""
        return self in (Origin.EXACT, Origin.AVERAGE)

    @property
    def known_model(self) -> bool:
        """Whether the model that the draws are of is known."""
        return self in (Origin.CHAINS, Origin.EXACT, Origin.APPROXIMATION)


@dataclass(frozen=True, kw_only=True)
class Record:
    """What made a posterior, so that it can be repeated and never mistaken for another.

    Attributes
    ----------
    origin
        Where the draws come from.
    settings
        Chains, draws, warm-up and the sampler's settings.
    versions
        Versions of this library, Python, and the libraries that compute.
    fingerprint
        SHA-256 of the data columns that the model used.
    chains
        Step size, metric and acceptance target of each chain.
    complete
        False if the fit was stopped before its end.
    groups
        For each prior of group effects the form in which it was sampled, and over the groups
        the least and the largest share of the answer that comes from the group's own data.
    dropped
        Rows left out because an outcome was missing, by outcome.
    method
        Of chains: name of the method, and its settings.
    extended
        Whether the fit went on after its planned end.
    began_with
        Where a fit went on with other versions: those that it began with.
    pareto_k
        Of an approximation: how far it can be trusted (see `millwright.diagnostics.smoothing`).
    lost
        Of a damaged run: what could not be read.
    modes
        What the search for separate modes found: `climbs`, `evaluations`, whether it was `cut`
        at its largest number of gradients, the number of `peaks`; of several peaks their
        unconstrained `positions`, `log_densities`, `factors` (Cholesky factors of the inverse
        curvature), estimated `masses` and their `errors`. Empty if there was no search.
    """

    origin: Origin
    seed: int
    settings: Mapping[str, Any]
    versions: Mapping[str, str]
    fingerprint: str
    chains: tuple[Mapping[str, Any], ...] = field(repr=False)
    seconds: Mapping[str, float]
    started: str
    complete: bool
    groups: Mapping[str, Any] = field(default_factory=dict)
    dropped: Mapping[str, int] = field(default_factory=dict)
    method: Mapping[str, Any] = field(default_factory=dict)
    extended: bool = False
    began_with: Mapping[str, str] = field(default_factory=dict)
    pareto_k: float | None = None
    lost: tuple[str, ...] = ()
    modes: Mapping[str, Any] = field(default_factory=dict, repr=False)


def remarks(record: Record, draws: Draws, diverged: bool) -> tuple[str, ...]:
    """Return rows left out, values estimated and, where it matters, the form of group effects."""
    missing = record.settings.get("missing", "refuse")
    forms = _form_words(record.groups) if diverged else ()
    began = tuple(
        f"The run began with {name} {found}; draws since differ from an uninterrupted run's."
        for name, found in record.began_with.items()
    )
    walkers: tuple[str, ...] = ()
    if record.method.get("method") == "ensemble":
        walkers = (
            "The chains are walkers of one ensemble, which learn from each other: their agreement "
            "says less than that of independent chains.",
            *_walker_words(record),
        )
    elsewhere: tuple[str, ...] = ()
    if not record.origin.known_model:
        elsewhere = _elsewhere_words(record)
    return (
        *began,
        *walkers,
        *elsewhere,
        *_dropped_words(record.dropped, missing),
        *_filled_words(draws),
        *forms,
    )


def _walker_words(record: Record) -> tuple[str, ...]:
    """Say what one kept draw of an ensemble took, and when its warm-up ended."""
    made = record.chains[0]
    if "moves_per_draw" not in made:
        # Runs of before did not say.
        return ()
    most, took = int(record.settings["warmup"]), int(made["warmup_draws"])
    words = f"One kept draw took {made['moves_per_draw']} moves of each walker"
    if made["stationary"] is None:
        return (f"{words}.",)
    if made["stationary"]:
        ended = (
            f"the warm-up ended after {took} of at most {most} draws, when they were stationary"
        )
    else:
        ended = f"the warm-up took all of its {took} draws, and they were not stationary by then"
    return (f"{words}; {ended}.",)


def _elsewhere_words(record: Record) -> tuple[str, ...]:
    unknown = "what its sampler met (divergences, energies) is not known."
    if record.origin is Origin.AVERAGE:
        return (
            "Taken over several models by their probabilities. What a model lacks is 0 there, so "
            "shares above and below 0 need not sum to 1.",
        )
    if record.origin is Origin.SWEEPS:
        return (
            f"Gibbs sampling, {record.settings.get('thin', 1)} sweeps a draw: there is no "
            "gradient, so nothing diverges and no energy is known.",
        )
    if record.origin is Origin.FILES:
        return (f"Made by another program: {unknown}",)
    lost = tuple(f"Lost: {one}." for one in record.lost)
    return (f"Rescued from the files of draws of a run: {unknown}", *lost)


def _dropped_words(dropped: Mapping[str, int], missing: str) -> tuple[str, ...]:
    what, more = "dropped", ""
    if missing == "predict":
        what, more = "left out of the fit", "; predict_missing() gives their draws"
    return tuple(
        f"Rows {what} because `{name}` was missing: {count}{more}."
        for name, count in dropped.items()
    )


def _filled_words(draws: Draws) -> tuple[str, ...]:
    passed = tuple(
        f"Missing readings of `{name}` passed over: {count}."
        for name in sorted(passed_over(draws.binding.specification))
        if name in draws.binding.tables.columns
        and (count := int(draws.binding.tables.columns[name].missing().sum()))
    )
    return passed + tuple(
        f"Missing values of `{column}` estimated with the model: "
        f"{draws.values[name].shape[-1]} (`{name}`)."
        for column, name in draws.binding.program.filled.items()
    )


def _form_words(groups: Mapping[str, Any]) -> tuple[str, ...]:
    """Say how group effects were sampled, which matters where transitions diverged."""
    words = []
    for name, found in groups.items():
        share = found.get("share_from_own_data")
        more = f" ({share[0]:.0%} to {share[1]:.0%} of a value from its own data)" if share else ""
        words.append(f"Form of `{name}`: {found['form']}{more}.")
    return tuple(words)
