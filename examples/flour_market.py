"""Flow, stock and price by the month: does the stock still move the price, and what comes next?

A vector autoregression whose coefficients drift, beside one whose coefficients are constant;
responses then and now, and a forecast scored on a year that was held back. The data are made up.
"""

import sys
from pathlib import Path

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("flour-market")
folder.mkdir(exist_ok=True)

market = mw.demo.load("flour_market")
study = mw.studies.vector_autoregression(market.frame, time="month")
findings = study.fit(seed=3)
print(findings, "\n")

print("What moves:")
moving = findings.drifts()["log Bayes factor of moving"].astype(float)
print(moving.sort_values(ascending=False).head(3).round(1).to_string(), "\n")

then, now = "1925-01", "1940-12"
responses = findings.responses([then, now], horizon=6)
answer = responses.table().xs(("stock", "price", 1), level=("shock of", "answer of", "step"))
print("Price one month after a shock of the stock:")
print(answer.round(2).to_string(), "\n")
for figure in ("coefficients", "responses", "forecast", "shares"):
    mw.plots.study(findings, figure).savefig(folder / f"{figure}.png")

steady = mw.studies.vector_autoregression(market.frame, time="month", drift=0).fit(seed=3)
print("The year held back, with coefficients that drift and with constant ones:")
for name, one in (("drifting", findings), ("constant", steady)):
    print(name)
    print(one.forecast(12, seed=1).score(market.held_back))
