"""The dry run before a fit: what was read, and what a fit would meet."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

import jax
import numpy as np

from millwright.fitting import target_of
from millwright.model import Model
from millwright.modelling.binding import Binding
from millwright.modelling.words import describe
from millwright.sampling.compiling import compiled
from millwright.sampling.mode import value_and_gradient
from millwright.sampling.pools import own_processes

__all__ = ["Vetting", "vet"]


@dataclass(frozen=True)
class Vetting:
    """What a dry run found.

    Attributes
    ----------
    finite
        Share of 100 prior draws with a finite log density and gradient.
    microseconds
        Time of one log density with its gradient, called from Python.
    workers
        Worker processes that evaluated the model; 0 if none were asked for.
    """

    description: str
    rows: dict[str, int]
    labels: dict[str, int]
    unknowns: int
    finite: float
    microseconds: float
    workers: int = 0

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
            "model": self.description,
        }

    def __str__(self) -> str:
        rows = ", ".join(
            f"{size} rows" + (f" in {axis[7:]}" if axis.startswith("row_of_") else "")
            for axis, size in self.rows.items()
        )
        labels = "".join(f"; {name}: {size} labels" for name, size in self.labels.items())
        # Inside the compiled sampler a gradient costs about 20 microseconds less than from here.
        step = max(3.0, 1.5 * (self.microseconds - 20.0))
        seconds = 4 * 2000 * 12 * step * 1e-6 / 2
        lines = [
            self.description,
            "",
            f"Data: {rows or 'none'}{labels}. No value in use is missing or infinite.",
            f"Unknown numbers: {self.unknowns}.",
            f"Log density and gradient: finite at {100 * self.finite:.0f} % of 100 draws from "
            f"the prior; one takes about {self.microseconds:.0f} microseconds.",
        ]
        if self.workers:
            lines.append(f"Worker processes that can evaluate the model: {self.workers}.")
        if self.good:
            lines.append(
                f"A fit of 4 chains with 2000 draws each may take roughly {max(seconds, 0.2):.1f} "
                "seconds, and 1 to 3 more to compile the first time."
            )
        else:
            lines.append("A fit cannot start: no prior draw has a finite density.")
        return "\n".join(lines)


def vet(model: Model, data: Any, workers: int = 0) -> Vetting:
    """Bind data, evaluate the log density and its gradient at prior draws, and time one.

    With `workers`, so many processes are started, and each must evaluate the model too.
    """
    answered = 0
    if workers:
        with own_processes(workers) as processes:
            answered = model.check_workers(processes, data)
    binding: Binding = model.bind(data)
    target = target_of(binding)
    positions = target.starts(np.random.default_rng(0), 100)
    arguments = jax.device_put(target.arguments)
    evaluate = compiled(value_and_gradient, target.key, (positions[0], arguments))
    finite, seconds = [], []
    for position in positions:
        began = time.perf_counter()
        value, gradient = jax.block_until_ready(evaluate(position, arguments))
        seconds.append(time.perf_counter() - began)
        finite.append(np.isfinite(value) and np.isfinite(gradient).all())
    sizes = {name: len(labels) for name, labels in binding.labels.items()}
    return Vetting(
        describe(model.specification, sizes),
        dict(binding.tables.sizes),
        sizes,
        target.dimension,
        float(np.mean(finite)),
        1e6 * float(np.min(seconds)),
        answered,
    )
