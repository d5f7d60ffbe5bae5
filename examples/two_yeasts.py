"""Two proportions: do more loaves sink with wild yeast than with brewer's yeast?

Loaves of twelve baking days were set in water. A ready-made study answers; its model is printed
with every prior, and the answer is read one-sided and two-sided.
"""

import millwright as mw

data = mw.demo.load("yeasts")
study = mw.studies.proportions(
    data.frame, outcome="sank", trials="loaves", group="yeast", rope=(-0.02, 0.02)
)
print(study, "\n")

findings = study.fit(seed=3)
print(findings, "\n")

hdi = findings.posterior.interval("difference", level=0.95, kind="hdi").values
print(f"95 % HDI of the difference: {hdi[0]:.3f} to {hdi[1]:.3f}")
exact = findings.probability_larger("wild", "brewer")
print(f"Probability that the share of wild yeast is larger, exact: {exact:.4f}")

print("\nThe same under a sceptical prior, that shares are near 0.1:")
sceptical = mw.studies.proportions(
    data.frame, outcome="sank", trials="loaves", group="yeast", prior="beta(alpha=4, beta=36)"
)
print("\n".join(sceptical.fit(seed=3).answer[:2]))
