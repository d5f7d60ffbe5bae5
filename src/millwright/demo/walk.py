"""The demo: one analysis in nine steps, from data to the page to hand on."""

from __future__ import annotations

from pathlib import Path

from millwright import plots
from millwright.comparison.compare import compare
from millwright.demo.data_sets import DataSet, load, sheet_path
from millwright.demo.teller import Teller, write_figure
from millwright.draws.numbers import range_text
from millwright.models.model import Model
from millwright.posterior.posterior import Posterior
from millwright.reporting import report
from millwright.sampling.progress import Listener

__all__ = ["walk"]

_SEED = 7


def walk(folder: Path, tell: Teller, progress: Listener) -> Posterior:
    """Run the demo of a straight line; write its figures into `folder`, an existing one.

    Returns
    -------
    The posterior of the straight line.
    """
    data = load("drying_loft")
    model = Model.read(sheet_path("drying.toml"))
    _step_data(data, tell)
    tell.heading("2  Model")
    tell.remark("The model is a sheet of text; this is how the library reads it.")
    tell.output(model.describe())
    _step_prior(model, data, folder, tell)
    posterior = _step_fit(model, data, tell, progress)
    _step_convergence(posterior, folder, tell)
    _step_posterior(posterior, folder, tell)
    _step_predictive(posterior, data, folder, tell)
    flat = _step_compare(posterior, data, tell)
    _step_truth(posterior, data, tell)
    _step_report(posterior, flat, folder, tell)
    return posterior


def _step_data(data: DataSet, tell: Teller) -> None:
    tell.heading("1  Data")
    tell.remark(f"{data.about}. All of it is made up.")
    tell.output(data.frame.head(5).to_string(index=False))
    tell.remark(f"... and {len(data.frame) - 5} rows more. Nothing is missing.")


def _step_prior(model: Model, data: DataSet, folder: Path, tell: Teller) -> None:
    tell.heading("3  Prior check")
    tell.remark(
        "Before seeing the outcome: which moistures do the priors allow? Look for impossible "
        "values that are common, and for known values that are missing."
    )
    fake = model.simulate(data.frame, draws=500, seed=_SEED)
    tell.output(str(fake))
    write_figure(plots.prior_lines(fake, "hours"), folder, "3-prior-lines.png", tell)


def _step_fit(model: Model, data: DataSet, tell: Teller, progress: Listener) -> Posterior:
    tell.heading("4  Fit")
    tell.remark("Four chains, each 1000 draws of warm-up and 1000 that are kept.")
    posterior = model.fit(data.frame, seed=_SEED, progress=progress)
    seconds = posterior.record.seconds
    tell.output(
        f"Done: {seconds['compiling']:.1f} s to compile (less when run again), "
        f"{seconds['sampling']:.1f} s to sample. Seed {_SEED} gives the same draws again."
    )
    return posterior


def _step_convergence(posterior: Posterior, folder: Path, tell: Teller) -> None:
    tell.heading("5  Convergence")
    tell.remark("Can the draws be used? The verdict says so, and what to do if not.")
    tell.output(str(posterior.convergence()))
    write_figure(plots.trace(posterior), folder, "5-traces.png", tell)
    write_figure(plots.densities(posterior), folder, "5-densities.png", tell)
    write_figure(plots.rank_counts(posterior), folder, "5-rank-counts.png", tell)


def _step_posterior(posterior: Posterior, folder: Path, tell: Teller) -> None:
    tell.heading("6  Posterior")
    tell.output(posterior.summary())
    tell.output(str(posterior.probability("drying < 0")))
    tell.output(str(posterior.probability("after_six_hours < 15.05")))
    tell.remark("Is the effect more than a twentieth of a per cent an hour, either way?")
    decision = posterior.decide("drying", rope=(-0.05, 0.05))
    tell.output(str(decision))
    write_figure(plots.decision(decision), folder, "6-decision.png", tell)
    write_figure(plots.intervals(posterior), folder, "6-intervals.png", tell)
    write_figure(plots.prior_posterior(posterior), folder, "6-prior-posterior.png", tell)
    write_figure(plots.fitted_line(posterior, "hours"), folder, "6-fitted-line.png", tell)


def _step_predictive(posterior: Posterior, data: DataSet, folder: Path, tell: Teller) -> None:
    tell.heading("7  Predictive check and prediction")
    check = posterior.predictive_check()
    tell.output(str(check))
    write_figure(plots.predictive_check(check), folder, "7-predictive-check.png", tell)
    tell.remark("The ten batches held back, predicted and then compared with what they were:")
    if data.held_back is not None:
        tell.output(str(posterior.predict(data.held_back).score(data.held_back)))


def _step_compare(posterior: Posterior, data: DataSet, tell: Teller) -> Posterior:
    tell.heading("8  Compare")
    tell.remark("Do the hours matter at all? A second model does without them.")
    flat = Model.read(sheet_path("flat.toml")).fit(data.frame, seed=_SEED, progress=False)
    tell.output(str(compare(straight=posterior, flat=flat)))
    return flat


def _step_truth(posterior: Posterior, data: DataSet, tell: Teller) -> None:
    tell.heading("9  Report")
    tell.remark("The data were made from known values, so the answer can be checked:")
    rows = []
    for name, value in data.truth.items():
        low, high = posterior.interval(name).values
        inside = "inside" if low <= value <= high else "outside"
        between = range_text(low, high, float(posterior[name].std(ddof=1)))
        rows.append(f"  {name}: true {value:g}, 95 % central interval {between} ({inside})")
    tell.output("\n".join(rows))


def _step_report(posterior: Posterior, flat: Posterior, folder: Path, tell: Teller) -> None:
    write_figure(plots.overview(posterior), folder, "9-overview.png", tell)
    run = folder / "run"
    posterior.save(run, replace=True)
    posterior.table().to_csv(folder / "9-table.csv")
    page = report(
        posterior,
        folder / "9-report.html",
        decisions=[posterior.decide("drying", rope=(-0.05, 0.05))],
        statements=["after_six_hours < 15.05"],
        compare_with={"flat": flat},
        replace=True,
    )
    tell.remark(f"Table: {folder / '9-table.csv'}; stored run: {run}")
    tell.remark(f"The whole analysis as one page: {page}")
