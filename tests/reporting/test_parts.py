"""Parts of a page."""

import unittest
from unittest import mock

import numpy as np

import millwright as mw
from millwright.plots.style import finish, new_figure, styled
from millwright.posterior.sensitivity import PriorSensitivity
from millwright.reporting import further
from millwright.reporting.further import further_results
from millwright.reporting.parts import data_table, group_figures
from millwright.reporting.pictures import picture


def grouped(mills):
    model = mw.Model(
        priors={
            "effect": "normal(0, 1) per mill, term",
            "level": "normal(0, 1) per mill",
            "noise": "half_normal(1)",
        },
        likelihood={"load": 'normal(level[mill] + effect[mill, "a"] * x, noise)'},
        labels={"term": ["a", "b"]},
    )
    generator = np.random.default_rng(2)
    data = {
        "mill": np.repeat([f"Mill {at:02d}" for at in range(mills)], 2),
        "x": generator.normal(size=2 * mills),
        "load": generator.normal(size=2 * mills),
    }
    return model.fit(data, draws=50, warmup=50, seed=1, progress=False)


class Words(unittest.TestCase):
    def test_a_title_that_was_broken_is_whole_in_the_page(self):
        title = "How the evidence rests on " + "this and that and " * 12 + "the width"
        with styled():
            figure = new_figure((12.8, 4))
            finish(figure, title, "How to read it.", True)
        self.assertIn("\n", figure.get_suptitle())
        found = picture(figure)
        self.assertEqual((found.title, found.caption), (title, "How to read it."))


class Groups(unittest.TestCase):
    def test_many_labels_get_intervals_one_label_of_the_second_set_at_a_time(self):
        found = group_figures(grouped(15), None)
        self.assertEqual(len(found), 3)
        for one in found:
            self.assertEqual(one.title, "Posterior: 95 % central intervals")
            self.assertIn("NOT CONVERGED", one.alternative)
            self.assertRegex(one.alternative, r"Median and 95 % interval: .*\[Mill 00.*\] -?\d")

    def test_what_other_figures_show_is_not_drawn_again(self):
        self.assertEqual(group_figures(grouped(2), None), [])

    def test_more_labels_than_rows_fit_are_left_to_the_table(self):
        self.assertEqual(group_figures(grouped(61), ["noise"]), [])


class Further(unittest.TestCase):
    def test_more_quantities_than_a_picture_holds_are_chosen(self):
        fit = grouped(5)
        other = fit.under_priors({"wide": {"noise": "half_normal(3)"}})
        found = fit.prior_sensitivity()
        first, last = further_results(fit, [other])
        self.assertIn("shows 12 of 16 quantities: the first, in the order", first.words)
        self.assertIn("shows 12 of 16 quantities: those that move most", last.words)
        self.assertEqual([len(one.pictures) for one in (first, last)], [1, 1])
        drawn = mock.Mock(side_effect=mw.plots.prior_sensitivity)
        with mock.patch.dict(further._KINDS, {PriorSensitivity: ("Priors", (drawn,))}):
            further_results(fit, [found])
        shown = set(drawn.call_args.args[1])
        moves = {
            name: max(one.distance for one in c.values()) for name, c in found.changes.items()
        }
        left = [moves[name] for name in set(moves) - shown]
        self.assertEqual((len(shown), len(left)), (12, 4))
        self.assertGreaterEqual(min(moves[name] for name in shown), max(left))


class Data(unittest.TestCase):
    def test_columns_say_how_they_are_used(self):
        table = data_table(grouped(2).draws.binding)
        for words in ("predictor", "outcome", "Mill 00 (2), Mill 01 (2)"):
            self.assertIn(words, table)
        target = mw.Target(lambda x: -0.5 * x**2, {"x": "real"})
        self.assertEqual(
            data_table(target.fit(draws=20, warmup=20, progress=False).draws.binding), ""
        )


if __name__ == "__main__":
    unittest.main()
