"""Weighing two explanations: does the grinding time rise with the days since stones were dressed?

    python examples/worn_stones.py [FOLDER FOR FIGURES AND PAGE]

All data are made up, from known values: half a minute more a week, noise of one and a half.
"""

import sys
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else None

generator = np.random.default_rng(21)
weeks = np.tile([0.0, 1.0, 2.0, 3.0], 6)
table = pd.DataFrame(
    {
        "day": np.arange(1, 25),
        "weeks": weeks,
        "stone": np.repeat(["Ash", "Beech", "Cherry"], 8),
        "minutes": (30 + 0.5 * weeks + generator.normal(0, 1.5, 24)).round(1),
    }
)
common = {"level": "normal(30, 5)", "noise": "half_normal(3)"}
wears = mw.Model(
    title="Minutes to grind a sack, stones that wear",
    priors={**common, "wear": "normal(0, 1)"},
    likelihood={"minutes": "normal(level + wear * weeks, noise)"},
)
steady = mw.Model(
    title="Minutes to grind a sack, stones that do not wear",
    priors=common,
    likelihood={"minutes": "normal(level, noise)"},
)
fits = {
    "wears": wears.fit(table, seed=1, progress=False),
    "steady": steady.fit(table, seed=1, progress=False),
}

print("How probable are the data under each?\n")
weighed = mw.bayes_factors(**fits)
print(weighed)

print("\nHow did that come about, day by day?\n")
path = mw.evidence_path(
    {"wears": wears, "steady": steady}, table, order="day", quantities=["wear"]
)
print(path)
print(path.estimate("wears", "wear").tail(3).round(2))

print("\nWhat would another 20 sacks bring?\n")
expected = mw.expected_evidence(fits, rows=20, replications=20, seed=3, progress=False)
print(expected)

print("\nNeither need be chosen:\n")
both = mw.average(fits, zero=["wear"])
print(both)
print(both.predict({"weeks": [0.0, 3.0]}))

print("\nDoes the answer rest on a prior?\n")
print(fits["wears"].prior_sensitivity(progress=False))
others = fits["wears"].under_priors(
    {"sceptical": {"wear": "normal(0, 0.2)"}, "wide": {"wear": "normal(0, 5)"}}
)
print(others)

print("\nWould a stone that was not there be predicted as well?\n")
print(mw.compare(**fits, by=table["stone"], progress=False))

if folder is not None:
    for name, figure in {
        "path": mw.plots.evidence_path(path),
        "expected": mw.plots.expected_evidence(expected),
        "averages": mw.plots.average(both),
        "under_priors": mw.plots.under_priors(others),
    }.items():
        figure.savefig(folder / f"{name}.png")
    page = fits["wears"].report(
        folder / "worn_stones.html",
        results=[weighed, path, expected, both, others],
        name="wears",
        compare_with={"steady": fits["steady"]},
    )
    print(f"\n{page.name} written.")
