"""Middles of groups that follow the spread: an exact map, and chains that reach small ones."""

import functools
import unittest

import jax
import numpy as np
from scipy import stats
from scipy.special import logsumexp

import millwright as mw
from millwright.distributions import on_jax, on_numpy
from millwright.fitting.coordinates import prepared, uninformed
from millwright.modelling.density import log_density_terms, place_unknowns
from millwright.modelling.middles import middles
from millwright.modelling.simulate import positions_from

STONES = np.array(list("aabbbc"))
NOISE = np.array([0.9, 1.3, 0.6, 0.8, 1.1, 0.7])
LOADS = np.array([1.2, 0.4, -0.5, 0.3, 1.0, 2.1])
DATA = {"stone": STONES, "noise": NOISE, "load": LOADS}
MIDDLES = {
    "normal(0.5, 2)": stats.norm(0.5, 2),
    "cauchy(0, 1)": stats.cauchy(0, 1),
}


def model(middle="normal(0.5, 2)", location="middle", load="effect[stone]", **others):
    return mw.Model(
        priors={
            "middle": middle,
            "spread": "half_normal(1)",
            "effect": f"normal({location}, spread) per stone",
        }
        | others,
        likelihood={"load": f"normal({load}, noise)"},
    )


@functools.cache
def fitted(middle):
    return model(middle).fit(DATA, seed=3, progress=False)


def exact(middle):
    """Log weights on a grid of middles and log spreads, with the effects integrated out."""
    m = np.linspace(-25, 25, 5001)
    t = np.linspace(-9, 3, 481)
    spread = np.exp(t)
    total = MIDDLES[middle].logpdf(m)[:, None] + stats.halfnorm.logpdf(spread) + t
    for stone in "abc":
        at = stone == STONES
        noise, load = NOISE[at], LOADS[at]
        precision = (noise**-2).sum()
        mean = (load / noise**2).sum() / precision
        total = total + stats.norm.logpdf(load, mean, noise).sum()
        total = total + 0.5 * np.log(2 * np.pi / precision)
        total = total + stats.norm.logpdf(mean, m[:, None], np.hypot(spread, precision**-0.5))
    return m, spread, total + np.log((m[1] - m[0]) * (t[1] - t[0]))


class Map(unittest.TestCase):
    def test_which_middles_follow(self):
        for made, expected in (
            (model(), {"middle": "effect"}),
            (model("student_t(0, 1, df=4)"), {"middle": "effect"}),
            (model("normal(0, 2, low=-1)"), {}),
            (model("uniform(low=-3, high=3)"), {}),
            (model(location="0", load="middle + effect[stone]"), {}),
            (model(location="2 * middle"), {}),
            (model(spread="normal(middle, 1, low=0)"), {}),
            (model(more="normal(middle, 1)", load="effect[stone] + more"), {}),
            (model(load="effect[stone] + 0.5 * middle"), {}),
            (
                model(
                    slope="normal(0, 1)",
                    tilt="half_normal(1)",
                    own="normal(slope, tilt) per stone",
                    load="effect[stone] + own[stone] * noise",
                ),
                {"middle": "effect", "slope": "own"},
            ),
            # The data say nothing of it but through other effects.
            (model(own="normal(effect, 1) per stone", load="own[stone]"), {}),
        ):
            with self.subTest(str(made.describe())):
                binding = uninformed(made.bind(DATA), "informed")
                self.assertEqual(dict(middles(binding.program)), expected)
        centred = model().fit(DATA, seed=1, draws=5, warmup=5, parameterisation="centred")
        self.assertEqual(dict(middles(centred.draws.binding.program)), {})

    def test_there_and_back_with_its_derivative(self):
        binding = prepared(model().bind(DATA), "informed", 1)
        program, arguments = binding.program, binding.arguments
        self.assertTrue(np.any(arguments["information", "effect"]))
        positions = np.random.default_rng(2).normal(size=(6, binding.dimension))
        evaluation, _ = place_unknowns(on_numpy, program, arguments, positions)
        np.testing.assert_allclose(positions_from(binding, evaluation), positions, atol=1e-10)

        def values(q):
            known = place_unknowns(on_jax, program, arguments, q)[0].values
            flat = [known[name].values.ravel() for name in ("middle", "spread", "effect")]
            return on_jax.concatenate(flat)

        for q in positions:
            slope = np.linalg.slogdet(jax.jacfwd(values)(q))[1]
            middle, spread, *effects = values(q)
            prior = stats.norm.logpdf(middle, 0.5, 2) + stats.halfnorm.logpdf(spread)
            prior += stats.norm.logpdf(effects, middle, spread).sum()
            terms = log_density_terms(on_numpy, program, arguments, q)
            found = sum(float(terms[name]) for name in ("middle", "spread", "effect"))
            self.assertAlmostEqual(found, prior + slope, places=9)


