"""A random walk: the river's level at the mill race, read on most days, and a week ahead.

The level moves by an unknown step from day to day; the gauge adds an error of its own, and on
some days nobody read it. The same series is then fitted with the levels summed out by the Kalman
filter, as a check by another method. At last a second gauge, further down and coarser, reads the
same river. The data are made up.
"""

import sys
from pathlib import Path

import numpy as np

import millwright as mw

days = np.arange(1, 61)
walk = mw.Model(
    title="Level of the river Hollin at the mill race (centimetres)",
    priors={
        "step": "half_normal(5)",
        "error": "half_normal(5)",
        "level": "random_walk(start=120, scale=step) per day",
    },
    likelihood={"gauge": "normal(level[day], error)"},
)
truth = {"step": 2.0, "error": 3.0}
data = walk.simulate({"day": days}, given=truth, draws=1, seed=6).data(0)
data.loc[[10, 11, 30, 31, 32], "gauge"] = np.nan

posterior = walk.fit(data, seed=2, missing="predict")
print(posterior.verdict, "\n")
print(posterior.summary(["step", "error"]), "\n")
print("Days without a reading, as the gauge would have shown:")
print(posterior.predict_missing(), "\n")
print("A week ahead:")
print(posterior.predict({"day": np.arange(61, 68)}), "\n")

filtered = mw.Model(
    priors={"step": "half_normal(5)", "error": "half_normal(5)"},
    likelihood={
        "gauge": "state_space(transition=[[1]], loading=[1], scale=[step], noise=error, "
        "start=[120], start_scale=[5])"
    },
)
again = filtered.fit({"gauge": data["gauge"]}, seed=2, missing="predict", progress=False)
print("With the levels summed out, and gaps where nobody read the gauge:")
print(again.summary())
print("A week ahead:")
print(again.predict(rows=7), "\n")
figure = mw.plots.series(again, ahead=7)
for name, value in truth.items():
    low, high = posterior.interval(name).values
    print(f"{name}: true {value:g}, 95 % central interval {low:.2f} to {high:.2f}")

# Two gauges, one state: a row a reading, in the order of days; the first level may be anything.
generator = np.random.default_rng(3)
level = 120 + 2.0 * generator.standard_normal(60).cumsum()
both = {
    "day": days.repeat(2),
    "place": np.tile(["mill race", "lower weir"], 60),
    "gauge": np.column_stack([level, level - 45]).reshape(-1)
    + np.tile([3.0, 6.0], 60) * generator.standard_normal(120),
}
shared = mw.Model(
    title="One river, two gauges (centimetres)",
    priors={
        "step": "half_normal(5)",
        "error": "half_normal(10) per place",
        "fall": "normal(40, 20)",
    },
    likelihood={
        "gauge": "state_space(transition=[[1]], loading=[1], scale=[step], noise=error[place], "
        'location=where(place == "lower weir", -fall, 0), time=day)'
    },
)
together = shared.fit(both, seed=4, progress=False)
print(together.verdict, "\n")
print("Both gauges read one level:")
print(together.summary(), "\n")
print("Tomorrow at both:")
print(together.predict({"day": [61, 61], "place": ["mill race", "lower weir"]}))
if len(sys.argv) > 1:
    mw.plots.series(together).savefig(Path(sys.argv[1]) / "two_gauges.png")
    figure.savefig(Path(sys.argv[1]) / "series.png")
