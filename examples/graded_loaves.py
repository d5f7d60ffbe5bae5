"""Ordered grades: does a longer proof make better loaves, and do the bakers grade alike?

Loaves are graded poor, plain, good or fine. The grades are cut from one continuous scale at
points that are unknown; each baker shifts the scale. The data are made up.
"""

import numpy as np
import pandas as pd

import millwright as mw

generator = np.random.default_rng(21)
rows = 240
bakers = ["Alder", "Birch", "Cedar", "Damson", "Elder"]
table = pd.DataFrame(
    {
        "hours": generator.uniform(1, 5, rows).round(1),
        "baker": generator.choice(bakers, rows),
    }
)
model = mw.Model(
    title="Grades of loaves against hours of proof",
    priors={
        "proof": "normal(0, 1)",
        "strictness": "half_normal(1)",
        "lenience": "normal(0, strictness) per baker",
        "cuts": "ordered(normal(0, 2)) per cut",
    },
    likelihood={"grade": "cumulative_logit(proof * (hours - 3) + lenience[baker], cuts=cuts)"},
    labels={"grade": ["poor", "plain", "good", "fine"], "cut": "between grade"},
)
print(model.describe(), "\n")
truth = {"proof": 0.8, "strictness": 0.7, "cuts": [-1.5, 0.2, 1.8]}
data = model.simulate(table, given=truth, draws=1, seed=3).data(0)

posterior = model.fit(data, seed=5, target_acceptance=0.95)
print(posterior, "\n")
print(posterior.predictive_check(), "\n")
print("Probability of each grade after 1, 3 and 5 hours, graded by Alder:")
print(posterior.predict({"hours": [1.0, 3.0, 5.0], "baker": ["Alder"] * 3}), "\n")
print(posterior.probability("proof > 0"))
for name, value in (("proof", 0.8), ("strictness", 0.7)):
    low, high = posterior.interval(name).values
    print(f"{name}: true {value:g}, 95 % central interval {low:.2f} to {high:.2f}")
