"""The sampler on targets with known moments, its repeatability, and its warm-up."""

import threading
import unittest

import jax.numpy as jnp
import numpy as np

import millwright as mw
from millwright.diagnostics.convergence import mean_error, scale_reduction, sd_error
from millwright.errors import StartError
from millwright.sampling.chains import sample
from millwright.sampling.methods import NoUTurn
from millwright.sampling.mode import find_peak
from millwright.sampling.sampler import FitSettings
from millwright.sampling.target import TargetDensity
from millwright.sampling.warmup import plan, refined_scale


def correlated(q, arguments):
    """Normal with mean 1, 2, ... , sds of 1e-3 to 1e3, and correlations of 0.8."""
    z = (q - arguments["mean"]) / arguments["sd"]
    return -0.5 * z @ arguments["precision"] @ z


def mixture_of_tails(q, arguments):
    """Student-t with 5 degrees of freedom in each coordinate."""
    return jnp.sum(-3.0 * jnp.log1p(q**2 / 5.0))


def nowhere(q, arguments):
    return jnp.sum(q) * jnp.nan


def quadratic(q, arguments):
    return -0.5 * jnp.sum((q - 1.0) ** 2 / jnp.array([1.0, 4.0]))


def target(density, dimension, arguments=None, spread=1.0):
    def starts(generator, n):
        return spread * generator.standard_normal((n, dimension))

    return TargetDensity(
        dimension=dimension,
        log_density=density,
        arguments=arguments or {},
        starts=starts,
        explain=lambda positions: "It is nowhere.",
    )


SD = np.array([1e-3, 1e3, 1.0, 10.0])
MEAN = np.array([1.0, 2.0, 3.0, 4.0])
CORRELATION = 0.2 * np.eye(4) + 0.8


class Answers(unittest.TestCase):
    def assert_moments(self, sampled, mean, sd):
        x = sampled.positions
        self.assertLess(scale_reduction(x).max(), 1.02)
        flat = x.reshape(-1, x.shape[-1])
        self.assertTrue((np.abs(flat.mean(axis=0) - mean) < 4.5 * mean_error(x)).all())
        self.assertTrue((np.abs(flat.std(axis=0) - sd) < 4.5 * sd_error(x)).all())

    def test_correlated_normal_with_scales_far_apart(self):
        arguments = {"mean": MEAN, "sd": SD, "precision": np.linalg.inv(CORRELATION)}
        sampled = sample(target(correlated, 4, arguments), FitSettings(2000, 1000), 4, seed=1)
        self.assert_moments(sampled, MEAN, SD)

    def test_heavy_tails_and_independent_coordinates(self):
        sampled = sample(target(mixture_of_tails, 20), FitSettings(2000, 600), 4, seed=2)
        self.assert_moments(sampled, np.zeros(20), np.sqrt(5 / 3) * np.ones(20))
        # Without checks across subtrees, such targets run to the longest trajectory.
        self.assertLess(np.median(sampled.statistics[:, :, 2]), 32)

    def test_acceptance_is_near_its_target(self):
        for wanted in (0.7, 0.95):
            sampled = sample(
                target(mixture_of_tails, 5),
                FitSettings(500, 500),
                2,
                seed=3,
                method=NoUTurn(wanted),
            )
            self.assertLess(abs(sampled.statistics[:, :, 1].mean() - wanted), 0.12)


class Repeatability(unittest.TestCase):
    def test_same_draws_for_any_number_of_workers(self):
        runs = [
            sample(target(mixture_of_tails, 3), FitSettings(200, 200), 4, seed=5, workers=n)
            for n in (1, 2, 4)
        ]
        for run in runs[1:]:
            np.testing.assert_array_equal(run.positions, runs[0].positions)

    def test_chains_do_not_depend_on_how_many_there_are(self):
        few, many = (
            sample(target(mixture_of_tails, 3), FitSettings(50, 50), n, seed=5) for n in (1, 3)
        )
        np.testing.assert_array_equal(few.positions[0], many.positions[0])

    def test_another_seed_gives_other_draws(self):
        one, two = (
            sample(target(mixture_of_tails, 3), FitSettings(20, 20), 1, seed=s) for s in (1, 2)
        )
        self.assertFalse(np.any(one.positions == two.positions))