class Posterior(unittest.TestCase):
    def test_two_sets_of_effects_each_with_its_middle(self):
        make = np.random.default_rng(5)
        stone, flow = np.repeat(list("abcde"), 12), make.normal(size=60)
        load = 1 + 0.5 * flow + np.repeat(make.normal(0, 0.6, 5), 12) + make.normal(size=60)
        data = {"row_group": stone, "$5": flow, "load": load}
        priors = {
            "middle": "normal(0, 3)",
            "spread": "half_normal(1)",
            "slope": "normal(0, 3)",
            "tilt": "half_normal(1)",
        }
        shape = {
            "effect": "normal({}, spread) per stone",
            "own": "normal({}, tilt) per stone",
        }
        inside = mw.Model(
            priors=priors
            | {"effect": shape["effect"].format("middle"), "own": shape["own"].format("slope")},
            likelihood={"load": "normal(effect[stone] + own[stone] * flow, 1)"},
            columns={"stone": "row_group", "flow": "$5"},
        ).fit(data, seed=1, progress=False)
        beside = mw.Model(
            priors=priors | {name: text.format(0) for name, text in shape.items()},
            likelihood={"load": "normal(middle + effect[stone] + (slope + own[stone]) * flow, 1)"},
            columns={"stone": "row_group", "flow": "$5"},
        ).fit(data, seed=1, progress=False)
        self.assertTrue(inside.verdict.good, inside.verdict)
        for name in priors:
            one, other = (fit.table().loc[name] for fit in (inside, beside))
            error = np.hypot(
                one["sd"] / np.sqrt(one["effective draws"]),
                other["sd"] / np.sqrt(other["effective draws"]),
            )
            self.assertLess(abs(one["mean"] - other["mean"]), 4.5 * error, name)
        one, other = inside.evidence(), beside.evidence()
        error = np.hypot(one.standard_error, other.standard_error)
        self.assertLess(abs(one.log_value - other.log_value), 4 * error + 0.01)

    def test_unknowns_evidence_and_the_middle_at_a_point(self):
        for name, law in MIDDLES.items():
            m, spread, logs = exact(name)
            evidence = logsumexp(logs)
            weight = np.exp(logs - evidence)
            posterior = fitted(name)
            table = posterior.table()
            with self.subTest(name):
                self.assertTrue(posterior.verdict.good, posterior.verdict)
                for quantity, grid, mass in (
                    ("middle", m, weight.sum(axis=1)),
                    ("spread", spread, weight.sum(axis=0)),
                ):
                    drawn = posterior.draws.get(quantity).ravel()
                    size = table.loc[quantity, "effective draws"]
                    for share in (0.1, 0.5, 0.9):
                        end = np.interp(share, np.cumsum(mass), grid)
                        error = np.sqrt(share * (1 - share) / size)
                        self.assertLess(abs(np.mean(drawn <= end) - share), 4 * error)
                found = posterior.evidence()
                self.assertLess(abs(found.log_value - evidence), 4 * found.standard_error + 0.003)
                at = int(np.argmin(np.abs(m - 1)))
                there = logsumexp(logs[at]) - np.log(m[1] - m[0]) - evidence
                factor = posterior.bayes_factor(f"middle == {m[at]}")
                self.assertLess(
                    abs(factor.log_value - there + law.logpdf(m[at])), 4 * factor.standard_error
                )

    def test_few_groups_hold_no_funnel(self):
        # In coordinates of their own middles diverged at ten times as many draws.
        diverged = good = 0
        for seed in range(6):
            posterior = model().fit(DATA, seed=seed, progress=False)
            diverged += int(posterior.fit.statistics["diverged"].sum())
            good += posterior.verdict.good
        self.assertEqual(good, 6)
        self.assertLess(diverged, 6)


if __name__ == "__main__":
    unittest.main()
