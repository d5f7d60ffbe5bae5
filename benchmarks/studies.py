"""Whether the models of the ready-made studies recover what data are simulated from.

    python benchmarks/studies.py [REPLICATIONS]

Simulation-based calibration of the visible model of each study, under its usual priors, and the
time of an answer from data of common size. The result is recorded in `benchmarks/README.md`.
"""

from __future__ import annotations

import sys
import time
from typing import Any

import numpy as np
import pandas as pd

import millwright as mw

ROWS = 30


def studies() -> dict[str, Any]:
    """Return a study of each kind whose priors are proper."""
    generator = np.random.default_rng(16)
    table = pd.DataFrame(
        {
            "value": generator.normal(50, 3, ROWS),
            "group": np.tile(["a", "b"], ROWS // 2),
            "stone": np.tile(list("abcdef"), ROWS // 6),
            "hours": generator.normal(5, 2, ROWS),
            "trials": 12,
            "count": generator.poisson(4, ROWS),
            "cracked": generator.integers(0, 2, ROWS),
        }
    )
    table["successes"] = generator.binomial(12, 0.3, ROWS)
    line = mw.studies.regression
    trials = mw.demo.load("loft_trials").frame
    return {
        "meta_analysis, covariates, several estimates": mw.studies.meta_analysis(
            trials, "difference", per="mill", correlation=0.5, covariates="~ heat + grain"
        ),
        "two_groups": mw.studies.two_groups(table, "value", "group"),
        "two_groups, normal": mw.studies.two_groups(table, "value", "group", family="normal"),
        "two_groups, pooled": mw.studies.two_groups(table, "value", "stone", pooled=True),
        "proportions": mw.studies.proportions(
            table, "successes", "group", trials="trials", family="beta_binomial"
        ),
        "regression": line("value ~ hours + group", table),
        "regression, logistic": line("cracked ~ hours", table, family="bernoulli"),
        "regression, counts per stone": line(
            "count ~ hours", table, family="poisson", per={"stone": "1"}
        ),
    }


def models() -> dict[str, tuple[mw.Model, pd.DataFrame]]:
    """Return the main model of each study with its data, and one of publication bias."""
    found = {
        name: (study.model, study.data_of(next(iter(study.models))))
        for name, study in studies().items()
    }
    trials = mw.demo.load("dressing_trials").frame
    bias = mw.studies.meta_analysis(trials, "difference").fit(seed=1).publication_bias("negative")
    name = "random, selection, one-sided, p 0.05"
    return {**found, f"meta_analysis, {name}": (bias.models[name], trials)}


def main() -> None:
    replications = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    for name, (model, data) in models().items():
        began = time.perf_counter()
        found = model.calibration(data, replications=replications, seed=3, progress=False)
        head = str(found).split("\n")[0]
        print(f"{name}: {head} ({time.perf_counter() - began:.0f} s)", flush=True)


if __name__ == "__main__":
    main()
