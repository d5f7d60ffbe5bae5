"""Separate modes are found before sampling, weighed, and never passed over in silence."""

import unittest

import numpy as np

import millwright as mw
from millwright.errors import ArgumentError
from millwright.reporting.repeating import repeating

QUIET = {"progress": False}
TWO = "mixture(normal(-6, 1), normal(6, 1), share=0.7)"


def two_humps():
    return mw.Model(
        priors={"near": "normal(0, 1)", "far": TWO}, likelihood={"y": "normal(near, 1)"}
    )


DATA = {"y": [0.3]}


class SeparateModes(unittest.TestCase):
    def test_a_stuck_chain_is_flagged_with_both_places_and_their_shares(self):
        posterior = two_humps().fit(DATA, seed=1, **QUIET)
        told = str(posterior.verdict)
        self.assertFalse(posterior.verdict.good)
        self.assertIn(
            "Separate modes: `far` near -6 (about 70 %); `far` near 6 (about 30 %)", told
        )
        self.assertIn("method='tempering'", told)
        # Under the table it is said that ESS knows nothing of the moves between modes.
        self.assertRegex(posterior.summary(), r"known no better than by \d+ independent draws")

    def test_all_chains_begun_in_one_mode_are_flagged_too(self):
        start = {"near": 0.0, "far": 6.0}
        posterior = two_humps().fit(DATA, start=start, seed=1, **QUIET)
        self.assertTrue((posterior.draws.get("far") > 0).all())
        self.assertFalse(posterior.verdict.good)
        self.assertIn("near -6 (about 70 %)", str(posterior.verdict))

    def test_tempering_weighs_them(self):
        posterior = two_humps().fit(DATA, seed=1, method=mw.Tempering(), **QUIET)
        below = posterior.probability("far < 0")
        self.assertTrue(posterior.verdict.good, posterior.verdict)
        self.assertLess(abs(below.value - 0.7), 4 * below.monte_carlo_error)

    def test_one_hump_is_one_mode(self):
        rng = np.random.default_rng(3)
        data = {"level": rng.normal(2, 1, 30), "mill": rng.choice(["Upper", "Lower"], 30)}
        model = mw.Model(
            priors={"spread": "half_normal(1)", "at": "normal(0, spread) per mill"},
            likelihood={"level": "normal(at[mill], 1)"},
        )
        posterior = model.fit(data, seed=2, **QUIET)
        self.assertEqual(posterior.record.modes["peaks"], 1)
        self.assertNotIn("Separate modes: `", str(posterior.verdict))

    def test_a_flat_place_of_many_dimensions_is_no_mode(self):
        # With spreads near zero effects move nothing: climbs are slow there, one even ends.
        make = np.random.default_rng(2)
        mill = np.repeat(np.arange(110), 5)
        flow = make.normal(size=len(mill))
        effects = make.normal(0, 0.7, 110)[mill] + make.normal(0, 0.3, 110)[mill] * flow
        data = {
            "mill": mill.astype(str),
            "flow": flow,
            "power": effects + 0.5 * make.normal(size=len(mill)),
        }
        model = mw.Model(
            priors={
                "level": "normal(0, 3)",
                "slope": "normal(0, 3)",
                "noise": "half_normal(2)",
                "spread": "half_normal(2)",
                "at": "normal(0, spread) per mill",
                "tilt": "half_normal(1)",
                "own": "normal(0, tilt) per mill",
            },
            likelihood={
                "power": "normal(level + slope * flow + at[mill] + own[mill] * flow, noise)"
            },
        )
        posterior = model.fit(data, seed=2, chains=2, draws=300, **QUIET)
        self.assertEqual(posterior.record.modes["peaks"], 1)
        self.assertNotIn("mode that was found", str(posterior.verdict))
        self.assertIn("Separate modes: one mode found", str(posterior.verdict))
        short = model.fit(data, seed=2, chains=1, draws=10, warmup=10, **QUIET)
        self.assertEqual(short.record.modes["climbs"], 0)
        self.assertIn("no time for one optimisation", " ".join(str(short.verdict).split()))

    def test_modes_with_kinks_are_found_and_weighed(self):
        # Where a density has a corner no slope is zero, and the curvature depends on the step.
        corners = "mixture(laplace(-3, 0.2), laplace(3, 0.2), share=0.3)"
        model = mw.Model(
            priors={"far": corners, "near": "laplace(0, 1)"},
            likelihood={"y": "normal(far + near, 50)"},
        )
        found = model.fit({"y": [0.1]}, seed=1, draws=100, **QUIET).record.modes
        self.assertEqual(found["peaks"], 2)
        for mass, error, exact in zip(found["masses"], found["errors"], (0.7, 0.3), strict=True):
            self.assertLess(abs(mass - exact), 4 * error)
            self.assertLess(error, 0.06)

    def test_medians_are_peaks_too(self):
        model = mw.Model(
            priors={"level": "normal(0, 2)", "slope": "normal(0, 1)", "noise": "half_normal(1)"},
            likelihood={"y": "laplace(level + slope * x, noise)"},
        )
        for seed in range(3):
            make = np.random.default_rng(seed)
            x = make.normal(size=30)
            data = {"x": x, "y": 1 + x + make.laplace(size=30)}
            modes = model.fit(data, seed=seed, draws=100, **QUIET).record.modes
            self.assertEqual(modes["peaks"], 1)
            self.assertGreater(modes["climbs"], 30)

    def test_modes_that_hold_next_to_nothing_are_weighed_and_need_no_chain(self):
        # An angle is the same a turn further: modes without end, of which the prior leaves two.
        model = mw.Model(
            priors={
                "centre": "student_t(0, 0.7, df=4)",
                "at": "normal(centre, 0.4) per mill",
                "narrow": "uniform(low=0.5, high=4)",
            },
            likelihood={"wind": "von_mises(at[mill], concentration=narrow)"},
        )
        data = {"wind": [2.8, 1.4], "mill": ["Upper", "Lower"]}
        posterior = model.fit(data, seed=1, **QUIET)
        masses = posterior.record.modes["masses"]
        self.assertGreater(len(masses), 4)
        self.assertTrue(all(mass is not None for mass in masses))
        self.assertAlmostEqual(sum(masses), 1.0)
        self.assertLess(masses[2], 0.01)
        self.assertNotIn("hardly in the draws", str(posterior.verdict))


