"""Functions of the user's own: traced ones, black boxes, and what is refused."""

import unittest

import jax.numpy as jnp
import numpy as np
from scipy import stats

import millwright as mw
from millwright.errors import ArgumentError, LanguageError, MillwrightError, ModelError
from tests.fits import assert_mean_near

HOURS = np.array([0.5, 1.0, 2.0, 4.0, 6.0])
# What is left of the moisture above the air's own after some hours.
left = mw.register("moisture_left", lambda hours, rate: jnp.exp(-rate * hours))
boxed = mw.register(
    "moisture_left_boxed", lambda hours, rate: np.exp(-np.asarray(rate) * hours), black_box=True
)


def model(function):
    return mw.Model(
        priors={"rate": "half_normal(1)"},
        likelihood={"moisture": f"normal(10 * {function}(hours, rate), 0.5)"},
    )


def data():
    noise = 0.5 * np.random.default_rng(1).standard_normal(HOURS.size)
    return {"hours": HOURS, "moisture": 10 * np.exp(-0.4 * HOURS) + noise}


def exact_mean():
    grid = np.linspace(1e-4, 2, 20_001)
    rows = stats.norm(10 * np.exp(-grid[:, None] * HOURS), 0.5).logpdf(data()["moisture"])
    weights = np.exp(rows.sum(axis=1) - 0.5 * grid**2)
    return float((grid * weights).sum() / weights.sum())


class Registered(unittest.TestCase):
    def test_text_and_function_give_the_exact_posterior(self):
        posterior = model("moisture_left").fit(data(), seed=1, progress=False)
        assert_mean_near(self, posterior.draws.get("rate"), exact_mean())
        self.assertEqual(posterior.record.settings["method"], "no-U-turn")
        written = mw.Model(
            priors={"rate": "half_normal(1)"},
            likelihood={"moisture": lambda hours, rate: mw.normal(10 * left(hours, rate), 0.5)},
        )
        self.assertEqual(written, model("moisture_left"))
        predicted = posterior.predict({"hours": [1.0, 3.0]})
        self.assertEqual(predicted.draws["moisture"].shape, (4000, 2))

    def test_registering_again_changes_later_fits_only(self):
        mw.register("changing", lambda x: x)
        changing = mw.Model(
            priors={"a": "normal(0, 1)"}, likelihood={"y": "normal(changing(a), 1)"}
        )
        settings = {"seed": 1, "draws": 200, "warmup": 200, "progress": False}
        before = changing.fit({"y": [1.0, 2.0]}, **settings)
        mw.register("changing", lambda x: -x)
        after = changing.fit({"y": [1.0, 2.0]}, **settings)
        self.assertGreater(before["a"].mean(), 0.5)
        self.assertLess(after["a"].mean(), -0.5)
        self.assertGreater(before.predict(rows=1).draws["y"].mean(), 0.5)

    def test_one_number_from_many(self):
        mw.register("largest", lambda x: jnp.max(x), gives="number")
        top = mw.Model(
            priors={"a": "normal(0, 1)"},
            likelihood={"y": "normal(a * largest(hours), 1)"},
            derived={"top": "largest(hours)"},
        )
        posterior = top.fit({"y": [1.0, 2.0], "hours": [1.0, 3.0]}, draws=50, progress=False)
        np.testing.assert_array_equal(posterior["top"], 3.0)


class BlackBox(unittest.TestCase):
    def test_random_walk_is_the_default_and_right(self):
        posterior = model("moisture_left_boxed").fit(data(), seed=2, progress=False)
        self.assertEqual(posterior.record.settings["method"], "random-walk Metropolis")
        assert_mean_near(self, posterior.draws.get("rate"), exact_mean())
        self.assertTrue(posterior.verdict.good, str(posterior))
        self.assertNotIn("Divergences", str(posterior))
        self.assertIn("0.1 to 0.6 is good", str(posterior))

    def test_gradient_methods_say_what_to_do(self):
        box = model("moisture_left_boxed")
        with self.assertRaisesRegex(ArgumentError, "random_walk"):
            box.fit(data(), method="no_u_turn", progress=False)
        with self.assertRaisesRegex(ArgumentError, "one of no_u_turn, fixed_length"):
            box.fit(data(), method="guessing", progress=False)

    def test_mode_without_a_gradient_is_that_with_one(self):
        boxed_mode = model("moisture_left_boxed").mode(data())
        traced = model("moisture_left").mode(data())
        self.assertAlmostEqual(float(boxed_mode["rate"]), float(traced["rate"]), places=4)

    def test_function_that_cannot_be_traced(self):
        mw.register("untraceable", lambda x: np.exp(np.asarray(x)))
        bad = mw.Model(priors={"a": "normal(0, 1)"}, likelihood={"y": "normal(untraceable(a), 1)"})
        with self.assertRaisesRegex(ModelError, "black_box=True"):
            bad.fit({"y": [1.0]}, progress=False)


class Refused(unittest.TestCase):
    def test_registering(self):
        for name, function, words in (
            ("exp", abs, "already"),
            ("not a name", abs, "cannot be written"),
            ("broken", 3, "not a function"),
            ("named_only", lambda *, x: x, "positional"),
        ):
            with self.subTest(name=name), self.assertRaisesRegex(ArgumentError, words):
                mw.register(name, function)
        with self.assertRaisesRegex(ArgumentError, "'same' or 'number'"):
            mw.register("shape", lambda x: x, gives="matrix")

    def test_calls(self):
        mw.register("wrong_shape", lambda x: jnp.zeros(3))
        mw.register("failing", lambda x: {}[0])
        for call, words in (
            ("wrong_shape(a)", "gives='number'"),
            ("failing(a)", "KeyError"),
            ("moisture_left(a)", "2 arguments"),
            ("unheard_of(a)", "mw.register"),
        ):
            with self.subTest(call=call), self.assertRaisesRegex(MillwrightError, words):
                mw.Model(
                    priors={"a": "normal(0, 1)"}, likelihood={"y": f"normal({call}, 1)"}
                ).bind({"y": [1.0]})
        with self.assertRaises(LanguageError):
            mw.Model(priors={"a": "normal(0, 1)"}, likelihood={"y": lambda a: left(a, "x")})


if __name__ == "__main__":
    unittest.main()
