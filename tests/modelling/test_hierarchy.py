"""Group effects: the map is exact for any constants, and samples weak and strong data alike."""

import unittest

import jax
import jax.numpy as jnp
import numpy as np
from scipy import stats

import millwright as mw
from millwright.distributions import on_jax, on_numpy
from millwright.errors import ArgumentError
from millwright.fitting.coordinates import prepared
from millwright.modelling.density import place_unknowns
from millwright.modelling.hierarchy import from_standard, to_standard

WEAK = {
    "stone": list("abcdefgh"),
    "load": [28.0, 8.0, -3.0, 7.0, -1.0, 1.0, 18.0, 12.0],
    "error": [15.0, 10.0, 16.0, 11.0, 9.0, 11.0, 10.0, 18.0],
}
PRIORS = {
    "base": "normal(0, 10)",
    "spread": "half_normal(10)",
    "effect": "normal(base, spread) per stone",
}


def weak(form, **settings):
    model = mw.Model(priors=PRIORS, likelihood={"load": "normal(effect[stone], error)"})
    return model.fit(WEAK, seed=1, parameterisation=form, progress=False, **settings)


def exact_log_spread():
    """Mean and sd of log(spread), with the effects and the base integrated out."""
    y, error = np.array(WEAK["load"]), np.array(WEAK["error"])
    log_tau = np.linspace(-8, 4.5, 2500)
    tau = np.exp(log_tau)[:, None]
    variance = error**2 + tau**2
    precision = 1 / 100 + (1 / variance).sum(axis=1)
    mean = (y / variance).sum(axis=1) / precision
    log_p = (
        stats.halfnorm.logpdf(tau[:, 0], scale=10)
        + log_tau
        - 0.5 * np.log(precision)
        + 0.5 * mean**2 * precision
        - 0.5 * (np.log(variance) + y**2 / variance).sum(axis=1)
    )
    p = np.exp(log_p - log_p.max())
    p /= p.sum()
    centre = (p * log_tau).sum()
    return centre, np.sqrt((p * (log_tau - centre) ** 2).sum())


class Map(unittest.TestCase):
    def test_density_is_that_of_the_prior_times_the_derivative(self):
        generator = np.random.default_rng(0)
        for _ in range(20):
            mu, tau, information, pull, eta = generator.normal(size=5) * [2, 0, 0, 5, 2] + [
                0,
                np.exp(generator.normal()),
                generator.exponential() * generator.integers(0, 3),
                0,
                0,
            ]
            constants = (mu, tau, information, pull)
            theta, joint = from_standard(on_numpy, stats.norm.logpdf, eta, *constants)
            plain = (jnp, jnp.zeros_like)
            slope = jax.grad(lambda e, a=plain, c=constants: from_standard(*a, e, *c)[0])(eta)
            want = stats.norm(mu, tau).logpdf(theta) + np.log(slope)
            self.assertAlmostEqual(joint, want, places=9)
            self.assertAlmostEqual(to_standard(theta, *constants), eta, places=9)

    def test_all_forms_give_the_exact_posterior(self):
        want, sd = exact_log_spread()
        for form in ("informed", "non-centred"):
            posterior = weak(form, draws=2000)
            log_spread = np.log(posterior["spread"].values)
            ess = posterior.measures.bulk_size[1]
            with self.subTest(form=form):
                self.assertLess(abs(log_spread.mean() - want), 5 * sd / np.sqrt(ess))

    def test_effects_of_other_shapes_have_the_density_of_their_prior(self):
        data = {"stone": list("aabbbccccc"), "load": np.arange(10.0)}
        for prior, law in (
            ("student_t(base, spread, df=3)", lambda b, s: stats.t(3, b, s)),
            ("laplace(base, spread)", stats.laplace),
            ("logistic(base, spread)", stats.logistic),
            ("cauchy(base, spread)", stats.cauchy),
            ("gumbel(base, spread)", stats.gumbel_r),
            ("skew_normal(base, spread, shape=2)", lambda b, s: stats.skewnorm(2, b, s)),
            ("lognormal(base, spread)", lambda b, s: stats.lognorm(s, scale=np.exp(b))),
        ):
            with self.subTest(prior=prior):
                read = "log(effect[stone])" if "lognormal" in prior else "effect[stone]"
                model = mw.Model(
                    priors={**PRIORS, "effect": f"{prior} per stone"},
                    likelihood={"load": f"normal({read}, 2)"},
                )
                binding = prepared(model.bind(data), "informed", seed=1)
                self.assertEqual(dict(binding.program.forms), {"effect": "informed"})
                self.assertGreater(binding.arguments["information", "effect"].min(), 0.1)
                q = np.random.default_rng(1).normal(size=5)

                def placed(q, binding=binding):
                    found = place_unknowns(on_jax, binding.program, binding.arguments, q)
                    return [found[0].values[name].values for name in PRIORS], found[1]["effect"]

                (base, spread, effect), terms = placed(q)
                slopes = jax.jacfwd(lambda q: placed(q)[0][2])(q)[:, 2:]
                want = law(float(base), float(spread)).logpdf(effect) + np.log(np.diag(slopes))
                np.testing.assert_allclose(terms.joint.values, want, rtol=1e-9)


