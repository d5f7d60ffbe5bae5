"""Several methods of sampling on one target, side by side."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from millwright.diagnostics.autocorrelation import autocorrelations
from millwright.diagnostics.convergence import mean_error, mean_size
from millwright.display import Shown, text_table
from millwright.draws.numbers import supported
from millwright.errors import ArgumentError, MillwrightError, UnknownLabelError, nearest
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.sampling.methods import METHODS, Method, method_with
from millwright.sampling.progress import Listener

__all__ = ["SamplersCompared", "autocorrelations", "compare_samplers"]

_KEY = (
    "Acceptance: share of steps taken, of candidates kept for rejection.\n"
    "Lag-1 autocorrelation: how like its neighbour a draw is; 0 for independent draws, near 1 "
    "where\nmany draws are worth one. Moves per draw: evaluations for each kept draw.\n"
    "Effective draws: how many independent draws these are worth for the mean; more is better.\n"
    "Evaluations of the density (with its gradient, for no_u_turn) count the warm-up too; of "
    "laplace_grid\nthey count candidates, each with a search for a mode, and not the grid.\n"
    "Estimate: the mean. Monte Carlo error: its standard error, since draws are finite in "
    "number."
)
_TRUTH_KEY = (
    "Error: estimate minus truth, in Monte Carlo errors; beyond 3 or so in size it is more than "
    "chance."
)


@dataclass(frozen=True, eq=False, kw_only=True)
class SamplersCompared(Shown):
    """The same target sampled by several methods.

    Attributes
    ----------
    table
        One row a method and quantity: `draws`, `moves per draw`, `acceptance`,
        `lag-1 autocorrelation`, `effective draws`, `effective draws per 1000 evaluations`,
        `effective draws per second`, `estimate` (the mean), `Monte Carlo error` and, where the
        truth is known, `truth` and `error / Monte Carlo error`.
    posteriors
        The posterior of each method, by its label.
    truth
        True means, by quantity.
    failures
        Why a method gave no draws, by its label.
    """

    table: pd.DataFrame
    posteriors: Mapping[str, Posterior] = field(repr=False)
    truth: Mapping[str, float]
    failures: Mapping[str, str] = field(default_factory=dict)

    def __str__(self) -> str:
        names = [f"{method}: {name}" for method, name in self.table.index.to_list()]
        rows = list(zip(names, self.table.to_dict("records"), strict=True))
        columns: dict[str, list[str]] = {
            "draws": [f"{row['draws']:.0f}" for _, row in rows],
            "moves per draw": [f"{row['moves per draw']:.3g}" for _, row in rows],
            "acceptance": [f"{row['acceptance']:.2g}" for _, row in rows],
            "lag-1 autocorrelation": [f"{row['lag-1 autocorrelation']:.2f}" for _, row in rows],
            "effective draws": [f"{row['effective draws']:.0f}" for _, row in rows],
            "effective draws per 1000 evaluations": [
                f"{row['effective draws per 1000 evaluations']:.3g}" for _, row in rows
            ],
            "effective draws per second": [
                f"{row['effective draws per second']:.0f}" for _, row in rows
            ],
            "estimate": [supported(row["estimate"], row["Monte Carlo error"]) for _, row in rows],
            "Monte Carlo error": [f"{row['Monte Carlo error']:.2g}" for _, row in rows],
        }
        key = _KEY
        if self.truth:
            columns["truth"] = [_or_unknown(row["truth"], ".4g") for _, row in rows]
            columns["error / Monte Carlo error"] = [
                _or_unknown(row["error / Monte Carlo error"], "+.1f") for _, row in rows
            ]
            key = f"{_KEY}\n{_TRUTH_KEY}"
        bad = [
            f"{label}: {posterior.verdict.headline}"
            for label, posterior in self.posteriors.items()
            if not posterior.verdict.good
        ]
        bad += [f"{label} FAILED: {why}" for label, why in self.failures.items()]
        return "\n".join([text_table([name for name, _ in rows], columns), key, *bad])


def _or_unknown(value: float, form: str) -> str:
    return format(value, form) if np.isfinite(value) else "not given"


def compare_samplers(
    model: Model,
    methods: Sequence[str | Method] | Mapping[str, str | Method] = (
        "no_u_turn",
        "random_walk",
        "ensemble",
    ),
    data: Any = None,
    *,
    truth: Mapping[str, float] | None = None,
    names: str | Sequence[str] | None = None,
    draws: int = 1000,
    warmup: int = 1000,
    seed: int = 0,
    progress: bool | Listener = False,
) -> SamplersCompared:
    """Sample one target by several methods and put them side by side.

    Parameters
    ----------
    model
        A model or a target.
    methods
        Names or objects as for `fit`, or a mapping from labels of your own to them.
    data
        Data of a model.
    truth
        True means of quantities, as `drying` or `effect[Upper]`, where they are known.
    names
        Quantities to show; by default all.
    draws, warmup, seed
        As for `fit`, the same for each method.

    Returns
    -------
    A table of cost and estimates by method and quantity, and each posterior.

    Raises
    ------
    ArgumentError
        For no methods, or two of one name. A method that fails is named in the result, and the
        others are compared; only where all fail the first error is raised.
    UnknownLabelError
        If `truth` names what is not there.
    """
    if not isinstance(model, Model):
        raise ArgumentError(f"`model` must be a model or a target, not {model!r}.")
    labelled = _labelled(methods)
    posteriors: dict[str, Posterior] = {}
    failures: dict[str, MillwrightError] = {}
    for label, method in labelled.items():
        try:
            posteriors[label] = model.fit(
                data, method=method, draws=draws, warmup=warmup, seed=seed, progress=progress
            )
        except MillwrightError as error:
            failures[label] = error
    if not posteriors:
        raise next(iter(failures.values()))
    known = dict(truth or {})
    rows = [
        _row(label, name, value, posterior, known.get(name, np.nan))
        for label, posterior in posteriors.items()
        for name, value in posterior.draws.single(_chosen(names)).items()
    ]
    shown = {row["quantity"] for row in rows}
    for name in known:
        if name not in shown:
            raise UnknownLabelError(
                f"`truth` names `{name}`, which is not a quantity here.{nearest(name, shown)}"
            )
    table = pd.DataFrame(rows).set_index(["method", "quantity"])
    if not known:
        table = table.drop(columns=["truth", "error / Monte Carlo error"])
    said = {label: str(error) for label, error in failures.items()}
    return SamplersCompared(table=table, posteriors=posteriors, truth=known, failures=said)


def _chosen(names: str | Sequence[str] | None) -> Sequence[str] | None:
    return [names] if isinstance(names, str) else names


def _labelled(
    methods: Sequence[str | Method] | Mapping[str, str | Method],
) -> dict[str, str | Method]:
    if isinstance(methods, Mapping):
        found = dict(methods)
    elif isinstance(methods, str) or not isinstance(methods, Sequence):
        raise ArgumentError(
            f"`methods` must be a list of methods ({', '.join(METHODS)}), not {methods!r}."
        )
    else:
        names = [m if isinstance(m, str) else getattr(m, "name", repr(m)) for m in methods]
        if len(set(names)) < len(names):
            raise ArgumentError(
                "`methods` names one method twice: give a mapping from labels, such as "
                "{'short steps': mw.RandomWalk(acceptance=0.7), ...}."
            )
        found = dict(zip(names, methods, strict=True))
    if not found:
        raise ArgumentError("`methods` is empty: name at least one.")
    for method in found.values():
        if isinstance(method, str):
            method_with(method, {})
        elif not isinstance(method, Method):
            raise ArgumentError(f"`methods` holds {method!r}, which is no method.")
    return found


def _row(
    label: str, name: str, value: np.ndarray, posterior: Posterior, truth: float
) -> dict[str, Any]:
    x = value[..., None]
    ess, mcse = float(mean_size(x)[0]), float(mean_error(x)[0])
    record = posterior.record
    # Walkers of an ensemble and chains of other methods count their own evaluations.
    evaluations = sum(chain["steps"] for chain in record.chains)
    estimate = float(value.mean())
    return {
        "method": label,
        "quantity": name,
        "draws": value.size,
        "moves per draw": sum(c["steps"] - c.get("warmup_steps", 0) for c in record.chains)
        / value.size,
        "acceptance": float(posterior.fit.statistics["acceptance"].mean()),
        "lag-1 autocorrelation": float(autocorrelations(value, 1)[1]),
        "effective draws": ess,
        "effective draws per 1000 evaluations": 1000 * ess / evaluations,
        "effective draws per second": ess / record.seconds["sampling"],
        "estimate": estimate,
        "Monte Carlo error": mcse,
        "truth": truth,
        "error / Monte Carlo error": (estimate - truth) / mcse,
    }
