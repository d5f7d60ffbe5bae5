"""Ten trials of heated lofts, two estimates each: does more heat take more moisture?

Estimates of one trial share its own effect and have correlated errors; the effect leans on the
heat and on the grain. The correlation of the errors is a guess: the answer is asked under others.
"""

import sys
from pathlib import Path

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("heated-lofts")
folder.mkdir(exist_ok=True)

trials = mw.demo.load("loft_trials").frame


def study(correlation):
    return mw.studies.meta_analysis(
        trials,
        "difference",
        per="mill",
        correlation=correlation,
        covariates="~ heat + grain",
        scale="standardised difference",
    )


findings = study(0.5).fit(seed=3)
print(findings, "\n")
print(findings.covariates().to_string(), "\n")
print(findings.subgroups().to_string(), "\n")
print(findings.effect_at({"heat": [28, 36, 44], "grain": "wheat"}).to_string(), "\n")
mw.plots.study(findings, "covariates").savefig(folder / "covariates.png")

print("Slope of heat under other correlations of the errors:")
for correlation in (0.0, 0.5, 0.8):
    row = study(correlation).fit(seed=3).covariates().loc["heat"]
    print(f"  {correlation}: {row['change per 1, median']:.3f}, {row['in words']}")
