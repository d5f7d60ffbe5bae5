"""Walks as unknowns, in each form of their coordinates.

    python benchmarks/latent_series.py [PLACES ...]

A walk read once a place (by default 40 and 150 places) with unknown sizes of steps and errors, in
normal readings whose error is small or large beside a step, counts, yes/no, and as a log sd. All
in one run: seconds of a whole fit once its code is compiled, the smallest effective size of all
unknowns, and effective draws a second over those of the better one of the plain forms.
"""

from __future__ import annotations

import sys
import time

import numpy as np

import millwright as mw
from millwright.diagnostics.convergence import bulk_size

STEP, ERROR = "half_normal(0.5)", "half_normal(1)"
WALK = "random_walk(start=0, scale=step) per day"
FORMS = ("centred", "non-centred", "informed")
OUTCOMES = {
    "errors 0.3 of a step": "normal(level[day], error)",
    "errors 1 of a step": "normal(level[day], error)",
    "errors 5 of a step": "normal(level[day], error)",
    "counts": "poisson(log_rate=level[day])",
    "yes/no": "bernoulli(log_odds=level[day])",
    "log sd": "normal(0, exp(level[day]))",
}


def readings(kind: str, places: int) -> np.ndarray:
    """Return readings of one kind of a walk with steps of 0.3."""
    make = np.random.default_rng(1)
    level = np.cumsum(0.3 * make.normal(size=places))
    if kind.startswith("errors"):
        return level + 0.3 * float(kind.split()[1]) * make.normal(size=places)
    if kind == "counts":
        return make.poisson(np.exp(level))
    if kind == "yes/no":
        return (make.random(places) < 1 / (1 + np.exp(-level))).astype(int)
    return np.exp(level) * make.normal(size=places)


def timed(kind: str, places: int, form: str) -> tuple[float, float, str]:
    """Return seconds of a fit, the smallest effective size, and the verdict in a word."""
    priors = {"step": STEP, "level": WALK}
    if kind.startswith("errors"):
        priors["error"] = ERROR
    model = mw.Model(priors=priors, likelihood={"y": OUTCOMES[kind]})
    data = {"day": np.arange(places), "y": readings(kind, places)}
    model.fit(data, seed=1, progress=False, parameterisation=form, draws=10, chains=1)
    began = time.perf_counter()
    fit = model.fit(data, seed=1, progress=False, parameterisation=form)
    seconds = time.perf_counter() - began
    drawn = np.stack(list(fit.draws.single(list(priors)).values()), axis=-1)
    return seconds, float(np.min(bulk_size(drawn))), "good" if fit.verdict.good else "flagged"


def main() -> None:
    """Print one line for each kind of reading and number of places."""
    for places in [int(one) for one in sys.argv[1:]] or [40, 150]:
        for kind in OUTCOMES:
            found = {form: timed(kind, places, form) for form in FORMS}
            rates = {form: size / seconds for form, (seconds, size, _) in found.items()}
            plain = max(rates["centred"], rates["non-centred"])
            told = [
                f"{form} {seconds:.1f} s, {size:.0f} effective, {verdict}"
                for form, (seconds, size, verdict) in found.items()
            ]
            times = rates["informed"] / plain
            print(f"{places} places, {kind}: {'; '.join(told)}; {times:.1f} x", flush=True)


if __name__ == "__main__":
    main()
