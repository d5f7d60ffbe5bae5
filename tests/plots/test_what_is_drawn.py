"""What figures show: positions against the numbers, counts of lines, texts in view and apart."""

import itertools
import unittest

import numpy as np
from matplotlib.figure import Figure
from matplotlib.text import Text

import millwright as mw
from millwright.plots.style import wrapped
from tests.fits import straight, yeasts
from tests.plots.test_figures import rows_of_all_kinds, simulated

PLOTS = mw.plots


def texts_of(figure: Figure):
    """Return the boxes of all texts that are shown, and the canvas, in pixels."""
    figure.draw_without_rendering()
    hidden = set()
    for axis in (axis for axes in figure.get_axes() for axis in (axes.xaxis, axes.yaxis)):
        low, high = sorted(axis.get_view_interval())
        for tick in axis.get_major_ticks():
            if not low <= tick.get_loc() <= high:
                hidden |= {id(tick.label1), id(tick.label2)}
    found = []
    for text in figure.findobj(Text):
        if text.get_visible() and text.get_text().strip() and id(text) not in hidden:
            box = text.get_window_extent()
            if box.width > 0 and (text.axes is None or text.axes.get_visible()):
                found.append((text.get_text(), box))
    return found, figure.bbox


def long_title():
    words = (
        "A model of the flour, the stones and the sacks of every mill and carrier in the valley"
    )
    model = mw.Model(
        title=f"{words} of the river Hollin",
        priors={"level": "normal(0, 1)"},
        likelihood={"y": "normal(level, 1)"},
    )
    return model.fit({"y": [0.3, 0.1]}, draws=100, warmup=100, progress=False)


class Positions(unittest.TestCase):
    def test_bars_of_intervals_are_those_of_the_table(self):
        posterior = straight()
        table = posterior.table()
        names = list(table.index)
        figure = PLOTS.intervals(posterior)
        for axes, name in zip(figure.axes, names, strict=True):
            thin = max(axes.lines, key=lambda line: np.ptp(line.get_xdata()))
            np.testing.assert_allclose(thin.get_xdata(), table.loc[name].iloc[3:5].to_numpy(float))
            dot = next(line for line in axes.lines if line.get_marker() == "o")
            self.assertAlmostEqual(float(dot.get_xdata()[0]), table.loc[name, "median"])
            self.assertIn(
                axes.get_yticklabels()[0].get_text(),
                (f"{name} (per cent)", f"{name} (per cent an hour)"),
            )

    def test_shaded_interval_and_shares_of_a_region(self):
        posterior = straight()
        low, high = posterior.interval("drying").values
        figure = PLOTS.posterior_densities(posterior, "drying", rope=(-0.6, -0.5))
        axes = figure.axes[0]
        reach = [band.get_datalim(axes.transData).intervalx for band in axes.collections]
        self.assertTrue(any(np.allclose(ends, [low, high]) for ends in reach))
        span = axes.patches[0].get_extents().transformed(axes.transData.inverted())
        np.testing.assert_allclose([span.x0, span.x1], [-0.6, -0.5])
        inside = float(posterior.probability("drying > -0.6 and drying < -0.5").value)
        self.assertIn(f"inside: {inside:.3f}", axes.get_xlabel())

    def test_strips_of_ranks_add_up(self):
        figure = PLOTS.rank_counts(straight(), "drying")
        axes = figure.axes[0]
        strips = [patch for patch in axes.patches if hasattr(patch, "get_data")]
        self.assertEqual(len(strips), 4)
        for strip in strips:
            values, _, baseline = strip.get_data()
            self.assertAlmostEqual(float(np.sum(values - baseline)), 0.0, places=6)
        self.assertEqual([t.get_text() for t in axes.get_yticklabels()], ["1", "2", "3", "4"])

    def test_counts_of_lines_and_sizes_of_groups(self):
        figure = PLOTS.trace(straight(), ["drying", "noise"])
        self.assertEqual([len(axes.lines) for axes in figure.axes], [4, 4, 4, 4])
        figure = PLOTS.prior_lines(simulated(), "hours", lines=7)
        self.assertEqual(len(figure.axes[0].lines), 7)
        seen = mw.demo.load("yeasts").frame.groupby("yeast")["sank"].mean()
        rows = mw.demo.load("yeasts").frame["yeast"].value_counts()
        figure = PLOTS.shrinkage(yeasts(), "share", seen)
        labels = {text.get_text() for text in figure.axes[0].get_yticklabels()}
        words = {f"{k} ({n} row{'s' * (n != 1)})" for k, n in rows.items()}
        self.assertEqual(labels, words)

    def test_sizes_are_those_of_the_groups_own_column(self):
        generator = np.random.default_rng(1)
        data = {
            "stone": ["a", "b"] * 15,
            "other": ["a", "a", "b"] * 10,
            "y": generator.normal(size=30),
        }
        model = mw.Model(
            priors={"e": "normal(0, 1) per stone", "f": "normal(0, 1) per other"},
            likelihood={"y": "normal(e[stone] + f[other], 1)"},
        )
        fit = model.fit(data, draws=50, warmup=100, progress=False)
        seen = {"a": 0.0, "b": 0.5}
        for quantity, sizes in (("e", (15, 15)), ("f", (20, 10)), ("f * 2", None)):
            with self.subTest(quantity):
                axes = PLOTS.shrinkage(fit, quantity, seen).axes[0]
                labels = [text.get_text() for text in axes.get_yticklabels()]
                wanted = ["a", "b"]
                if sizes:
                    wanted = [f"{n} ({size} rows)" for n, size in zip("ab", sizes, strict=True)]
                self.assertEqual(labels, wanted)

    def test_expressions_have_no_unit_of_their_parts(self):
        model = mw.Model(
            priors={"e": "normal(0, 1) per stone"},
            likelihood={"y": "normal(e[stone], 1)"},
            units={"e": "cm"},
        )
        data = {"stone": ["a", "b"], "y": [0.0, 1.0]}
        fit = model.fit(data, draws=50, warmup=100, progress=False)
        for name, unit in (("e", True), ("e['a'] ** 2", False), ("e['a'] * e['b']", False)):
            with self.subTest(name):
                self.assertEqual("cm" in fit.summary([name]), unit)

    def test_units_stand_on_axes_and_titles(self):
        model = mw.Model(
            priors={"height": "normal(10, 3)", "noise": "half_normal(2)"},
            likelihood={"gauge": "normal(height, noise)"},
            units={"height": "cm", "gauge": "cm"},
        )
        fit = model.fit({"gauge": [9.0, 11.0, 10.5]}, draws=100, warmup=200, progress=False)
        titles = [axes.get_title("left") for axes in PLOTS.densities(fit).axes]
        self.assertEqual(titles, ["height (cm)", "noise"])
        check = PLOTS.predictive_check(fit, show="densities")
        self.assertEqual(check.axes[0].get_xlabel(), "gauge (cm)")
        self.assertIn("cm", fit.summary())
        self.assertIn("gauge (cm), row 1", str(fit.predict(rows=1)))


