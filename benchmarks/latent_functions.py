"""Latent Gaussian processes: coordinates that the data inform, standard ones, and a grid.

    python benchmarks/latent_functions.py [PLACES ...]

Counts and yes/no read at so many places (by default 20 and 40), with level, height and length
unknown. All in one run: seconds of a whole fit once its code is compiled, the smallest effective
size of all unknowns, and how many times as many effective draws a second the standard form's are.
"""

from __future__ import annotations

import sys
import time
from typing import Any

import numpy as np

import millwright as mw
from millwright.diagnostics.convergence import bulk_size

PRIORS = {
    "level": "normal(0, 2)",
    "height": "half_normal(2)",
    "length": "inverse_gamma(shape=5, scale=8)",
    "curve": "gaussian_process(level, "
    "kernel=squared_exponential(x, scale=height, length=length)) per x",
}
OUTCOMES = {"counts": "poisson(log_rate=curve[x])", "yes/no": "bernoulli(log_odds=curve[x])"}


def data(places: int) -> dict[str, Any]:
    """Return readings of both kinds of one function."""
    make = np.random.default_rng(1)
    x = np.linspace(0, 10, places)
    f = 1 + np.sin(x) + 0.3 * np.cos(2.3 * x)
    yes = make.random(places) < 1 / (1 + np.exp(-2 * (f - 1)))
    return {"x": x, "counts": make.poisson(np.exp(f)), "yes/no": yes.astype(int)}


FORMS: dict[str, dict[str, Any]] = {
    "standard": {"parameterisation": "non-centred"},
    "informed": {"parameterisation": "informed"},
    "grid": {"method": "laplace_grid"},
}


def timed(kind: str, places: int, form: str) -> tuple[float, float]:
    """Return seconds of a fit, and the smallest effective size."""
    table = data(places)
    model = mw.Model(priors=PRIORS, likelihood={"y": OUTCOMES[kind]})
    readings = {"x": table["x"], "y": table[kind]}
    settings = {"seed": 1, "progress": False, **FORMS[form]}
    model.fit(readings, draws=10, chains=1, **settings)
    began = time.perf_counter()
    fit = model.fit(readings, **settings)
    seconds = time.perf_counter() - began
    drawn = np.stack(list(fit.draws.single(list(PRIORS)).values()), axis=-1)
    return seconds, float(np.min(bulk_size(drawn)))


def main() -> None:
    """Print one line for each kind of outcome and number of places."""
    for places in [int(one) for one in sys.argv[1:]] or [20, 40]:
        for kind in OUTCOMES:
            found = {form: timed(kind, places, form) for form in FORMS}
            rates = {form: size / seconds for form, (seconds, size) in found.items()}
            told = [
                f"{form} {seconds:.1f} s, {size:.0f} effective, "
                f"{rates[form] / rates['standard']:.1f} x"
                for form, (seconds, size) in found.items()
            ]
            print(f"{places} places, {kind}: {'; '.join(told)}", flush=True)


if __name__ == "__main__":
    main()
