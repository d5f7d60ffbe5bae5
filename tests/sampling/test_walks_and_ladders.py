"""What walks learn, and how a tempering ladder is spaced and exchanges its points."""

import unittest

import numpy as np

import millwright as mw
from millwright.diagnostics.convergence import mean_error
from millwright.errors import ArgumentError, StartError
from millwright.sampling.ensemble import walkers_for
from millwright.sampling.ladder_moves import tempered
from millwright.sampling.methods import METHODS, method_from, method_record
from millwright.sampling.target import TargetDensity
from millwright.sampling.tempering import spaced_powers
from millwright.sampling.walking import acceptance_for, good_start, learned_factor, steps_for
from tests.fits import assert_mean_near


class Learning(unittest.TestCase):
    def test_the_factor_is_that_of_the_windows_covariance(self):
        covariance = np.array([[2.0, 0.6], [0.6, 1.0]])
        draws = np.random.default_rng(1).multivariate_normal([0, 0], covariance, 20_000)
        factor = learned_factor(draws, np.eye(2))
        np.testing.assert_allclose(factor @ factor.T, covariance, atol=0.06)

    def test_a_window_without_movement_teaches_nothing(self):
        before = np.eye(2)
        for window in (np.ones((30, 2)), np.ones((1, 2)), np.full((30, 2), np.inf)):
            with np.errstate(invalid="ignore"):
                self.assertIs(learned_factor(window, before), before)

    def test_acceptance_and_steps_suit_the_dimension(self):
        self.assertAlmostEqual(acceptance_for(1), 0.44)
        self.assertAlmostEqual(acceptance_for(1000), 0.234, places=3)
        self.assertEqual([steps_for(n) for n in (1, 10, 100)], [6, 24, 50])
        self.assertEqual([walkers_for(n) for n in (1, 10)], [20, 40])

    def test_starts_are_the_likeliest_of_some_and_never_impossible(self):
        def plain(positions):
            return np.where(positions[:, 0] > 0, -positions[:, 0], -np.inf)

        def starts(generator, n):
            return generator.standard_normal((n, 1))

        target = TargetDensity(
            dimension=1, log_density=None, arguments={}, starts=starts, plain=plain
        )
        points, values, spread = good_start(target, np.random.default_rng(0), wanted=3)
        self.assertTrue((points > 0).all())
        self.assertTrue((np.diff(values) <= 0).all())
        self.assertAlmostEqual(spread[0], 1.0, delta=0.2)
        nowhere = TargetDensity(
            dimension=1,
            log_density=None,
            arguments={},
            starts=starts,
            plain=lambda q: np.full(len(q), np.nan),
        )
        with self.assertRaises(StartError):
            good_start(nowhere, np.random.default_rng(0))


class Ladders(unittest.TestCase):
    def test_equal_refusals_keep_the_powers(self):
        powers = np.array([1.0, 0.5, 0.2, 0.01])
        np.testing.assert_allclose(spaced_powers(powers, np.full(3, 0.4)), powers)

    def test_pairs_that_refuse_more_come_closer(self):
        powers = np.array([1.0, 0.5, 0.01])
        found = spaced_powers(powers, np.array([0.8, 0.2]))
        self.assertGreater(found[1], 0.5)
        self.assertEqual((found[0], found[2]), (1.0, 0.01))
        never = spaced_powers(powers, np.zeros(2))
        self.assertTrue((np.diff(never) < 0).all())

    def test_at_power_zero_only_the_prior_counts(self):
        prior, likelihood = np.array([-1.0, -1.0, np.nan]), np.array([-np.inf, -3.0, 0.0])
        with np.errstate(invalid="ignore"):
            found = tempered(np, prior, likelihood, np.array([0.0, 0.5, 1.0]))
        np.testing.assert_array_equal(found, [-1.0, -2.5, -np.inf])

    def test_the_prior_alone_may_be_the_highest_temperature(self):
        model = mw.Model(priors={"x": "normal(0, 2)"}, likelihood={"y": "normal(x, 1)"})
        method = mw.Tempering(temperatures=3, smallest_power=0.0)
        fit = model.fit({"y": [1.0]}, method=method, draws=400, warmup=300, progress=False)
        assert_mean_near(self, fit.draws.get("x"), 0.8)
        self.assertEqual(fit.record.chains[0]["powers"][-1], 0.0)