class Layout(unittest.TestCase):
    def test_texts_are_inside_and_none_lies_on_another(self):
        posterior = straight()
        groups = mw.Model(
            priors={
                "usual": "normal(0, 5)",
                "spread_between_stones": "half_normal(2)",
                "stone_effect": "normal(0, spread_between_stones) per stone",
            },
            likelihood={"minutes": "normal(usual + stone_effect[stone], 1)"},
        )
        check = rows_of_all_kinds()
        figures = {
            "trace": PLOTS.trace(posterior),
            "ranks": PLOTS.rank_counts(posterior),
            "densities": PLOTS.posterior_densities(posterior, rope=(-0.1, 0.1)),
            "decision": PLOTS.decision(posterior.decide("drying", rope=(-0.1, 0.1))),
            "scatter": PLOTS.scatter_matrix(posterior),
            "line": PLOTS.fitted_line(posterior, "hours"),
            "overview": PLOTS.overview(posterior),
            "long title": PLOTS.overview(long_title()),
            "graph": PLOTS.model_graph(groups),
            "intervals": PLOTS.intervals(posterior),
            "prior": PLOTS.prior_densities(simulated()),
            "counts": PLOTS.predictive_check(check, "stops", show="counts"),
            "check": PLOTS.predictive_check(posterior),
        }
        for name, figure in figures.items():
            with self.subTest(name):
                texts, canvas = texts_of(figure)
                self.assertGreater(len(texts), 3)
                for words, box in texts:
                    inside = box.x0 > -1 and box.y0 > -1 and box.x1 < canvas.x1 + 1
                    self.assertTrue(inside and box.y1 < canvas.y1 + 1, words)
                for (one, a), (other, b) in itertools.combinations(texts, 2):
                    wide = min(a.x1, b.x1) - max(a.x0, b.x0)
                    high = min(a.y1, b.y1) - max(a.y0, b.y0)
                    self.assertFalse(wide > 2 and high > 2, f"{one!r} and {other!r}")

    def test_long_names_break_between_words(self):
        self.assertEqual(wrapped("after_six_hours", 10), "after_six_\nhours")
        self.assertEqual(wrapped("effect[Upper mill]", 8), "effect[\nUpper\nmill]")
        self.assertEqual(wrapped("unbreakable", 4), "unbreakable")

    def test_the_graph_names_distributions_and_sizes(self):
        texts = "\n".join(words for words, _ in texts_of(PLOTS.model_graph(yeasts()))[0])
        self.assertIn("~ beta(alpha=1, beta=1)", texts)
        self.assertIn("per yeast (2 labels)", texts)


if __name__ == "__main__":
    unittest.main()
