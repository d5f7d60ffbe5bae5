"""Sixty mills, forty candidate reasons: which of them go with the yield of flour?

A walk over subsets of candidates, another prior of g beside it, predictions averaged over subsets.
"""

import sys
from pathlib import Path

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("flour-yield")
folder.mkdir(exist_ok=True)

data = mw.demo.load("flour_yield")
mills = data.frame.drop(columns="mill")
study = mw.studies.variable_selection(mills, "flour", steps=200_000)
findings = study.fit(seed=3)
print(findings, "\n")

print("The best subsets:")
print(findings.best_models(5).to_string(), "\n")
print("Pairs that come together, or replace each other:")
print(findings.pairs(4).to_string(), "\n")
for figure in ("inclusion", "coefficients", "models", "sizes"):
    mw.plots.study(findings, figure).savefig(folder / f"{figure}.png")

other = mw.studies.variable_selection(mills, "flour", g="hyper-g/n", steps=200_000).fit(seed=3)
print("Probability of being in, under two priors of g:")
names = findings.order[2:8]
for name in names:
    both = [one.inclusion()["posterior probability"][name] for one in (findings, other)]
    print(f"  {name:14s} {both[0]:.3f}  {both[1]:.3f}")

print("\nAnother method, slopes that are pulled to 0, and who has fine flour:")
fine = mills.drop(columns="flour").assign(
    fine=(mills["flour"] > 72).map({True: "yes", False: "no"})
)
yes_no = mw.studies.variable_selection(fine, "fine", family="bernoulli", expected_size=5)
print(yes_no.fit(seed=3).inclusion().head(5).round(3).to_string())

told = findings.predict(mills.drop(columns="flour").head(3)).table()
print("\nPredicted for the first three mills:")
print(told.round(2).to_string())
