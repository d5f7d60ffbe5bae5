"""Figures: made for few and many quantities, without touching the user's settings."""

import functools
import io
import unittest
from dataclasses import replace

import matplotlib as mpl
import numpy as np
from matplotlib.figure import Figure

import millwright as mw
from millwright.errors import ArgumentError
from millwright.plots.saving import save
from tests.fits import flat, straight, yeasts

PLOTS = mw.plots
OF_MANY = (
    "trace",
    "densities",
    "rank_counts",
    "autocorrelation",
    "running_mean",
    "prior_posterior",
)
ONE_PANEL = (*OF_MANY[1:], "posterior_densities")


@functools.cache
def many():
    data = {"stone": [f"stone {i % 70}" for i in range(140)], "y": np.arange(140.0) % 7}
    model = mw.Model(
        priors={"effect": "normal(0, 5) per stone", "huge": "normal(1e9, 1e6)"},
        likelihood={"y": "normal(effect[stone], 2)"},
    )
    return model.fit(data, draws=100, warmup=100, chains=8, progress=False)


@functools.cache
def simulated():
    model = mw.Model.read(mw.demo.sheet_path("drying.toml"))
    return model.simulate(mw.demo.load("drying_loft").frame)


@functools.cache
def rows_of_all_kinds():
    """Counts, 0 and 1, and labels in order, as outcomes of one model."""
    generator = np.random.default_rng(1)
    x = np.round(generator.uniform(-2, 2, 90), 2)
    model = mw.Model(
        priors={"rate": "gamma(shape=2, rate=1)", "slope": "normal(0, 1)"},
        likelihood={
            "stops": "poisson(rate=rate)",
            "sprouted": "bernoulli(log_odds=slope * x)",
            "grade": "cumulative_logit(slope * x, cuts=[-1, 1])",
        },
        labels={"grade": ["poor", "fair", "good"]},
    )
    data = model.simulate(
        {"x": x, "stone": np.repeat(["a", "b", "c"], 30)},
        given={"rate": 3, "slope": 1},
        draws=1,
    ).data(0)
    return model.fit(data, draws=200, warmup=200, seed=1, progress=False).predictive_check()


def drawn(figure):
    target = io.BytesIO()
    save(figure, target)
    return len(target.getvalue())


