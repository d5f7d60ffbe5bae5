"""A grid over a few unknowns with Laplace's approximation: exact posteriors, heaps, refusals."""

import tempfile
import unittest
from pathlib import Path

import jax
import numpy as np
from scipy.special import logsumexp

import millwright as mw
from millwright.diagnostics.finding import Sampling
from millwright.diagnostics.measures import measure
from millwright.diagnostics.verdict import judge
from millwright.errors import ArgumentError, SamplingError
from millwright.fitting.in_memory import run_in_memory
from millwright.fitting.plan import FitPlan
from millwright.modelling.left_out import weighed
from millwright.sampling.grown_grid import grown
from tests.fits import assert_mean_near

MILLS = np.repeat(["Upper", "Lower", "Weir", "Ford"], 3)
GROUPS = {"mu": "normal(0, 2)", "tau": "half_normal(1)", "effect": "normal(mu, tau) per mill"}


def fit(model, data, method="laplace_grid", **more):
    return model.fit(data, method=method, seed=3, progress=False, **more)


def tilted(theta):
    """Log density of a normal with sds 1 and 2 and correlation 0.9; nothing to keep."""
    inverse = np.linalg.inv(np.array([[1.0, 1.8], [1.8, 4.0]]))
    return -0.5 * np.einsum("ni,ij,nj->n", theta, inverse, theta), np.zeros((len(theta), 0))


class OverNumbers(unittest.TestCase):
    def test_a_tilted_normal_is_covered(self):
        grid = grown(tilted, np.zeros((1, 2)), np.array([3.0, 0.1]))
        self.assertLess(grid.edge, 0.005)
        points, _ = grid.draw(np.random.default_rng(0), 4000)
        log_weights = tilted(points)[0] - grid.log_density(points)
        weights = np.exp(log_weights - log_weights.max())
        self.assertGreater(weights.sum() ** 2 / (weights**2).sum() / 4000, 0.8)
        whole = logsumexp(log_weights) - np.log(4000)
        exact = np.log(2 * np.pi) + 0.5 * np.log(4.0 - 1.8**2)
        self.assertAlmostEqual(whole, exact, delta=4 * 0.5 / np.sqrt(4000))

    def test_separate_heaps_are_kept_apart(self):
        def heaps(theta):
            far = -0.5 * (np.abs(theta[:, 0]) - 50) ** 2
            return far, np.zeros((len(theta), 0))

        grid = grown(heaps, np.array([[50.0], [-50.0]]), np.array([30.0]))
        share = np.exp(logsumexp(grid.log_shares[grid.points[:, 0] > 0]))
        self.assertAlmostEqual(share, 0.5, places=2)
        self.assertLess(len(grid.points), 80)

    def test_mass_without_an_end_is_refused(self):
        def flat(theta):
            return 0.01 * -np.log1p(theta[:, 0] ** 2), np.zeros((len(theta), 0))

        with self.assertRaisesRegex(SamplingError, "still carries mass"):
            grown(flat, np.zeros((1, 1)), np.ones(1))


