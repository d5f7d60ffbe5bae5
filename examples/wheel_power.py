"""The wheel's power curve, as a function of unknown shape and as a bounded physical curve.

The Gaussian process knows only that power changes smoothly with the flow; the physical curve
rises from zero to the wheel's capacity. Both are fitted, drawn on request, and compared.
The data are made up from a physical curve.
"""

import sys
from pathlib import Path

import numpy as np

import millwright as mw

flow = np.sort(np.random.default_rng(5).uniform(0.2, 6, 45)).round(2)
physical = mw.Model(
    title="Power of the wheel (kilowatts) against the flow (cubic metres a second)",
    priors={
        "capacity": "normal(12, 4, low=0, high=25)",
        "middle": "uniform(low=0.5, high=5)",
        "steepness": "uniform(low=1, high=5)",
        "noise": "half_normal(1)",
    },
    likelihood={
        "power": "normal(capacity * (1 - exp(-log(2) * (flow / middle) ** steepness)), noise)"
    },
)
truth = {"capacity": 11.0, "middle": 2.2, "steepness": 2.0, "noise": 0.5}
data = physical.simulate({"flow": flow}, given=truth, draws=1, seed=9).data(0)
smooth = mw.Model(
    title="The same, as a smooth function of unknown shape",
    priors={
        "height": "half_normal(10)",
        "length": "inverse_gamma(shape=5, scale=8)",
        "noise": "half_normal(1)",
    },
    likelihood={
        "power": "gaussian_process(6, noise=noise, "
        "kernel=squared_exponential(flow, scale=height, length=length))"
    },
)

by_physics = physical.fit(data, seed=1)
by_shape = smooth.fit(data, seed=1, target_acceptance=0.9)
for posterior in (by_physics, by_shape):
    print(posterior, "\n")
new = {"flow": [0.5, 3.0, 7.0]}
print("At a flow of 0.5, 3 and 7 (the last beyond the data), by physics and by shape alone:")
print(by_physics.predict(new))
print(by_shape.predict(new), "\n")
print(mw.compare(physical=by_physics, smooth=by_shape))
if len(sys.argv) > 1:
    for name, posterior in (("physical", by_physics), ("smooth", by_shape)):
        mw.plots.fitted_line(posterior, "flow").savefig(Path(sys.argv[1]) / f"{name}.png")
