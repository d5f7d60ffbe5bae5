"""The shorter demo: do two carriers tear flour sacks equally often?"""

from __future__ import annotations

from pathlib import Path

from millwright import plots
from millwright.demo.data_sets import load, sheet_path
from millwright.demo.teller import Teller, write_figure
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.sampling.progress import Listener

__all__ = ["walk_carriers"]

_SEED = 3
_NEGLIGIBLE = 0.02


def walk_carriers(folder: Path, tell: Teller, progress: Listener) -> Posterior:
    """Run the demo of two shares; write its figures into `folder`, an existing one."""
    data = load("carriers")
    model = Model.read(sheet_path("carriers.toml"))
    tell.heading("1  Data and model")
    tell.remark(f"{data.about}. All of it is made up.")
    tell.output(data.frame.to_string(index=False))
    tell.output(model.describe())
    tell.heading("2  Fit")
    posterior = model.fit(data.frame, seed=_SEED, progress=progress)
    tell.output(str(posterior))
    write_figure(plots.prior_posterior(posterior), folder, "carriers-prior-posterior.png", tell)
    tell.heading("3  Do they differ?")
    tell.remark("One-sided and two-sided, of the same posterior:")
    tell.output(str(posterior.probability("share['Reed'] > share['Marsh']")))
    tell.remark("And by more than two sacks in a hundred?")
    decision = posterior.decide("share['Reed'] - share['Marsh']", rope=(-_NEGLIGIBLE, _NEGLIGIBLE))
    tell.output(str(decision))
    tell.output(decision.by_level().to_string())
    write_figure(plots.decision(decision), folder, "carriers-decision.png", tell)
    tell.heading("4  Does the model fit?")
    check = posterior.predictive_check()
    tell.output(str(check))
    write_figure(
        plots.predictive_check(check, show="groups", along="carrier"),
        folder,
        "carriers-check.png",
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
