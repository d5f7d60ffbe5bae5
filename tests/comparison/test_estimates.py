"""Several fits side by side: what changes is said, and what does not fit is refused."""

import functools
import unittest

import numpy as np

import millwright as mw
from millwright.comparison.estimates import AcrossFits
from millwright.errors import ArgumentError
from tests.fits import flat, straight, yeasts


@functools.cache
def masked():
    """A predictor that is near zero alone, and clear once another enters."""
    generator = np.random.default_rng(4)
    flow = generator.normal(size=150)
    depth = 0.9 * flow + 0.4 * generator.normal(size=150)
    data = {"flow": flow, "depth": depth, "power": flow - depth + 0.3 * generator.normal(size=150)}
    priors = {"a": "normal(0, 1)", "noise": "half_normal(1)", "by_flow": "normal(0, 1)"}
    settings = {"seed": 1, "draws": 500, "progress": False}
    alone = mw.Model(priors=priors, likelihood={"power": "normal(a + by_flow * flow, noise)"})
    both = mw.Model(
        priors={**priors, "by_depth": "normal(0, 1)"},
        likelihood={"power": "normal(a + by_flow * flow + by_depth * depth, noise)"},
    )
    # Fits need not have as many draws or chains.
    return alone.fit(data, **settings), both.fit(data, **{**settings, "draws": 400, "chains": 3})


class SideBySide(unittest.TestCase):
    def test_a_coefficient_that_only_shows_beside_another(self):
        alone, both = masked()
        found = mw.compare_estimates("by_flow", alone=alone, both=both)
        self.assertEqual(list(found.table.index), [("by_flow", "alone"), ("by_flow", "both")])
        self.assertIn("`by_flow` is clear of 0 in both, not in alone", str(found))
        self.assertAlmostEqual(
            found.table.loc[("by_flow", "both"), "mean"], float(both["by_flow"].mean())
        )

    def test_common_quantities_and_those_of_one_fit(self):
        alone, both = masked()
        self.assertEqual(
            list(mw.compare_estimates(alone=alone, both=both).draws),
            ["a", "noise", "by_flow", "by_depth"],
        )
        found = mw.compare_estimates(alone=alone, both=both)
        self.assertIn("`by_depth` is not in alone.", str(found))
        wide = found.wide()
        self.assertTrue(np.isnan(wide.loc["by_depth", ("alone", "mean")]))
        self.assertGreater(wide.loc["by_flow", ("both", "probability above 0")], 0.99)
        self.assertEqual(list(wide.columns.levels[0]), ["alone", "both"])
        named = mw.compare_estimates(["by_depth"], alone=alone, both=both)
        self.assertEqual(list(named.table.index), [("by_depth", "both")])

    def test_a_change_of_sign_is_told(self):
        up = np.random.default_rng(0).normal(5, 1, (2, 250))
        draws = {"slope": {"one": up, "two": -up}}
        found = AcrossFits(
            draws=draws, level=0.95, kind="central", good={"one": True, "two": False}
        )
        self.assertIn("`slope` changes its SIGN between one and two", str(found))
        self.assertIn("The verdict on `two` is not good", str(found))

    def test_bad_input(self):
        for call in (
            lambda: mw.compare_estimates(a=straight()),
            lambda: mw.compare_estimates(a=straight(), b=3),
            lambda: mw.compare_estimates("share", a=straight(), b=flat()),
            lambda: mw.compare_estimates(a=straight(), b=yeasts()),
            lambda: mw.compare_estimates(a=straight(), b=flat(), level=3),
            lambda: mw.compare_estimates(a=straight(), b=flat(), kind="x"),
        ):
            with self.assertRaises(ArgumentError):
                call()


class Predictions(unittest.TestCase):
    def test_scores_side_by_side(self):
        new = mw.demo.load("drying_loft").frame
        predictions = {"straight": straight().predict(new), "flat": flat().predict(new)}
        found = mw.compare_predictions(new, **predictions)
        column = found.frame["root-mean-square error"].xs("whole posterior", level=1)
        self.assertLess(column["straight"].iloc[0], column["flat"].iloc[0])
        self.assertIn("smaller is better", str(found))
        with self.assertRaises(ArgumentError):
            mw.compare_predictions(new, straight=predictions["straight"])
        with self.assertRaises(ArgumentError):
            mw.compare_predictions(new, a=predictions["straight"], b=3)


if __name__ == "__main__":
    unittest.main()
