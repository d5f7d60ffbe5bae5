"""One model for many lofts: fitted at once, and tried on data with a known truth first.

    python examples/many_lofts.py [FOLDER FOR FIGURES]

All data are made up, from known values: grain in twelve lofts dries by 0.3 to 0.9 points an hour.
"""

import sys
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else None

generator = np.random.default_rng(8)
lofts = [f"Loft {number}" for number in range(1, 13)]
rates = generator.uniform(-0.9, -0.3, 12)
parts = []
for loft, rate in zip(lofts, rates, strict=True):
    hours = np.linspace(0, 6, generator.integers(8, 20))
    moisture = 18 + rate * hours + generator.normal(0, 0.6, len(hours))
    parts.append(pd.DataFrame({"loft": loft, "hours": hours, "moisture": moisture.round(2)}))
table = pd.concat(parts)
model = mw.Model(
    title="Grain that dries in a loft",
    priors={"start": "normal(18, 2)", "drying": "normal(0, 1)", "noise": "half_normal(1)"},
    likelihood={"moisture": "normal(start + drying * hours, noise)"},
)
one = parts[0]

print("Would a right fit be told from a wrong one? Truths from the prior, ranked among draws:\n")
calibrated = model.calibration(one, replications=100, seed=2, progress=False)
print(calibrated)

print("\nHow many readings does a loft need, if it dries by half a point an hour?\n")
truth = {"start": 18.0, "drying": -0.5, "noise": 0.6}
print(model.recovery(one, given=truth, rows=[5, 10, 20], replications=60, seed=2, progress=False))

print("\nAll lofts:\n")
found = model.fit_each(table, by="loft", seed=2, progress=False)
print(found)
print(found.table("drying").round(2))
rows = found.table("drying")
inside = np.abs(rows["mean"].to_numpy() - rates) < 3 * rows["sd"].to_numpy()
print(f"\nThe known rate lies within three sds in {inside.sum()} of {len(lofts)} lofts.")

if folder is not None:
    mw.plots.calibration(calibrated).savefig(folder / "calibration.png")
    mw.plots.intervals(found, "drying").savefig(folder / "lofts.png")
