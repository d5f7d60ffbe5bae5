"""Varying slopes: every millstone starts with its own grit and wears at its own pace.

Level and slope of each stone are drawn together, with a correlation that is unknown: stones with
more grit may wear faster. The data are made up, with a known truth.
"""

import numpy as np

import millwright as mw

generator = np.random.default_rng(8)
stones = [f"stone {number:02d}" for number in range(1, 21)]
stone = np.repeat(stones, 8)
weeks = np.tile(np.arange(8.0), len(stones))

model = mw.Model(
    title="Grit left on millstones (tenths of a millimetre) against weeks of use",
    priors={
        "centre": "normal(0, 20) per term",
        "spread": "half_normal(5) per term",
        "tie": "lkj(shape=2) per term",
        "wear": "multivariate_normal(centre, scales=spread, correlation=tie) per stone, term",
        "noise": "half_normal(2)",
    },
    likelihood={"grit": "normal(wear[stone, 'start'] + wear[stone, 'weekly'] * weeks, noise)"},
    derived={"correlation": "tie['start', 'weekly']"},
    labels={"term": ["start", "weekly"]},
)
truth = {
    "centre": {"start": 30.0, "weekly": -1.2},
    "spread": {"start": 4.0, "weekly": 0.5},
    "tie": [[1.0, -0.6], [-0.6, 1.0]],
    "noise": 1.0,
}
data = model.simulate({"stone": stone, "weeks": weeks}, given=truth, draws=1, seed=2).data(0)

posterior = model.fit(data, seed=1)
print(posterior.verdict, "\n")
print(posterior.summary(["centre", "spread", "correlation", "noise"]), "\n")
share = posterior.record.groups["wear"]["share_from_own_data"]
print(
    f"A stone's own data make up {100 * share[0]:.0f} to {100 * share[1]:.0f} % of its estimates."
)
print(posterior.probability("correlation < 0"))
ahead = {"stone": ["stone 01", "stone 02"], "weeks": [12.0, 12.0]}
print("Grit after 12 weeks:")
print(posterior.predict(ahead))