class Answers(unittest.TestCase):
    def test_groups_against_quadrature(self):
        y = np.random.default_rng(2).normal(1.0, 1.2, 12)
        model = mw.Model(priors=GROUPS, likelihood={"y": "normal(effect[mill], 1)"})
        data = {"mill": MILLS, "y": y}
        made = fit(model, data, draws=2000)
        self.assertTrue(made.verdict.good)
        log_whole = self.against_quadrature(y, made.draws, power=1)
        evidence = made.evidence()
        self.assertTrue(evidence.trusted)
        self.assertAlmostEqual(
            evidence.log_value, log_whole, delta=4.5 * evidence.standard_error + 0.01
        )
        # A prior raised to a power is not what candidates of the prior are drawn from.
        raised = weighed(model.bind(data), {"tau": np.array(4.0)})
        job = FitPlan(method="laplace_grid", seed=3, draws=2000).job(raised)
        again, _ = run_in_memory(job, None, lambda event: None)
        self.against_quadrature(y, again.draws, power=4)

    def against_quadrature(self, y, draws, power):
        """Compare means with exact ones; return the exact evidence."""
        mu, tau = np.meshgrid(np.linspace(-5, 7, 400), np.linspace(1e-3, 5, 400), indexing="ij")
        means = y.reshape(4, 3).mean(axis=1)
        # The power is that of the density of the scale itself.
        log = -0.5 * (mu / 2) ** 2 - 0.5 * power * tau**2
        for mean in means:
            spread = tau**2 + 1 / 3
            log = log - 0.5 * (mean - mu) ** 2 / spread - 0.5 * np.log(spread)
        weights = np.exp(log - log.max())
        area = (12 / 399) * (5 / 399)
        within = ((y.reshape(4, 3) - means[:, None]) ** 2).sum()
        constants = -7 * np.log(2 * np.pi) - 0.5 * within
        log_whole = np.log(weights.sum() * area) + log.max() + constants - 2 * np.log(3)
        weights /= weights.sum()
        shrunk = tau**2 / (tau**2 + 1 / 3)
        first = shrunk * means[0] + (1 - shrunk) * mu
        for name, exact in (("mu", mu), ("tau", tau), ("effect[Upper]", first)):
            found = draws.single([name.split("[")[0]])[name]
            assert_mean_near(self, found, float((weights * exact).sum()))
        return log_whole

    def test_crossed_effects_against_linear_algebra(self):
        crew = np.tile(["a", "b", "c"], 4)
        y = np.random.default_rng(5).normal(1.0, 1.0, 12)
        priors = {
            "mu": "normal(0, 2)",
            "by_mill": "normal(mu, 0.8) per mill",
            "by_crew": "normal(mu, 0.5) per crew",
        }
        model = mw.Model(
            priors=priors, likelihood={"y": "normal(by_mill[mill] + by_crew[crew], 0.7)"}
        )
        made = fit(model, {"mill": MILLS, "crew": crew, "y": y}, draws=2000)
        self.assertGreater(made.record.chains[0]["efficiency"], 0.7)
        labels = list(dict.fromkeys(MILLS)), ["a", "b", "c"]
        design = np.hstack(
            [
                (of[:, None] == np.array(names))
                for of, names in zip((MILLS, crew), labels, strict=True)
            ]
        ).astype(float)
        prior = 4.0 * np.ones((7, 7)) + np.diag([0.64] * 4 + [0.25] * 3)
        gain = prior @ design.T @ np.linalg.inv(design @ prior @ design.T + 0.49 * np.eye(12))
        exact, spread = gain @ y, np.sqrt(np.diag(prior - gain @ design @ prior))
        drawn = made.draws.single(["by_mill", "by_crew"])
        for at, (part, names) in enumerate(
            [("by_mill", one) for one in labels[0]] + [("by_crew", one) for one in labels[1]]
        ):
            draws = drawn[f"{part}[{names}]"]
            assert_mean_near(self, draws, exact[at])
            assert_mean_near(self, (draws - exact[at]) ** 2, spread[at] ** 2)

    def test_both_of_two_far_modes_are_weighed(self):
        y = np.random.default_rng(1).normal(size=6)
        model = mw.Model(
            priors=GROUPS | {"mu": "normal(0, 6)"},
            likelihood={"y": "normal(effect[mill], 1)"},
            log_density_terms={"far": "-10 * ((mu ** 2 - 36) / 6) ** 2"},
        )
        made = fit(model, {"mill": MILLS, "y": np.concatenate([y, -y])})
        self.assertTrue(made.verdict.good)
        assert_mean_near(self, (made["mu"].values > 0).astype(float), 0.5)


