"""Censored readings: a moisture meter that cannot read above 20 per cent.

Wet batches are recorded as 20. Taking these as exact, or leaving them out, makes the grain look
drier than it is; counting each as "20 or more" does not. The data are made up.
"""

import millwright as mw

priors = {"level": "normal(18, 4)", "scatter": "half_normal(3)"}
honest = mw.Model(
    title="Moisture, with readings above 20 recorded as 20",
    priors=priors,
    likelihood={"moisture": "censored(normal(level, scatter), high=20)"},
)
naive = mw.Model(priors=priors, likelihood={"moisture": "normal(level, scatter)"})

truth = {"level": 19.5, "scatter": 2.0}
data = honest.simulate(rows=60, given=truth, draws=1, seed=8).data(0)
at_limit = int((data["moisture"] == 20).sum())
print(f"{at_limit} of {len(data)} readings stand at the limit of 20 per cent.\n")

for name, model in (("counted as 20 or more", honest), ("taken as exact", naive)):
    posterior = model.fit(data, seed=1, progress=False)
    low, high = posterior.interval("level").values
    print(f"Readings at the limit {name}: {posterior.verdict.headline}")
    print(f"  level: 95 % central interval {low:.1f} to {high:.1f} (true: {truth['level']})")
    print(f"  {posterior.probability('level > 19')}")
