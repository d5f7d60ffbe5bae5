"""Price and stock of grain where who stores it looks ahead to the price of the next month.

Equations with expectations, solved for their stable path; sampled by the no-U-turn sampler, and
again by a random walk from the mode, in worker processes that are tried first. Then responses to a
harvest, and a forecast scored on a year that was held back. The data are made up.
"""

import sys
from concurrent.futures import Executor
from pathlib import Path

import loky

import millwright as mw

EQUATIONS = """
price = discount * expected(price) - cost * stock    # a sack kept is a sack sold later
stock = before(stock) + harvest - sales
sales = appetite - elasticity * price
appetite = keep * before(appetite) + mood
harvest = rain
"""


def make_study(frame):
    return mw.studies.expectations_model(
        EQUATIONS,
        frame,
        time="month",
        unknowns={
            "discount": 0.98,
            "cost": "half_normal(0.2)",
            "elasticity": "half_normal(2)",
            "keep": (0, 1),
        },
        shocks={"mood": "half_normal(5)", "rain": "half_normal(10)"},
        readings=["price", "stock"],
    )


def by_a_walk(study, workers: Executor):
    """Sample by random walks with Student-t steps, shaped by the curvature at the mode."""
    walk = mw.RandomWalk(proposal="student_t", start="mode", covariance="mode")
    ready = study.model.check_workers(workers, study.data_of("equations"), method=walk)
    print(f"Workers that can solve the equations: {ready}")
    return study.fit(seed=4, method=walk, workers=workers, draws=300, warmup=300)


def main():
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("grain-store")
    folder.mkdir(exist_ok=True)
    store = mw.demo.load("grain_store")
    study = make_study(store.frame)
    findings = study.fit(seed=3, draws=400, warmup=400)
    print(findings, "\n")
    for figure in ("responses", "unknowns", "forecast", "shares"):
        mw.plots.study(findings, figure).savefig(folder / f"{figure}.png")

    again = by_a_walk(study, loky.get_reusable_executor(2))
    print(mw.compare_estimates(trajectories=findings.posterior, walk=again.posterior), "\n")

    print("The year held back:")
    print(findings.forecast(12, seed=1).score(store.held_back))


main()
