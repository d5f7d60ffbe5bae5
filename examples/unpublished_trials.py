"""Twenty-six reports of a whetting powder: how much of the gain is left if failures stayed untold?

The plain answer and the one with publication bias allowed for stand side by side; then the chance
that a trial was told by its p-value, statements over all models, and the funnel figure.
"""

import sys
from pathlib import Path

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("unpublished-trials")
folder.mkdir(exist_ok=True)

data = mw.demo.load("powder_trials")
study = mw.studies.meta_analysis(
    data.frame,
    "gain",
    label="report",
    size="sacks",
    scale="standardised difference",
    bias="positive",
)
findings = study.fit(seed=3)
print(findings, "\n")
print(findings.bias, "\n")

print("Chance that a trial was published, relative to one with a small p-value:")
print(findings.bias.weight_function().round(2).to_string(), "\n")

average = findings.bias.posterior
print(average.probability("effect > 0.1"), "\n")
mw.plots.study(findings, "funnel").savefig(folder / "funnel.png")
mw.plots.study(findings).savefig(folder / "forest.png")
