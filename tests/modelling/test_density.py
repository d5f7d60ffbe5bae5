"""The log density: equal under NumPy and JAX, right by hand, and compiled once."""

import unittest

import jax
import numpy as np
from scipy import stats

import millwright as mw
from millwright.distributions import on_numpy
from millwright.fitting.target import target_of
from millwright.modelling.density import LogDensity, log_density_terms
from millwright.sampling.compiling import compilations

DATA = {"stone": ["a", "b", "a", "c"], "x": [1.0, 2.0, 3.0, 4.0], "y": [0.5, 1.0, 2.0, 0.1]}


def model(scale=3.0, extra=0.25):
    return mw.Model(
        priors={
            "base": f"normal(1, {scale})",
            "spread": "half_normal(2)",
            "share": "uniform(low=-1, high=2)",
            "cap": "normal(0, 1, high=3)",
            "effect": "normal(base, spread) per stone",
        },
        likelihood={"y": f"normal(effect[stone] + share * x, {extra} + exp(cap))"},
    )


class Density(unittest.TestCase):
    def test_agrees_with_scipy_term_by_term(self):
        binding = model().bind(DATA)
        u = np.array([0.3, -0.4, 0.2, 0.7, 0.1, -0.2, 0.5])
        names = [part.name for part in binding.program.unknowns]
        at = dict(zip(names, range(4), strict=False))
        base, spread = u[at["base"]], np.exp(u[at["spread"]])
        p = 1 / (1 + np.exp(-u[at["share"]]))
        share = -1 + 3 * p
        cap = 3 - np.exp(u[at["cap"]])
        effect = u[4:]
        cut = stats.truncnorm(-np.inf, 3)
        mean = effect[[0, 1, 0, 2]] + share * np.array(DATA["x"])
        want = (
            stats.norm(1, 3).logpdf(base)
            + stats.halfnorm(scale=2).logpdf(spread)
            + u[at["spread"]]
            - np.log(3)
            + np.log(3 * p * (1 - p))
            + cut.logpdf(cap)
            + u[at["cap"]]
            + stats.norm(base, spread).logpdf(effect).sum()
            + stats.norm(mean, 0.25 + np.exp(cap)).logpdf(DATA["y"]).sum()
        )
        density = LogDensity(binding.program)
        self.assertAlmostEqual(float(density(u, binding.arguments)), want, places=9)
        found = log_density_terms(on_numpy, binding.program, binding.arguments, u)
        self.assertAlmostEqual(float(sum(found.values())), want, places=9)
        many = log_density_terms(
            on_numpy, binding.program, binding.arguments, np.stack([u, 0 * u])
        )
        self.assertAlmostEqual(float(sum(v[0] for v in many.values())), want, places=9)

    def test_gradient_agrees_with_differences(self):
        binding = model().bind(DATA)
        density = LogDensity(binding.program)
        u = np.linspace(-0.5, 0.6, binding.dimension)
        gradient = jax.grad(lambda v: density(v, binding.arguments))(u)
        for i in range(len(u)):
            h = np.eye(len(u))[i] * 1e-6
            up, down = (float(density(u + s * h, binding.arguments)) for s in (1, -1))
            self.assertAlmostEqual(float(gradient[i]), (up - down) / 2e-6, places=5)

    def test_other_numbers_and_data_of_the_same_shape_compile_nothing(self):
        fit = {"draws": 20, "warmup": 30, "chains": 1, "progress": False}
        model().fit(DATA, **fit)
        before = compilations()
        model(scale=4.5, extra=0.5).fit({**DATA, "y": [3.0, 2.0, 1.0, 0.0]}, **fit)
        self.assertEqual(compilations(), before)
        model().fit({name: values[:3] + values for name, values in DATA.items()}, **fit)
        self.assertGreater(compilations(), before)

    def test_link_functions_do_not_overflow(self):
        data = {"x": [800.0, -800.0], "y": [1, 0]}
        logistic = mw.Model(
            priors={"w": "normal(0, 1)"},
            likelihood={"y": "bernoulli(probability=expit(w * x))"},
        ).bind(data)
        target = target_of(logistic)
        value = target.log_density(np.array([5.0]), target.arguments)
        self.assertAlmostEqual(float(value), stats.norm.logpdf(5.0), places=9)


if __name__ == "__main__":
    unittest.main()
