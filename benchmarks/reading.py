"""What looking at a fit costs: convergence numbers, the table, each figure.

    python benchmarks/reading.py

Convergence numbers of 4 chains x 1000 draws x 10,000 quantities, against sorting the same
numbers once; the table of 200 quantities; and each figure of ten quantities (or of one outcome),
made and written as PNG, with the share of that time that Matplotlib takes to render it.
"""

from __future__ import annotations

import io
import time
from collections.abc import Callable

import numpy as np
from matplotlib.figure import Figure

import millwright as mw
from millwright.diagnostics.measures import measure
from millwright.draws.table import make_table
from millwright.draws.table_forms import written
from millwright.posterior.posterior import Posterior


def seconds(call: Callable[[], object], rounds: int = 3) -> float:
    times = []
    for _ in range(rounds):
        began = time.perf_counter()
        call()
        times.append(time.perf_counter() - began)
    return min(times)


def fitted() -> Posterior:
    """Ten weights of ten columns, 100 rows."""
    generator = np.random.default_rng(0)
    x = generator.standard_normal((100, 9))
    y = x @ generator.standard_normal(9) + generator.standard_normal(100)
    model = mw.Model(
        priors={"weights": "normal(0, 2) per X", "noise": "half_normal(2)"},
        likelihood={"power": "normal(X @ weights, noise)"},
    )
    return model.fit({"X": x, "power": y, "shift": x[:, 0]}, seed=1, progress=False)


def figures(posterior: Posterior) -> dict[str, Callable[[], Figure]]:
    plots = mw.plots
    six = list(posterior.draws.single())[:6]
    check = posterior.predictive_check()
    decision = posterior.decide("weights[1]", rope=(-0.1, 0.1))
    fits = mw.compare_estimates("weights", one=posterior, two=posterior)
    eight = list(posterior.draws.single())[:8]
    return {
        "trace (eight)": lambda: plots.trace(posterior, eight),
        "densities": lambda: plots.densities(posterior),
        "ranks": lambda: plots.rank_counts(posterior),
        "autocorrelation": lambda: plots.autocorrelation(posterior),
        "running means": lambda: plots.running_mean(posterior),
        "pairs (six)": lambda: plots.scatter_matrix(posterior, six),
        "energy": lambda: plots.energy_changes(posterior),
        "intervals": lambda: plots.intervals(posterior),
        "posterior densities": lambda: plots.posterior_densities(posterior, rope=(-0.1, 0.1)),
        "decision": lambda: plots.decision(decision),
        "prior and posterior": lambda: plots.prior_posterior(posterior),
        "predictive check": lambda: plots.predictive_check(check),
        "check, densities": lambda: plots.predictive_check(check, show="densities"),
        "check, rows": lambda: plots.predictive_check(check, show="rows"),
        "left-out positions": lambda: plots.leave_one_out_pit(posterior),
        "across fits": lambda: plots.compare_estimates(fits),
        "overview": lambda: plots.overview(posterior),
    }


def main() -> None:
    x = np.random.default_rng(0).standard_normal((10_000, 4, 1000))
    once = seconds(lambda: np.sort(x.reshape(10_000, -1), axis=1), 2)
    named = {str(at): one for at, one in enumerate(x)}
    all_of_it = seconds(lambda: measure(named), 2)
    print(
        f"convergence numbers, 4 x 1000 x 10,000: {all_of_it:.2f} s, "
        f"{all_of_it / once:.1f} times sorting them once"
    )
    some = dict(list(named.items())[:200])
    print(f"table of 200 quantities: {seconds(lambda: written(make_table(some))):.2f} s")
    print(f"{'figure of ten quantities':28s} seconds   of which rendering")
    for name, make in figures(fitted()).items():
        figure = make()
        render = seconds(lambda figure=figure: figure.savefig(io.BytesIO(), dpi=100))
        whole = seconds(lambda make=make: make().savefig(io.BytesIO(), dpi=100))
        print(f"{name:28s} {whole:7.2f}   {100 * render / whole:5.0f} %")


if __name__ == "__main__":
    main()
