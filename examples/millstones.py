"""Groups: how much does the load of bran differ between millstones, and which stone stands out?

Twelve stones, some with many measured loads and some with two; the stones inform each other
through a common spread. The data are made up, with a known truth.
"""

import numpy as np

import millwright as mw

generator = np.random.default_rng(12)
counts = np.array([2, 2, 2, 3, 4, 5, 8, 12, 20, 30, 40, 60])
stone = np.repeat([f"stone {number:02d}" for number in range(1, 13)], counts)

model = mw.Model(
    title="Bran left in the flour, by millstone (grams a kilo)",
    priors={
        "base": "normal(40, 10)",
        "spread": "half_normal(8)",
        "noise": "half_normal(10)",
        "effect": "normal(base, spread) per stone",
    },
    likelihood={"bran": "normal(effect[stone], noise)"},
    derived={"first_against_last": "effect['stone 01'] - effect['stone 12']"},
)
truth = {"base": 42.0, "spread": 5.0, "noise": 6.0}
data = model.simulate({"stone": stone}, given=truth, draws=1, seed=4).data(0)

posterior = model.fit(data, seed=1)
print(posterior, "\n")
share = posterior.record.groups["effect"]["share_from_own_data"]
print(
    f"How much of a stone's estimate comes from its own loads: {100 * share[0]:.0f} % for the "
    f"stone with the fewest, {100 * share[1]:.0f} % for the one with the most."
)
print(posterior.probability("first_against_last > 0"))
worst = {name: float(p) for name, p in posterior.probability("effect > base + spread").items()}
print("More than one spread above the average, with probability:")
for name, value in sorted(worst.items(), key=lambda item: -item[1])[:3]:
    print(f"  {name}: {value:.2f}")
for name, value in truth.items():
    low, high = posterior.interval(name).values
    print(f"{name}: true {value:g}, 95 % central interval {low:.1f} to {high:.1f}")
