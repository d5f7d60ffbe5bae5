"""Nine trials put together: does the new way of dressing stones leave less bran in the flour?

Nine mills tried it, one after the other; each reports a standardised difference with its standard
error. Priors are looked at first, then the trials are put together, weighed, and the answer is
asked what it rests on.
"""

import sys
from pathlib import Path

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("dressing-trials")
folder.mkdir(exist_ok=True)

data = mw.demo.load("dressing_trials")
study = mw.studies.meta_analysis(
    data.frame,
    "difference",
    label="mill",
    order="year",
    size="sacks",
    scale="standardised difference",
    rope=(-0.1, 0.1),
)
print(study, "\n")
mw.plots.prior_densities(study).savefig(folder / "priors.png")

findings = study.fit(seed=3)
print(findings, "\n")
print(findings.model_table().to_string(), "\n")
mw.plots.study(findings).savefig(folder / "forest.png")
mw.plots.study(findings, "path").savefig(folder / "path.png")

print("Without each trial:")
print(findings.leave_one_out()[["effect, median", "in words"]].to_string(), "\n")

print("Under other priors:")
others = {
    "sceptical": {"effect": "normal(0, 0.2)"},
    "less bran only": {"effect": "normal(0, 1, high=0)"},
    "trials alike": {"spread": "half_normal(0.1)"},
}
print(findings.under_priors(others)[["effect, median", "in words"]].to_string())
