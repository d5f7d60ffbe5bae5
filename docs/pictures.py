"""Draws docs/screenshots from the demo data: `python docs/pictures.py [FOLDER]`.

Pictures of the terminal and of the report page are taken by hand.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.image import imsave

import millwright as mw

FOLDER = Path(__file__).parent / "screenshots"
SHEETS = {
    "curves": ("wheel-curve", "series"),
    "decision": ("posterior-densities", "decision"),
    "groups": ("intervals", "shrinkage"),
    "chains": ("rank-counts", "scatter-matrix"),
    "many-fits": ("data-sets", "calibration"),
    "studies": (
        "study-groups",
        "study-shares",
        "study-correlation",
        "study-effects",
        "study-forest",
        "study-funnel",
        "study-subsets",
        "causal-graph",
        "causal-effects",
        "study-drift",
        "study-parts",
        "study-expectations",
        "study-curve",
        "study-shape",
    ),
    "weighing": (
        "model-probabilities",
        "average",
        "prior-sensitivity",
        "evidence-path",
        "expected-evidence",
    ),
}
"""Pictures of several figures, one under the other."""


def loft() -> tuple[mw.Model, pd.DataFrame]:
    return mw.Model.read(mw.demo.sheet_path("drying.toml")), mw.demo.load("drying_loft").frame


def stones() -> tuple[mw.Model, dict[str, Any]]:
    """Minutes to dress a millstone, for eight stones with few measurements each."""
    generator = np.random.default_rng(11)
    names = ["Upper", "Nether", "Bedstone", "Runner", "Burr", "Peak", "Cullen", "French"]
    effects = generator.normal(0, 9, len(names))
    rows = np.repeat(np.arange(len(names)), [3, 2, 12, 5, 1, 8, 4, 2])
    minutes = 42 + effects[rows] + generator.normal(0, 7, len(rows))
    model = mw.Model(
        title="Minutes to dress a millstone",
        priors={
            "usual": "normal(40, 15)",
            "between": "half_normal(10)",
            "within": "half_normal(10)",
            "stone_effect": "normal(0, between) per stone",
        },
        likelihood={"minutes": "normal(usual + stone_effect[stone], within)"},
        derived={"expected": "usual + stone_effect per stone"},
    )
    return model, {"stone": np.array(names)[rows], "minutes": minutes}


def river() -> tuple[mw.Model, dict[str, Any]]:
    """A river level that moves from day to day, with some days nobody read the gauge."""
    generator = np.random.default_rng(3)
    level = 120 + np.cumsum(generator.normal(0, 2, 60))
    gauge = level + generator.normal(0, 3, 60)
    gauge[[12, 13, 14, 40]] = np.nan
    series = "state_space(transition=[[1]], loading=[1], scale=[step], noise=error, "
    model = mw.Model(
        title="Level of the river Hollin at the mill race (centimetres)",
        priors={"step": "half_normal(3)", "error": "half_normal(5)"},
        likelihood={"gauge": series + "start=[120], start_scale=[10])"},
    )
    return model, {"gauge": gauge}


def wheel() -> tuple[mw.Model, dict[str, Any]]:
    """Power of a water wheel, a smooth function of unknown shape of the flow."""
    generator = np.random.default_rng(8)
    flow = np.sort(generator.uniform(0.3, 4.5, 24))
    power = 6 / (1 + np.exp(-2 * (flow - 1.8))) - 0.15 * flow**2 + generator.normal(0, 0.3, 24)
    model = mw.Model(
        title="Power of the water wheel (kilowatts)",
        priors={
            "height": "half_normal(4)",
            "length": "lognormal(0, 0.5)",
            "noise": "half_normal(1)",
        },
        likelihood={
            "power": "gaussian_process(3, noise=noise, "
            "kernel=squared_exponential(flow, scale=height, length=length))"
        },
    )
    return model, {"flow": flow, "power": power}


def lofts() -> pd.DataFrame:
    """Moisture of grain in eight drying lofts, one of them damp."""
    generator = np.random.default_rng(5)
    names = ["North", "South", "Weir", "Mill", "Barn", "Hatch", "Upper", "Lower"]
    loft = np.array(names)[np.arange(120) % 8]
    hours = generator.uniform(0, 9, 120)
    drying = np.where(loft == "Barn", -0.25, -0.55 + 0.03 * (np.arange(120) % 8 - 4))
    moisture = 18 + drying * hours + generator.normal(0, 0.4, 120)
    return pd.DataFrame({"loft": loft, "hours": hours, "moisture": moisture})


def studies() -> dict[str, Figure]:
    """Return the main figure of each ready-made study."""
    sacks, yeasts, days, trials, powder = (
        mw.demo.load(name).frame
        for name in (
            *("sack_weights", "yeasts", "river_days"),
            *("dressing_trials", "powder_trials"),
        )
    )
    groups = mw.studies.two_groups(sacks, "weight", "spout", rope=(-0.1, 0.1))
    shares = mw.studies.proportions(yeasts, "sank", "yeast", trials="loaves", rope=(-0.02, 0.02))
    flour = mw.demo.load("flour_yield").frame.drop(columns="mill")
    candidates = mw.studies.variable_selection(flour, "flour")
    stones = mw.demo.load("stone_wear").frame
    graph = mw.CausalGraph(
        "demand -> hours, dressings; hours, dressings -> wear; flow -> speed -> heat -> wear"
    )
    effects = [
        graph.estimate(stones, effect_of=one, on="wear", seed=2) for one in ("hours", "dressings")
    ]
    market = mw.studies.vector_autoregression(mw.demo.load("flour_market").frame, time="month")
    stock = mw.studies.series(
        "level + season(12) + flow", mw.demo.load("flour_market").frame, "stock", "month"
    )
    store = mw.studies.expectations_model(
        "price = 0.98 * expected(price) - cost * stock\nstock = before(stock) + rain - sales\n"
        "sales = appetite - elasticity * price\nappetite = 0.8 * before(appetite) + mood",
        mw.demo.load("grain_store").frame,
        time="month",
        unknowns={"cost": "half_normal(0.2)", "elasticity": "half_normal(2)"},
        shocks={"mood": "half_normal(5)", "rain": "half_normal(10)"},
        readings=["price", "stock"],
    )
    wheels = mw.studies.curve(
        "capacity * (1 - exp(-log(2) * (flow / middle) ** steepness))",
        mw.demo.load("two_wheels").frame,
        x="flow",
        y="power",
        error="error",
        unknowns={"capacity": (0, 25), "middle": (0.1, 6), "steepness": (0.5, 5)},
        sets="wheel",
        each=["capacity"],
    )
    upper = mw.demo.load("two_wheels").frame.query("wheel == 'upper'")
    shape = mw.studies.smooth(upper, x="flow", y="power")
    lofts_too = mw.studies.regression("moisture ~ hours * loft", lofts())
    return {
        "study-groups": mw.plots.study(groups.fit(seed=2, progress=False)),
        "study-shares": mw.plots.study(shares.fit(seed=2)),
        "study-correlation": mw.plots.study(
            mw.studies.correlation(days, "level", "power").fit(seed=2)
        ),
        "study-effects": mw.plots.study(lofts_too.fit(seed=2, progress=False), "effects"),
        "study-forest": mw.plots.study(
            mw.studies.meta_analysis(trials, "difference", rope=(-0.1, 0.1)).fit(seed=2)
        ),
        "study-subsets": mw.plots.study(candidates.fit(seed=2, progress=False), "models"),
        "causal-graph": mw.plots.causal_graph(
            graph, exposure="hours", outcome="wear", strengths=graph.strengths(stones)
        ),
        "causal-effects": mw.plots.causal_effects(*effects),
        "study-drift": mw.plots.study(market.fit(seed=2, progress=False)),
        "study-parts": mw.plots.study(stock.fit(seed=2, progress=False)),
        "study-expectations": mw.plots.study(store.fit(seed=2, progress=False)),
        "study-curve": mw.plots.study(wheels.fit(seed=2, progress=False)),
        "study-shape": mw.plots.study(shape.fit(seed=2, progress=False)),
        "study-funnel": mw.plots.study(
            mw.studies.meta_analysis(powder, "gain", label="report", bias="positive").fit(seed=2),
            "funnel",
        ),
    }


def pictures() -> dict[str, Figure]:
    """Return every picture by its name."""
    plots = mw.plots
    model, data = loft()
    posterior = model.fit(data, seed=7, progress=False)
    dressing, minutes = stones()
    groups = dressing.fit(minutes, seed=7, progress=False)
    observed = pd.DataFrame(minutes).groupby("stone")["minutes"].mean()
    series_model, gauge = river()
    curve_model, flows = wheel()
    region = (-0.05, 0.05)
    # Few rows, so that the data leave some doubt.
    few = data.iloc[:5]
    doubtful = model.fit(few, seed=7, progress=False)
    flat = mw.Model.read(mw.demo.sheet_path("flat.toml"))
    level = flat.fit(few, seed=7, progress=False)
    return {
        "data-sets": plots.intervals(
            model.fit_each(lofts(), by="loft", seed=7, progress=False), "drying"
        ),
        "calibration": plots.calibration(
            model.calibration(data, replications=200, seed=7, progress=False)
        ),
        "model-probabilities": plots.model_probabilities(
            mw.bayes_factors(line=doubtful, flat=level)
        ),
        "average": plots.average(
            mw.average({"line": doubtful, "flat": level}, zero=["drying"]), ["start", "drying"]
        ),
        "prior-sensitivity": plots.prior_sensitivity(doubtful.prior_sensitivity(progress=False)),
        "evidence-path": plots.evidence_path(
            mw.evidence_path({"line": model, "flat": flat}, data, first=3)
        ),
        "expected-evidence": plots.expected_evidence(
            mw.expected_evidence(
                {"line": doubtful, "flat": level}, rows=3, replications=100, progress=False
            )
        ),
        "overview": plots.overview(posterior),
        "traces": plots.trace(posterior),
        "rank-counts": plots.rank_counts(posterior),
        "scatter-matrix": plots.scatter_matrix(posterior),
        "intervals": plots.intervals(groups),
        "prior-posterior": plots.prior_posterior(posterior),
        "predictive-check": plots.predictive_check(posterior),
        "posterior-densities": plots.posterior_densities(posterior, rope={"drying": region}),
        "decision": plots.decision(posterior.decide("drying", rope=region)),
        "fitted-line": plots.fitted_line(posterior, "hours"),
        "prior-lines": plots.prior_lines(model.simulate(data, seed=7), "hours"),
        "model-graph": plots.model_graph(groups),
        "shrinkage": plots.shrinkage(groups, "expected", observed),
        "series": plots.series(series_model.fit(gauge, seed=7, progress=False), "gauge", ahead=10),
        "wheel-curve": plots.fitted_line(curve_model.fit(flows, seed=7, progress=False), "flow"),
        **studies(),
        "samplers": plots.samplers(
            mw.compare_samplers(model, ["no_u_turn", "random_walk", "ensemble"], data, seed=7)
        ),
    }


def pixels(figure: Figure) -> np.ndarray:
    """Return a figure 1280 pixels wide."""
    figure.set_dpi(1280 / figure.get_figwidth())
    canvas = FigureCanvasAgg(figure)
    canvas.draw()
    return np.asarray(canvas.buffer_rgba())


def main() -> None:
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else FOLDER
    figures = pictures()
    single = set(figures) - {name for names in SHEETS.values() for name in names}
    for sheet, names in ({name: (name,) for name in single} | SHEETS).items():
        drawn = [pixels(figures[name]) for name in names]
        imsave(folder / f"{sheet}.png", np.concatenate(drawn))
        print(folder / f"{sheet}.png")


if __name__ == "__main__":
    main()
