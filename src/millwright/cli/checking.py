"""The dry run before a fit: what was read, and what a fit would meet."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from millwright.cores import available_cores
from millwright.fitting.target import target_of
from millwright.language.tree import Name, Operation, walk
from millwright.modelling.binding import Binding
from millwright.modelling.gathering import gathered
from millwright.modelling.labelled import RowAxis
from millwright.modelling.words import describe
from millwright.models.model import Model
from millwright.sampling.compiling import compiled, on_device
from millwright.sampling.pools import for_a_while
from millwright.sampling.sampler import FitSettings
from millwright.sampling.slope import value_and_gradient
from millwright.terminal.progress import duration

__all__ = ["ModelCheck", "check"]

_USUALLY_FINITE = 0.95
_FAR_FROM_ZERO = 10.0
_SMALL, _LARGE = 1e-3, 1e3


@dataclass(frozen=True, kw_only=True)
class ModelCheck:
    """What a dry run found.

    Attributes
    ----------
    finite
        Share of 100 prior draws with a finite log density and gradient.
    microseconds
        Time of one log density with its gradient, called from Python.
    workers
        Worker processes that evaluated the model; 0 if none were asked for.
    steps
        Transitions of all chains of the planned fit, over the cores.
    left_out
        Rows left out for want of an outcome, in words.
    troubles
        What is likely to make a fit slow or its answer vague, in words.
    """

    description: str
    rows: dict[str, int]
    labels: dict[str, int]
    unknowns: int
    finite: float
    microseconds: float
    workers: int = 0
    steps: float = 0.0
    left_out: str = ""
    troubles: tuple[str, ...] = ()

    @property
    def good(self) -> bool:
        """Whether a fit can start."""
        return self.finite > 0

    @property
    def record(self) -> dict[str, Any]:
        """The findings as plain values."""
        return {
            "good": self.good,
            "rows": self.rows,
            "labels": self.labels,
            "numbers_unknown": self.unknowns,
            "share_of_prior_draws_with_finite_density": self.finite,
            "microseconds_per_gradient": self.microseconds,
            "workers_checked": self.workers,
            "troubles": list(self.troubles),
            "model": self.description,
        }

    def __str__(self) -> str:
        rows = ", ".join(
            f"{size} rows" + (f" in {RowAxis(axis).table}" if RowAxis(axis).table else "")
            for axis, size in self.rows.items()
        )
        labels = "".join(f"; {name}: {size} labels" for name, size in self.labels.items())
        # Inside the compiled sampler a gradient costs about 20 microseconds less than from here.
        step = max(3.0, 1.5 * (self.microseconds - 20.0))
        seconds = max(0.2, self.steps * 12 * step * 1e-6)
        lines = [
            self.description,
            "",
            f"Data: {rows or 'none'}{labels}. No value in use is missing or infinite."
            f"{self.left_out}",
            f"Unknown numbers: {self.unknowns}.",
            f"Log density and gradient: finite at {100 * self.finite:.0f} % of 100 draws from "
            f"the prior; one takes about {self.microseconds:.0f} microseconds.",
        ]
        if self.workers:
            lines.append(f"Worker processes that can evaluate the model: {self.workers}.")
        if self.good:
            lines.append(
                f"The planned fit may take roughly {duration(seconds)}, and 1 to 3 s more to "
                "compile the first time."
            )
        else:
            lines.append("A fit cannot start: no prior draw has a finite density.")
        return "\n".join([*lines, *(f"Mind: {one}" for one in self.troubles)])


def _steps(settings: Mapping[str, Any]) -> float:
    """Return the transitions of the chains that one core runs."""
    draws = int(settings.get("draws", FitSettings.draws)) * int(settings.get("thin", 1))
    chains = int(settings.get("chains", 4))
    each = draws + int(settings.get("warmup", FitSettings.warmup))
    return each * -(-chains // min(chains, available_cores()))


def _left_out(binding: Binding) -> str:
    return "".join(
        f" Left out for want of `{name}`: {count} rows." for name, count in binding.dropped.items()
    )


def check(
    model: Model, data: Any, workers: int = 0, planned: Mapping[str, Any] | None = None
) -> ModelCheck:
    """Bind data, evaluate the log density and its gradient at prior draws, and time one.

    With `workers`, so many processes are started, and each must evaluate the model too.
    `planned` are settings of the fit that is meant.
    """
    settings = dict(planned or {})
    answered = 0
    if workers:
        with for_a_while(workers) as processes:
            answered = model.check_workers(processes, data)
    binding: Binding = model.bind(data, missing=settings.get("missing", "refuse"))
    target = target_of(binding)
    positions = target.starts(np.random.default_rng(0), 100)
    arguments = on_device(target.arguments)
    evaluate = compiled(value_and_gradient, target.key, (positions[0], arguments))
    finite, seconds = [], []
    for position in positions:
        began = time.perf_counter()
        value, gradient = map(np.asarray, evaluate(position, arguments))
        seconds.append(time.perf_counter() - began)
        finite.append(np.isfinite(value) and np.isfinite(gradient).all())
    sizes = {name: len(labels) for name, labels in binding.labels.items()}
    return ModelCheck(
        description=describe(
            model.specification, sizes, binding.taken.values(), gathered(binding).notes
        ),
        rows=dict(binding.tables.sizes),
        labels=sizes,
        unknowns=target.dimension,
        finite=float(np.mean(finite)),
        microseconds=1e6 * float(np.min(seconds)),
        workers=answered,
        steps=_steps(settings),
        left_out=_left_out(binding),
        troubles=tuple(_troubles(binding, target.dimension, float(np.mean(finite)))),
    )


def _has_a_slope(binding: Binding, column: str) -> bool:
    """Whether a column as it is, not (column - 20) or log(column), is multiplied by something."""
    specification = binding.specification
    groups = (specification.priors, specification.likelihood, specification.derived)
    return any(
        isinstance(node, Operation)
        and node.operator == "*"
        and any(isinstance(one, Name) and one.name == column for one in node.operands)
        for group in groups
        for definition in group
        for node in walk(definition.expression)
    )


def _troubles(binding: Binding, unknowns: int, finite: float) -> Iterator[str]:
    """Name what is likely to go wrong, from the data and the sizes alone."""
    if 0 < finite < _USUALLY_FINITE:
        yield (
            f"the density is not finite at {1 - finite:.0%} of the prior draws: some priors allow "
            "values that make no sense for the likelihood."
        )
    rows = sum(binding.tables.sizes.values())
    if rows and unknowns > rows:
        yield f"{unknowns} unknown numbers for {rows} rows: the answer will rest on the priors."
    used = set(binding.program.column_axes)
    outcomes = {part.name for part in binding.program.outcomes}
    for name, column in binding.tables.columns.items():
        if name not in used or name in outcomes or not column.numeric or name in binding.labels:
            continue
        middle, spread = float(np.nanmean(column.values)), float(np.nanstd(column.values))
        far = spread > 0 and abs(middle) > _FAR_FROM_ZERO * spread
        if far and _has_a_slope(binding, name):
            yield (
                f"the values of `{name}` lie far from zero for their spread: written as "
                f"({name} - {middle:.3g}) its slope and the start are told apart more easily."
            )
        elif not far and spread > 0 and not _SMALL < spread < _LARGE:
            yield (
                f"`{name}` has a standard deviation of {spread:.3g}: in another unit its prior is "
                "easier to choose."
            )
    for name, labels in binding.labels.items():
        if name in binding.tables.columns and len(labels) == 1:
            yield f"`{name}` has one label only: effects per {name} cannot be told from the rest."
