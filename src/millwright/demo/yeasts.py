"""The shorter demo: do more loaves sink with wild yeast?; a ready-made study of proportions."""

from __future__ import annotations

from pathlib import Path

from millwright import plots
from millwright.demo.data_sets import load
from millwright.demo.teller import Teller, write_figure
from millwright.posterior.posterior import Posterior
from millwright.sampling.progress import Listener
from millwright.studies import proportions

__all__ = ["walk_yeasts"]

_SEED = 3
_NEGLIGIBLE = 0.02


def walk_yeasts(folder: Path, tell: Teller, progress: Listener) -> Posterior:
    """Run the demo of two shares; write its figures into `folder`, an existing one."""
    data = load("yeasts")
    study = proportions(
        data.frame,
        outcome="sank",
        trials="loaves",
        group="yeast",
        rope=(-_NEGLIGIBLE, _NEGLIGIBLE),
    )
    tell.heading("1  Question, data, models")
    tell.remark(f"{data.about}. All of it is made up.")
    tell.output(data.frame.to_string(index=False))
    tell.output(str(study))
    tell.heading("2  What the priors allow, before any data")
    tell.output(str(study.simulate(seed=_SEED)))
    tell.heading("3  The answer")
    findings = study.fit(seed=_SEED, progress=progress)
    tell.output(str(findings))
    write_figure(plots.study(findings), folder, "yeasts-shares.png", tell)
    tell.remark("And by more or less than two loaves in a hundred?")
    decision = findings.decisions[0]
    tell.output(decision.by_level().to_string())
    write_figure(plots.decision(decision), folder, "yeasts-decision.png", tell)
    tell.heading("4  Does the model fit?")
    posterior = findings.posterior
    check = posterior.predictive_check()
    tell.output(str(check))
    write_figure(
        plots.predictive_check(check, show="groups", along="yeast"),
        folder,
        "yeasts-check.png",
        tell,
    )
    tell.remark("The data were made from known values, so the answer can be checked:")
    for name, value in data.truth.items():
        row = posterior.table(name).iloc[0]
        low, high = row["95 % central interval, from"], row["95 % central interval, to"]
        inside = "inside" if low <= value <= high else "outside"
        tell.output(
            f"  {name}: true {value:g}, 95 % central interval {low:.2f} to {high:.2f} ({inside})"
        )
    return posterior