class BlackBoxes(unittest.TestCase):
    def setUp(self):
        def density(x, y):
            return -0.5 * (float(x) ** 2 + (float(y) - float(x)) ** 2)

        self.target = mw.Target(density, {"x": "real", "y": "real"}, black_box=True)

    def test_stated_covariance_and_tempering_work_without_a_gradient(self):
        for method in (
            mw.RandomWalk(covariance=[[1.0, 1.0], [1.0, 2.0]]),
            mw.RandomWalk(proposal="student_t"),
            mw.Tempering(temperatures=3, smallest_power=0.2, steps=3),
        ):
            with self.subTest(method=method.name):
                fit = self.target.fit(method=method, draws=200, warmup=200, seed=1, progress=False)
                assert_mean_near(self, fit.draws.get("y"), 0.0)

    def test_a_compiled_ladder_draws_what_a_called_one_does(self):
        def density(x, y):
            return -0.5 * (x**2 + (y - x) ** 2)

        spaces, method = {"x": "real", "y": "real"}, mw.Tempering(temperatures=4, steps=2)
        called, made = (
            mw.Target(density, spaces, black_box=one).fit(
                method=method, chains=2, draws=40, thin=3, warmup=90, seed=2, progress=False
            )
            for one in (True, False)
        )
        for name in spaces:
            np.testing.assert_allclose(called.draws.get(name), made.draws.get(name), rtol=1e-8)
        one, two = (fit.record.chains[0] for fit in (called, made))
        self.assertEqual(one["round_trips"], two["round_trips"])
        self.assertGreater(one["round_trips"], 0)
        for key in ("powers", "swap_rates", "step_size"):
            np.testing.assert_allclose(one[key], two[key], rtol=1e-8)

    def test_what_needs_a_gradient_is_refused(self):
        for method in ("no_u_turn", "rejection"):
            with self.assertRaisesRegex(ArgumentError, "gradient"):
                self.target.fit(method=method, progress=False)


class Groups(unittest.TestCase):
    def test_rejection_agrees_with_the_gradient_sampler_on_a_hierarchy(self):
        model = mw.Model(
            priors={"spread": "half_normal(1)", "effect": "normal(0, spread) per mill"},
            likelihood={"y": "normal(effect[mill], 1)"},
        )
        data = {"mill": ["a", "b"], "y": [1.0, -0.5]}
        kept = model.fit(data, method=mw.Rejection(candidate="prior"), seed=1, progress=False)
        self.assertEqual(kept.record.settings["warmup"], 0)
        other = model.fit(data, seed=1, progress=False)
        for name in ("spread", "effect"):
            x, y = (fit.draws.get(name).reshape(*fit.draws.shape, -1) for fit in (kept, other))
            error = np.sqrt(mean_error(x) ** 2 + mean_error(y) ** 2)
            gap = np.abs(x.mean(axis=(0, 1)) - y.mean(axis=(0, 1)))
            self.assertTrue((gap < 4 * error).all(), f"{name}: {gap / error}")


class Records(unittest.TestCase):
    def test_methods_survive_their_record(self):
        for kind in METHODS.values():
            record = method_record(kind())
            self.assertEqual(method_record(method_from(record)), record)
        stated = mw.RandomWalk(covariance=[[2.0]], acceptance=0.3)
        again = method_from(method_record(stated))
        np.testing.assert_array_equal(again.covariance, stated.covariance)
        self.assertFalse(again.learns)
        self.assertTrue(mw.RandomWalk().learns)


if __name__ == "__main__":
    unittest.main()
