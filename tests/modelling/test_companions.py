"""Coefficients beside group effects: the map that follows them is exact, and the chains move."""

import functools
import unittest

import jax
import jax.numpy as jnp
import numpy as np
import pandas as pd

import millwright as mw
from millwright.distributions import on_jax, on_numpy
from millwright.fitting.coordinates import prepared
from millwright.modelling.companions import companions
from millwright.modelling.density import log_density_terms, place_unknowns
from millwright.modelling.labelled import Labelled
from millwright.modelling.simulate import positions_from
from millwright.modelling.space import places

PRIORS = {
    "base": "normal(0, 3)",
    "slope": "student_t(0, 2, df=4)",
    "bound": "normal(0, 1, low=-2)",
    "spread": "half_normal(2)",
    "spreads": "half_normal(2) per term",
    "tie": "lkj(shape=2) per term",
}
NUMBERS = {**PRIORS, "effect": "normal(0, spread) per stone", "later": "normal(0, 1)"}
VECTORS = {
    **PRIORS,
    "effect": "multivariate_normal(location=0, scales=spreads, correlation=tie) per stone, term",
}
READ = "base + slope * flow + bound"


@functools.cache
def sacks(seed=0, rows=80):
    draw = np.random.default_rng(seed)
    frame = pd.DataFrame(
        {"flow": draw.normal(size=rows), "stone": draw.choice(list("abcde"), rows)}
    )
    effect = dict(zip("abcde", draw.normal(0, 0.5, 5), strict=True))
    noise = 0.5 * draw.normal(size=rows)
    return frame.assign(load=1 + 2 * frame["flow"] + noise + frame["stone"].map(effect))


def models():
    terms = {"labels": {"term": ["one", "flow"]}}
    number = f"normal({READ} + effect[stone] + later, 0.5)"
    vector = 'effect[stone, "one"] + effect[stone, "flow"] * flow'
    yield "number", mw.Model(priors=NUMBERS, likelihood={"load": number}, **terms)
    read = f"normal({READ} + {vector}, 0.5)"
    yield "vector", mw.Model(priors=VECTORS, likelihood={"load": read}, **terms)


def of_values(binding, q):
    """All unknowns at a position, one after the other; correlations by their lower triangle."""
    known = place_unknowns(on_jax, binding.program, binding.arguments, q)[0].values
    every = [jnp.ravel(known[name].values) for name in known if name != "tie"]
    return jnp.concatenate([*every, known["tie"].values[1, :1]])


class Exact(unittest.TestCase):
    def test_companions_are_the_coefficients_that_are_placed_before(self):
        for (_, model), later in zip(models(), (("later",), ()), strict=True):
            program = prepared(model.bind(sacks()), "informed", seed=1).program
            self.assertEqual(companions(program, "effect"), ("base", "slope", "bound", *later))

    def test_many_values_are_left_out_and_the_others_stay(self):
        many = {"item": [f"i{k}" for k in range(80)], **sacks().to_dict("list")}
        model = mw.Model(
            priors={
                "base": "normal(0, 3)",
                "each": "normal(0, 1) per item",
                "spread": "half_normal(2)",
                "effect": "normal(0, spread) per stone",
            },
            likelihood={"load": "normal(base + each[item] + effect[stone], 0.5)"},
        )
        binding = prepared(model.bind(many), "informed", seed=1)
        self.assertEqual(companions(binding.program, "effect"), ("base",))
        self.assertEqual(binding.arguments["mixed", "effect"].shape, (5, 1))

    def test_the_density_is_that_of_the_other_forms(self):
        draw = np.random.default_rng(1)
        for name, model in models():
            informed, plain = (
                prepared(model.bind(sacks()), form, seed=1) for form in ("informed", "non-centred")
            )
            self.assertGreater(np.abs(informed.arguments["mixed", "effect"]).min(), 0.1)
            for _ in range(3):
                q = 0.5 * draw.normal(size=informed.dimension)
                evaluation, _ = place_unknowns(
                    on_numpy, informed.program, informed.arguments, q[None]
                )
                other = positions_from(plain, plain.evaluation(evaluation.values))[0]
                with self.subTest(name):
                    np.testing.assert_allclose(positions_from(informed, evaluation)[0], q)
                    found = []
                    for binding, at in ((informed, q), (plain, other)):
                        slopes = jax.jacfwd(functools.partial(of_values, binding))(at)
                        terms = log_density_terms(on_jax, binding.program, binding.arguments, at)
                        total = float(sum(terms.values()))
                        found.append(total - np.linalg.slogdet(np.asarray(slopes))[1])
                    self.assertAlmostEqual(*found, places=8)

    def test_effects_move_against_an_intercept_as_far_as_data_tell_them(self):
        _, model = next(models())
        binding = prepared(model.bind(sacks()), "informed", seed=1)
        q = np.zeros(binding.dimension)
        known = [
            place_unknowns(on_numpy, binding.program, binding.arguments, at)[0].values
            for at in (q, q + np.eye(len(q))[0])
        ]
        moved = known[1]["effect"].values - known[0]["effect"].values
        strength = binding.arguments["information", "effect"] * known[0]["spread"].values ** 2
        np.testing.assert_allclose(moved, -strength / (1 + strength), rtol=1e-9)
        self.assertIsInstance(known[0]["effect"], Labelled)


class Apart(unittest.TestCase):
    def test_nothing_is_left_between_coefficients_and_the_coordinates_of_effects(self):
        for name, model in models():
            binding = prepared(model.bind(sacks()), "informed", seed=1)
            q = 0.3 * np.random.default_rng(2).normal(size=binding.dimension)
            at = {place.name: slice(place.start, place.stop) for place in places(binding.program)}
            still = {**binding.arguments}
            still["mixed", "effect"] = 0 * still["mixed", "effect"]
            tied = []
            for arguments in (binding.arguments, still):

                def total(q, binding=binding, arguments=arguments):
                    return sum(log_density_terms(on_jax, binding.program, arguments, q).values())

                second = np.asarray(jax.hessian(total)(q))
                size = np.sqrt(np.abs(np.diagonal(second)))
                both = np.abs(second / np.outer(size, size))
                tied.append([both[at[one], at["effect"]].max() for one in ("base", "slope")])
            with self.subTest(name):
                self.assertLess(np.max(tied[0]), 1e-8)
                self.assertGreater(tied[1][0], 0.2)


if __name__ == "__main__":
    unittest.main()