class Figures(unittest.TestCase):
    def test_every_figure_is_drawn_with_title_and_caption(self):
        # A posterior of its own: its verdict says from then on what the sensitivity found.
        posterior = replace(straight())
        observed = {"brewer": 0.1, "wild": 0.2}
        before = dict(mpl.rcParams)
        figures = {
            "trace": PLOTS.trace(posterior, warmup=True),
            "densities": PLOTS.densities(posterior, "drying", reference={"drying": -0.55}),
            "rank_counts": PLOTS.rank_counts(posterior),
            "autocorrelation": PLOTS.autocorrelation(posterior, lags=10),
            "running_mean": PLOTS.running_mean(posterior),
            "scatter_matrix": PLOTS.scatter_matrix(posterior),
            "energy_changes": PLOTS.energy_changes(posterior),
            "intervals": PLOTS.intervals(
                posterior, level=0.9, kind="hdi", reference={"start": 18.4}
            ),
            "shrinkage": PLOTS.shrinkage(yeasts(), "share", observed),
            "posterior_densities": PLOTS.posterior_densities(posterior, rope=(-0.1, 0.1)),
            "decision": PLOTS.decision(posterior.decide("drying", rope=(-0.1, 0.1))),
            "prior_posterior": PLOTS.prior_posterior(posterior, leave_out=["noise"]),
            "prior_densities": PLOTS.prior_densities(simulated()),
            "prior_data": PLOTS.prior_data(simulated()),
            "prior_lines": PLOTS.prior_lines(simulated(), "hours"),
            "fitted_line": PLOTS.fitted_line(posterior, "hours"),
            "predictive_check": PLOTS.predictive_check(posterior),
            "leave_one_out_pit": PLOTS.leave_one_out_pit(posterior),
            "compare_estimates": PLOTS.compare_estimates(
                mw.compare_estimates(a=posterior, b=flat())
            ),
            "overview": PLOTS.overview(posterior),
            "model_graph": PLOTS.model_graph(posterior),
            "average": PLOTS.average(mw.average({"a": posterior, "b": flat()}, zero=["drying"])),
            "model_probabilities": PLOTS.model_probabilities(
                mw.bayes_factors(a=posterior, b=flat())
            ),
            "prior_sensitivity": PLOTS.prior_sensitivity(posterior.prior_sensitivity()),
            "causal_graph": PLOTS.causal_graph(
                mw.CausalGraph("a -> b -> c; a <-> c; d -> b", ["d"]), exposure="b", outcome="c"
            ),
        }
        elsewhere = {
            "samplers",
            "series",
            "calibration",
            "under_priors",
            "evidence_path",
            "expected_evidence",
            "study",
            "further_trials",
            "funnel",
            "causal_effects",
            "forecast",
            "responses",
        }
        self.assertEqual(set(figures) | elsewhere, set(PLOTS.__all__))
        for name, figure in figures.items():
            with self.subTest(name=name):
                self.assertIsInstance(figure, Figure)
                self.assertTrue(figure.get_suptitle() and figure.get_supxlabel())
                self.assertGreater(drawn(figure), 10_000)
        self.assertEqual(dict(mpl.rcParams), before)

    def test_every_view_of_the_predictive_check(self):
        check = straight().predictive_check(statistics={"range": np.ptp})
        for show in ("statistics", "histogram", "densities", "cumulative", "rows", "residuals"):
            with self.subTest(show=show):
                self.assertGreater(drawn(PLOTS.predictive_check(check, show=show)), 10_000)
        for show in ("rows", "residuals", "groups"):
            with self.subTest(show=show, along="hours"):
                PLOTS.predictive_check(check, show=show, along="hours")

    def test_views_for_counts_and_labels(self):
        check = rows_of_all_kinds()
        for outcome, show in (
            ("stops", "counts"),
            ("sprouted", "calibration"),
            ("grade", "calibration"),
            ("grade", "histogram"),
        ):
            with self.subTest(outcome=outcome, show=show):
                drawn(PLOTS.predictive_check(check, outcome, show=show))
        for outcome, show in (
            ("grade", "densities"),
            ("grade", "residuals"),
            ("stops", "calibration"),
            ("grade", "counts"),
            ("grade", "rows"),
        ):
            with self.subTest(outcome=outcome, show=show), self.assertRaises(ArgumentError):
                PLOTS.predictive_check(check, outcome, show=show)

    def test_text_can_be_left_out_and_size_given(self):
        figure = PLOTS.trace(straight(), "drying", size=(5, 3), text=False)
        self.assertEqual(figure.get_suptitle(), "")
        self.assertEqual(tuple(figure.get_size_inches()), (5, 3))

    def test_axes_of_the_users_own(self):
        mine = Figure()
        for name in ONE_PANEL:
            with self.subTest(name=name):
                axes = mine.add_subplot()
                self.assertIs(getattr(PLOTS, name)(straight(), "drying", axes=axes), mine)
                self.assertTrue(axes.has_data())
                self.assertFalse(mine.get_suptitle())
                with self.assertRaisesRegex(ArgumentError, "One axes takes one quantity"):
                    getattr(PLOTS, name)(straight(), axes=axes)
                with self.assertRaises(ArgumentError):
                    getattr(PLOTS, name)(straight(), "drying", axes=3)

    def test_many_quantities_have_pages_or_are_refused_with_advice(self):
        posterior = many()
        for name in (*OF_MANY, "intervals", "posterior_densities"):
            with self.subTest(name=name):
                draw = getattr(PLOTS, name)
                with self.assertRaisesRegex(ArgumentError, r"page=1 to page=\d+"):
                    draw(posterior)
                self.assertIn("page 2 of", draw(posterior, page=2).get_suptitle())
                for page in (0, 99, "2"):
                    with self.assertRaises(ArgumentError):
                        draw(posterior, page=page)
        with self.assertRaisesRegex(ArgumentError, "Choose some"):
            PLOTS.scatter_matrix(posterior)
        drawn(PLOTS.densities(posterior, "huge"))

    def test_one_chain_is_compared_with_itself(self):
        model = mw.Model.read(mw.demo.sheet_path("drying.toml"))
        data = mw.demo.load("drying_loft").frame
        one = model.fit(data, chains=1, draws=200, warmup=200, progress=False)
        words = [text.get_text() for text in PLOTS.rank_counts(one).legends[0].get_texts()]
        self.assertEqual(words, ["first half", "second half"])
        for name in ("trace", "running_mean", "energy_changes", "overview"):
            with self.subTest(name=name):
                drawn(getattr(PLOTS, name)(one))

    def test_bad_arguments(self):
        check = straight().predictive_check()
        cases = [
            lambda: PLOTS.trace(3),
            lambda: PLOTS.energy_changes(3),
            lambda: PLOTS.overview(3),
            lambda: PLOTS.decision(3),
            lambda: PLOTS.compare_estimates(3),
            lambda: PLOTS.scatter_matrix(straight(), "drying"),
            lambda: PLOTS.shrinkage(yeasts(), "share", {"brewer": 0.1}),
            lambda: PLOTS.shrinkage(straight(), "drying", {}),
            lambda: PLOTS.densities(straight(), reference={"dryign": 1}),
            lambda: PLOTS.prior_posterior(straight(), leave_out=["x"]),
            lambda: PLOTS.posterior_densities(straight(), rope=(1, 0)),
            lambda: PLOTS.posterior_densities(straight(), rope=(0, 1), null=0),
            lambda: PLOTS.prior_densities(straight()),
            lambda: PLOTS.prior_data(simulated(), "x"),
            lambda: PLOTS.leave_one_out_pit(straight(), "x"),
            lambda: PLOTS.predictive_check(check, show="x"),
            lambda: PLOTS.predictive_check(check, show="groups"),
            lambda: PLOTS.predictive_check(check, show="rows", along="hour"),
            lambda: PLOTS.predictive_check(check, show="statistics", axes=Figure().add_subplot()),
            lambda: PLOTS.fitted_line(straight(), "minutes"),
            lambda: PLOTS.fitted_line(yeasts(), "yeast"),
            lambda: PLOTS.fitted_line(straight(), "hours", outcome="x"),
            lambda: PLOTS.prior_lines(straight(), "hours"),
            lambda: PLOTS.predictive_check(straight(), "x"),
            lambda: PLOTS.intervals(straight(), level=2),
        ]
        for number, call in enumerate(cases):
            with self.subTest(number=number), self.assertRaises(ArgumentError):
                call()


if __name__ == "__main__":
    unittest.main()
