"""A mixture: grain of two origins in one heap, told apart by the weight of a thousand kernels.

Nobody wrote down which sample came from where; the membership of each sample is summed out of
the likelihood. `gap` is positive, so that the two sources cannot change names between chains.
The data are made up.
"""

import millwright as mw

model = mw.Model(
    title="Kernel weight (grams a thousand) of grain from two origins",
    priors={
        "light": "normal(32, 5)",
        "gap": "half_normal(10)",
        "scatter": "half_normal(3)",
        "share": "beta(alpha=2, beta=2)",
    },
    likelihood={
        "weight": "mixture(normal(light, scatter), normal(light + gap, scatter), share=share)"
    },
    derived={"heavy": "light + gap"},
)
print(model.describe(), "\n")
truth = {"light": 31.0, "gap": 9.0, "scatter": 2.0, "share": 0.35}
data = model.simulate(rows=150, given=truth, draws=1, seed=3).data(0)

posterior = model.fit(data, seed=2)
print(posterior, "\n")
print(posterior.predictive_check(), "\n")
one = mw.Model(
    priors={"level": "normal(35, 10)", "scatter": "half_normal(10)"},
    likelihood={"weight": "normal(level, scatter)"},
).fit(data, seed=2, progress=False)
print(mw.compare(two_sources=posterior, one_source=one))
for name, value in truth.items():
    low, high = posterior.interval(name).values
    print(f"{name}: true {value:g}, 95 % central interval {low:.2f} to {high:.2f}")