class Trouble(unittest.TestCase):
    def test_no_starting_point(self):
        with self.assertRaisesRegex(
            StartError, "100 points drawn from the prior, nor nearer to its middle. It is nowhere"
        ):
            sample(target(nowhere, 2), FitSettings(10, 10), 2, seed=0)

    def test_a_start_so_low_that_rounding_hides_every_step_is_not_taken(self):
        # Half of the draws of this prior are beyond 1e30, a third beyond 1e50.
        model = mw.Model(
            priors={
                "level": "normal(0, 10)",
                "spread": "inverse_gamma(shape=0.01, scale=0.01)",
                "mill": "normal(0, spread) per stone",
            },
            likelihood={"broke": "bernoulli(log_odds=level + mill[stone])"},
        )
        data = {"stone": ["a", "b", "c"] * 4, "broke": [0, 1] * 6}
        for seed in (0, 2):
            fit = model.fit(data, draws=200, warmup=400, seed=seed, progress=False)
            by_chain = np.asarray(fit.draws.get("spread")).mean(axis=1)
            self.assertLess(by_chain.max(), 1e3)

    def test_interruption_keeps_what_is_done(self):
        def interrupt(progress):
            if progress.stage == "sampling" and progress.share > 0.2:
                raise KeyboardInterrupt

        settings = FitSettings(300_000, 100)
        sampled = sample(target(mixture_of_tails, 3), settings, 2, seed=1, listener=interrupt)
        self.assertFalse(sampled.complete)
        self.assertLess(sampled.positions.shape[1], 300_000)
        self.assertEqual(threading.active_count(), 1)

    def test_progress_counts_up_to_the_end(self):
        seen = []
        sample(target(mixture_of_tails, 3), FitSettings(50, 50), 2, seed=1, listener=seen.append)
        self.assertEqual([seen[0].stage, seen[-1].stage], ["compiling", "finished"])
        self.assertEqual(seen[-1].share, 1.0)


class WarmUp(unittest.TestCase):
    def test_plan_adds_up_and_doubles(self):
        for warmup in (0, 5, 20, 37, 100, 150, 999, 1000, 5000):
            self.assertEqual(sum(window.length for window in plan(warmup)), warmup)
        metric = [window.length for window in plan(1000) if window.metric]
        self.assertEqual(metric[:3], [25, 50, 100])

    def refined(self, draws, before):
        mean, sd = draws.mean(axis=0), draws.std(axis=0, ddof=1)
        return refined_scale(len(draws), mean, sd, before)

    def test_scale_does_not_depend_on_units(self):
        draws = np.random.default_rng(0).standard_normal((30, 3)) * [1.0, 5.0, 0.1]
        units = np.array([1e-6, 1.0, 1e6])
        one = self.refined(draws, np.ones(3))
        two = self.refined(draws * units, units)
        np.testing.assert_allclose(two, one * units, rtol=1e-12)

    def test_coordinates_that_did_not_move_follow_the_others(self):
        draws = np.random.default_rng(0).standard_normal((30, 2))
        draws[:, 1] = 7.0
        scale = self.refined(0.1 * draws, np.array([1.0, 3.0]))
        self.assertAlmostEqual(scale[1] / scale[0], 3.0)
        np.testing.assert_array_equal(self.refined(np.ones((5, 2)), np.ones(2)), 1)


class Peak(unittest.TestCase):
    def test_finds_the_top_and_its_curvature(self):
        peak = find_peak(target(quadratic, 2), seed=0)
        np.testing.assert_allclose(peak.position, 1.0, atol=1e-8)
        np.testing.assert_allclose(peak.hessian, [[-1, 0], [0, -0.25]], atol=1e-9)
        self.assertTrue(peak.settled)
        self.assertEqual(peak.agreeing, peak.starts)


if __name__ == "__main__":
    unittest.main()