class Prior(unittest.TestCase):
    def test_candidates_of_the_prior_have_the_density_that_is_stated(self):
        data = {"mill": MILLS, "y": np.linspace(-1, 1, 12), "part": np.tile(["u", "v", "w"], 4)}
        latent = {"tau": "half_normal(1)", "effect": "normal(0, tau) per mill"}
        for prior, seen in (
            ("dirichlet(concentration=2) per part", "own[part]"),
            ("ordered(normal(0, 2)) per part", "own[part]"),
            ("normal(0, tau, low=-1, high=2)", "own"),
        ):
            with self.subTest(prior):
                model = mw.Model(
                    priors=latent | {"own": prior},
                    likelihood={"y": f"normal(effect[mill] + {seen}, 1)"},
                )
                job = FitPlan(method="laplace_grid", seed=1).job(model.bind(data))
                self.stated(job.sampler().candidates)

    def stated(self, candidates):
        target, split = candidates.target, candidates.split
        theta = target.prior_draws(np.random.default_rng(2), 8000)[:, split.others]
        values = jax.jit(jax.vmap(lambda one: split.log_prior_drawn(one, target.arguments)))
        log_prior = values(theta)
        # The integral of the grid, whatever it is, is 1.
        ratio = np.exp(candidates.grid.log_density(theta) - np.asarray(log_prior))
        self.assertLess(abs(ratio.mean() - 1), 4.5 * ratio.std() / np.sqrt(8000))


class GoingOn(unittest.TestCase):
    def test_draws_are_those_of_a_fit_that_did_not_stop(self):
        model = mw.Model(priors=GROUPS, likelihood={"y": "poisson(log_rate=effect[mill])"})
        data = {"mill": MILLS, "y": np.arange(12)}
        method = mw.LaplaceGrid(steps=2)
        whole = fit(model, data, draws=230, method=method)
        self.assertEqual(whole.record.chains[0]["candidates_per_draw"], 2)
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "run"
            begun = fit(model, data, draws=100, method=method, save=place, workers=1)
            resumed = mw.resume(place, draws=230, progress=False)
        for other in (begun.extend(130, progress=False), resumed):
            np.testing.assert_array_equal(other["effect"].values, whole["effect"].values)


class Refused(unittest.TestCase):
    def refusal(self, priors, likelihood, error=ArgumentError, **more):
        model = mw.Model(priors=priors, likelihood={"y": likelihood})
        data = {"mill": MILLS, "y": np.arange(12), "x": np.linspace(0, 1, 12)}
        with self.assertRaises(error) as caught:
            fit(model, data, **more)
        return str(caught.exception)

    def test_models_that_it_cannot_take(self):
        seen = "normal(effect[mill], 1)"
        walk = {"s": "half_normal(1)", "effect": "random_walk(start=0, scale=s, df=4) per x"}
        cases = (
            ("neither effects of groups", {"mu": "normal(0, 1)"}, "normal(mu, 1)", {}),
            (
                "5 unknown numbers",
                GROUPS | dict.fromkeys("abc", "normal(0, 1)"),
                "normal(effect[mill] + (a + b * x) * c, 1)",
                {},
            ),
            ("`mu` is improper", GROUPS | {"mu": "flat()"}, seen, {}),
            (
                "rests on the latent values",
                GROUPS | {"own": "lognormal(sum(effect), 1)"},
                "normal(effect[mill], own)",
                {},
            ),
            ("coordinates of its own", GROUPS, seen, {"parameterisation": "centred"}),
            ("spreads its own points", GROUPS, seen, {"start": {"mu": 0.0}}),
            ("not normal given", walk, "poisson(log_rate=effect[x])", {"error": SamplingError}),
            (
                "not log-concave",
                GROUPS,
                "student_t(df=2, location=effect[mill], scale=0.1)",
                {"error": SamplingError},
            ),
        )
        for words, priors, likelihood, more in cases:
            with self.subTest(words):
                self.assertIn(words, self.refusal(priors, likelihood, **more))
        gaps = mw.Model(
            priors=GROUPS, likelihood={"x": "normal(0, 1)", "y": "normal(effect[mill] + x, 1)"}
        )
        data = {"mill": MILLS, "y": np.arange(12), "x": np.where(np.arange(12) == 3, np.nan, 1.0)}
        with self.assertRaisesRegex(ArgumentError, "missing values of `x` are unknowns"):
            fit(gaps, data)
        with self.assertRaisesRegex(ArgumentError, "steps"):
            mw.LaplaceGrid(steps=0)

    def test_uneven_weights_are_said(self):
        x = {"a": np.random.default_rng(0).standard_normal((4, 1000))}
        for k, good in ((0.3, True), (0.9, False)):
            made = Sampling(chains=4, draws=1000, candidates_k=k)
            self.assertEqual(judge(measure(x), made).good, good)
