"""One analysis from the prior check to a decision: do newly dressed stones grind faster?

    python examples/from_prior_to_decision.py [FOLDER FOR FIGURES]

All data are made up, from known values. The mills of Hollin Bridge dressed some of their stones
anew. A sack takes about 30 minutes; a minute or so of difference would not be worth the work.
"""

import sys
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else None


def keep(figure, name):
    if folder is not None:
        figure.savefig(folder / f"{name}.png")


generator = np.random.default_rng(12)
stones = ["Ash", "Beech", "Cherry", "Elm", "Hazel", "Maple", "Oak", "Rowan"]
table = pd.DataFrame(
    {
        "stone": np.repeat(stones, 12),
        "dressed": np.repeat([0, 1, 0, 1, 1, 0, 1, 0], 12),
        "damp": generator.normal(0, 1, 96).round(2),
    }
)
model = mw.Model(
    title="Minutes to grind a sack, stones dressed anew against others",
    priors={
        "usual": "normal(30, 5)",
        "gain": "normal(0, 4)",
        "by_damp": "normal(0, 2)",
        "between": "half_normal(1.5)",
        "within": "half_normal(4)",
        "stone_effect": "normal(0, between) per stone",
    },
    likelihood={
        "minutes": "normal(usual - gain * dressed + by_damp * damp + stone_effect[stone], within)"
    },
    derived={
        "standardised_gain": "gain / sqrt(between ** 2 + within ** 2)",
        "typical": "usual - gain * dressed + stone_effect per stone",
    },
)
print(model.describe(), "\n")

print("--- Prior check: which values do these priors allow?")
fake = model.simulate(table, seed=4)
print(fake, "\n")
keep(mw.plots.prior_densities(fake, ["usual", "gain", "between", "within"]), "1-priors")
keep(mw.plots.prior_data(fake), "1-prior-data")

truth = {"usual": 31, "gain": 3.5, "by_damp": 1.2, "between": 0.8, "within": 2.5}
data = model.simulate(table, given=truth, draws=1, seed=8).data(0)

print("--- Fit and convergence")
posterior = model.fit(data, seed=3, target_acceptance=0.95)
print(posterior.convergence(), "\n")
keep(mw.plots.trace(posterior, ["gain", "between", "within"], warmup=True), "2-traces")
keep(mw.plots.rank_counts(posterior, ["gain", "between", "within"]), "2-rank-counts")
print(posterior.convergence_table(["gain", "between"]).round(3).T.to_string(), "\n")
print("For the lower end of the interval of the gain to within 0.02 minutes:")
print(posterior.draws_needed("gain", within=0.02, quantile=0.025).round(3).to_string(), "\n")

print("--- Posterior")
shown = ["usual", "gain", "standardised_gain", "by_damp", "between", "within", "stone_effect"]
print(posterior.summary(shown, kind="both"), "\n")
print(posterior.probability("gain > 1"), "\n")
print("Stones compared with Oak:")
contrasts = posterior.contrasts("stone_effect", against="Oak")
print(contrasts[["mean", "sd", "probability above 0"]].round(2).to_string(), "\n")

print("--- Does the model reproduce its data?")
check = posterior.predictive_check(statistics={"range": np.ptp})
print(check, "\n")
keep(mw.plots.predictive_check(check, show="groups", along="stone"), "3-check-by-stone")
keep(mw.plots.predictive_check(check, show="residuals", along="damp"), "3-residuals")
keep(mw.plots.leave_one_out_pit(posterior), "3-left-out")
seen = data.groupby("stone")["minutes"].mean()
keep(mw.plots.shrinkage(posterior, "typical", seen), "3-shrinkage")

print("--- The same gain without the other predictor")
bare = mw.Model(
    title="Minutes to grind a sack, without the damp",
    priors={
        "usual": "normal(30, 5)",
        "gain": "normal(0, 4)",
        "between": "half_normal(1.5)",
        "within": "half_normal(4)",
        "stone_effect": "normal(0, between) per stone",
    },
    likelihood={"minutes": "normal(usual - gain * dressed + stone_effect[stone], within)"},
)
without = bare.fit(data, seed=3, target_acceptance=0.95)
across = mw.compare_estimates(["gain", "within"], with_damp=posterior, without_damp=without)
print(across, "\n")
keep(mw.plots.compare_estimates(across), "4-across-fits")

print("--- Decision: gains within a minute count as none")
decision = posterior.decide("gain", rope=(-1, 1))
print(decision)
print(decision.by_level().to_string())
print(decision.by_width([0.5, 1.0, 1.5, 2.0]).to_string(), "\n")
keep(mw.plots.decision(decision), "5-decision")
keep(mw.plots.posterior_densities(posterior, ["gain", "standardised_gain"]), "5-gain")

print("--- A stone that the fit has not seen, dressed and not, on an ordinary day")
new = pd.DataFrame({"stone": ["Willow", "Willow"], "dressed": [0, 1], "damp": [0.0, 0.0]})
print(posterior.predict(new, new_labels="draw"))
keep(mw.plots.overview(posterior), "6-overview")
