"""A straight line through made-up data: prior check, fit, convergence, posterior, comparison.

Run it with `python examples/drying_loft.py [FOLDER FOR FIGURES]`.
"""

import sys
from pathlib import Path

import millwright as mw

data = mw.demo.load("drying_loft")
model = mw.Model(
    title="Moisture of grain against hours in the drying loft",
    priors={
        "start": "normal(18, 3)",
        "drying": "normal(0, 1)",
        "noise": "exponential(rate=1)",
    },
    likelihood={"moisture": "normal(start + drying * hours, noise)"},
    derived={"after_six_hours": "start + 6 * drying"},
)
print(model.describe(), "\n")
fake = model.simulate(data.frame, draws=500, seed=7)

posterior = model.fit(data.frame, seed=7)
print(posterior, "\n")
print(posterior.probability("drying < 0"))
print(posterior.interval("drying", kind="hdi").values, "is the 95 % HDI of drying\n")
print(posterior.predictive_check(), "\n")
print(posterior.predict(data.held_back).score(data.held_back), "\n")
print("The same by two other methods:")
print(model.mode(data.frame), "\n")
print(model.maximum_likelihood(data.frame), "\n")

flat = mw.Model(
    priors={"start": "normal(18, 3)", "noise": "exponential(rate=1)"},
    likelihood={"moisture": "normal(start, noise)"},
).fit(data.frame, seed=7, progress=False)
print(mw.compare(straight=posterior, flat=flat))

if len(sys.argv) > 1:
    folder = Path(sys.argv[1])
    mw.plots.prior_lines(fake, "hours").savefig(folder / "prior_lines.png")
    mw.plots.trace(posterior).savefig(folder / "trace.png")
    mw.plots.fitted_line(posterior, "hours").savefig(folder / "fitted_line.png")