class Sampling(unittest.TestCase):
    def test_groups_with_heavy_tails_give_the_exact_scale(self):
        generator = np.random.default_rng(5)
        y = 0.3 * generator.standard_t(4, 40) + 0.5 * generator.normal(size=40)
        model = mw.Model(
            priors={"tau": "half_normal(1)", "effect": "student_t(0, tau, df=4) per stone"},
            likelihood={"load": "normal(effect[stone], 0.5)"},
        )
        fit = model.fit({"stone": np.arange(40), "load": y}, seed=1, draws=2000, progress=False)
        self.assertTrue(fit.verdict.good, str(fit.verdict))
        log_tau = np.linspace(-7, 2, 300)
        tau = np.exp(log_tau)[:, None, None]
        noise = np.linspace(-5, 5, 401)
        near = stats.t(4, scale=tau).pdf(y[:, None] - 0.5 * noise) * stats.norm.pdf(noise)
        log_p = np.log(near.sum(axis=2)).sum(axis=1) - 0.5 * tau[:, 0, 0] ** 2 + log_tau
        p = np.exp(log_p - log_p.max())
        p /= p.sum()
        want = (p * log_tau).sum()
        sd = np.sqrt((p * (log_tau - want) ** 2).sum())
        found = np.log(fit["tau"].values)
        error = sd / np.sqrt(fit.table().loc["tau", "effective draws"])
        self.assertLess(abs(found.mean() - want), 4 * error)

    def test_weak_groups_sample_without_divergences_by_default(self):
        posterior = weak("informed")
        self.assertTrue(posterior.verdict.good, str(posterior.verdict))
        self.assertLessEqual(posterior.fit.statistics["diverged"].sum(), 2)
        low, high = posterior.record.groups["effect"]["share_from_own_data"]
        self.assertTrue(0 < low < high < 0.7)

    def test_strong_groups_sample_without_divergences_by_default(self):
        generator = np.random.default_rng(2)
        stone = np.repeat(np.arange(60), 20)
        load = generator.normal(size=60)[stone] + generator.normal(size=1200)
        model = mw.Model(
            priors={**PRIORS, "noise": "half_normal(2)"},
            likelihood={"load": "normal(effect[stone], noise)"},
        )
        posterior = model.fit({"stone": stone, "load": load}, seed=1, progress=False)
        self.assertTrue(posterior.verdict.good, str(posterior.verdict))
        self.assertEqual(posterior.fit.statistics["diverged"].sum(), 0)
        self.assertGreater(posterior.record.groups["effect"]["share_from_own_data"][0], 0.9)
        means = np.array([load[stone == s].mean() for s in range(60)])
        found = posterior["effect"].mean(["chain", "iteration"]).values
        self.assertGreater(np.corrcoef(means, found)[0, 1], 0.999)
        self.assertLess(np.abs(found).mean(), np.abs(means).mean())

    def test_centred_form_in_the_neck_is_flagged(self):
        verdict = weak("centred", draws=500).verdict
        self.assertFalse(verdict.good)
        self.assertIn("diverged", str(verdict))


class Choice(unittest.TestCase):
    def test_bad_forms_are_refused(self):
        for form in ("central", {"base": "centred"}, {"effect": "x"}, {"efect": "centred"}):
            with (
                self.subTest(form=form),
                self.assertRaisesRegex(ArgumentError, "parameterisation"),
            ):
                weak(form)

    def test_forms_by_name_are_recorded(self):
        posterior = weak({"effect": "non-centred"}, draws=20, warmup=20)
        self.assertEqual(posterior.record.groups, {"effect": {"form": "non-centred"}})


if __name__ == "__main__":
    unittest.main()
