"""Latent Gaussian processes: coordinates that the data inform against standard ones.

    python benchmarks/latent_functions.py [PLACES ...]

Counts and yes/no read at so many places (by default 20 and 40), with level, height and length
unknown. Both forms in one run: seconds of sampling, the smallest effective size of the three, and
how many times more effective draws a second the informed form gives.
"""

from __future__ import annotations

import sys
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


def timed(kind: str, places: int, form: str) -> tuple[float, float]:
    """Return seconds of sampling, and the smallest effective size."""
    table = data(places)
    model = mw.Model(priors=PRIORS, likelihood={"y": OUTCOMES[kind]})
    fit = model.fit(
        {"x": table["x"], "y": table[kind]}, seed=1, parameterisation=form, progress=False
    )
    drawn = np.stack([fit[name].values for name in ("level", "height", "length")], axis=-1)
    return fit.record.seconds["sampling"], float(np.min(bulk_size(drawn)))


def main() -> None:
    """Print one line for each kind of outcome and number of places."""
    for places in [int(one) for one in sys.argv[1:]] or [20, 40]:
        for kind in OUTCOMES:
            (informed, size), (standard, less) = (
                timed(kind, places, form) for form in ("informed", "non-centred")
            )
            ratio = (size / informed) / (less / standard)
            print(
                f"{places} places, {kind}: informed {informed:.1f} s, {size:.0f} effective; "
                f"standard {standard:.1f} s, {less:.0f}; {ratio:.1f} times as many a second"
            )


if __name__ == "__main__":
    main()
