"""What fits without single rows cost, once compiled.

    python benchmarks/left_out.py

Prints the time of 100 such fits of ten slopes over the sampling that they hold; and that of the
sensitivity to priors.
"""

from __future__ import annotations

import time

import numpy as np

import millwright as mw
from millwright.posterior.left_out import bridged_each

ROWS, SLOPES, LEFT_OUT = 60, 10, 100


def main() -> None:
    generator = np.random.default_rng(1)
    data = {f"x{at}": generator.normal(size=ROWS) for at in range(SLOPES)}
    data["y"] = data["x0"] + generator.normal(size=ROWS)
    total = " + ".join(f"b{at} * x{at}" for at in range(SLOPES))
    model = mw.Model(
        priors={f"b{at}": "normal(0, 1)" for at in range(SLOPES)} | {"noise": "half_normal(2)"},
        likelihood={"y": f"normal({total}, noise)"},
    )
    posterior = model.fit(data, seed=1, progress=False)
    again = model.fit(data, seed=2, progress=False)
    units = {at: {"y": [at % ROWS, (at * 7 + 1) % ROWS]} for at in range(LEFT_OUT)}
    bridged_each(posterior.fit, units, lambda event: None)
    began = time.perf_counter()
    bridged_each(posterior.fit, units, lambda event: None)
    seconds = time.perf_counter() - began
    sampling = again.record.seconds["sampling"]
    print(
        f"{LEFT_OUT} fits without rows: {seconds:.1f} s; over {LEFT_OUT} times the sampling of "
        f"the fit itself ({sampling:.2f} s) {seconds / sampling / LEFT_OUT:.2f}"
    )
    began = time.perf_counter()
    posterior.prior_sensitivity()
    print(
        f"sensitivity to the priors of {SLOPES + 1} unknowns {time.perf_counter() - began:.2f} s"
    )


if __name__ == "__main__":
    main()
