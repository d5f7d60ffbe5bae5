"""Figures: made for few and many quantities, without touching the user's settings."""

import io
import unittest

import matplotlib as mpl
import numpy as np

import millwright as mw
from millwright.errors import ArgumentError
from tests.fits import carriers, straight


def many():
    data = {"stone": [f"stone {i % 30}" for i in range(90)], "y": np.arange(90.0) % 7}
    model = mw.Model(
        priors={"effect": "normal(0, 5) per stone", "huge": "normal(1e9, 1e6)"},
        likelihood={"y": "normal(effect[stone], 2)"},
    )
    return model.fit(data, draws=100, warmup=100, chains=8, progress=False)


class Figures(unittest.TestCase):
    def test_every_figure_is_drawn_with_title_and_caption(self):
        model = mw.Model.read(mw.demo.sheet_path("drying.toml"))
        posterior = straight()
        before = dict(mpl.rcParams)
        figures = [
            mw.plots.trace(posterior),
            mw.plots.densities(posterior, "drying"),
            mw.plots.intervals(posterior, level=0.9, kind="hdi"),
            mw.plots.prior_posterior(posterior),
            mw.plots.fitted_line(posterior, "hours"),
            mw.plots.prior_lines(model.simulate(mw.demo.load("drying_loft").frame), "hours"),
            mw.plots.predictive_check(posterior),
            mw.plots.predictive_check(carriers().predictive_check(), "torn"),
        ]
        for figure in figures:
            self.assertTrue(figure.get_suptitle() and figure.get_supxlabel())
            target = io.BytesIO()
            figure.savefig(target)
            self.assertGreater(len(target.getvalue()), 10_000)
        self.assertEqual(dict(mpl.rcParams), before)

    def test_text_can_be_left_out_and_size_given(self):
        figure = mw.plots.trace(straight(), "drying", size=(5, 3), text=False)
        self.assertEqual(figure.get_suptitle(), "")
        self.assertEqual(tuple(figure.get_size_inches()), (5, 3))

    def test_many_quantities_are_drawn_or_refused_with_advice(self):
        posterior = many()
        mw.plots.intervals(posterior).savefig(io.BytesIO())
        for draw in (mw.plots.trace, mw.plots.densities, mw.plots.prior_posterior):
            with self.assertRaisesRegex(ArgumentError, "Choose some by name"):
                draw(posterior)
        mw.plots.densities(posterior, "huge").savefig(io.BytesIO())

    def test_bad_arguments(self):
        cases = [
            lambda: mw.plots.trace(3),
            lambda: mw.plots.fitted_line(straight(), "minutes"),
            lambda: mw.plots.fitted_line(carriers(), "carrier"),
            lambda: mw.plots.fitted_line(straight(), "hours", outcome="x"),
            lambda: mw.plots.prior_lines(straight(), "hours"),
            lambda: mw.plots.predictive_check(straight(), "x"),
            lambda: mw.plots.intervals(straight(), level=2),
        ]
        for number, call in enumerate(cases):
            with self.subTest(number=number), self.assertRaises(ArgumentError):
                call()


if __name__ == "__main__":
    unittest.main()