class Starts(unittest.TestCase):
    def test_bad_starts(self):
        wrong = [
            ({}, "must be a mapping"),
            ("far", "must be a mapping"),
            ({"fra": 1.0}, "not an unknown"),
            ({1: 2.0}, "not an unknown"),
            ({"far": [1.0, 2.0]}, "a single number"),
            ({"far": np.nan}, "not finite"),
            ([{"far": 1.0}] * 3, "3 points for 4 chains"),
        ]
        for start, words in wrong:
            with self.subTest(start=start), self.assertRaisesRegex(ArgumentError, words):
                two_humps().fit(DATA, start=start, progress=False)

    def test_a_start_outside_the_support(self):
        model = mw.Model(
            priors={"rate": "exponential(rate=1)"}, likelihood={"y": "poisson(rate=rate)"}
        )
        with self.assertRaisesRegex(ArgumentError, "rate"):
            model.fit({"y": [1, 2]}, start={"rate": -1.0}, progress=False)

    def test_each_chain_begins_at_its_own(self):
        starts = [{"far": -6.0}, {"far": 6.0}]
        fit = {**QUIET, "chains": 2, "start": starts}
        far = two_humps().fit(DATA, seed=1, **fit).draws.get("far")
        self.assertTrue((far[0] < 0).all() and (far[1] > 0).all())

    def test_the_line_that_repeats_a_fit_states_them(self):
        posterior = two_humps().fit(DATA, start={"far": 6.0}, seed=1, draws=50, **QUIET)
        again = repeating(posterior)
        self.assertIn("start={'far': 6.0}", again.code)
        self.assertIn("--start far=6.0", again.command)
        each = {**QUIET, "chains": 2, "start": [{"far": -6.0}, {"far": 6.0}]}
        self.assertEqual(repeating(two_humps().fit(DATA, seed=1, draws=50, **each)).command, "")


if __name__ == "__main__":
    unittest.main()
