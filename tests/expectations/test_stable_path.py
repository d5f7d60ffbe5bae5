"""The stable path and its readings, against closed forms, each other, and dense algebra."""

import unittest

import jax
import jax.numpy as jnp
import numpy as np
from scipy import stats

from millwright.distributions.kalman import log_density
from millwright.errors import LanguageError
from millwright.expectations.readings import series_of
from millwright.expectations.solution import rest_of, solved
from millwright.expectations.stable_path import spread_at_rest, stable_path
from millwright.expectations.system import MATRICES, read_equations, read_system


def system(text, unknowns=(), shocks=("e",)):
    return read_system(read_equations(text), unknowns, shocks)


def path_of(text, values=None, shocks=("e",)):
    """Solve a system at values of its unknowns, which stand alone in it."""
    made = system(text, tuple(values or ()), shocks)
    numbers = [eval(one, {}, dict(values or {})) for one in made.asked]
    return made, solved(made.matrices(numbers))


class ClosedForms(unittest.TestCase):
    def test_a_price_that_looks_ahead_to_demand(self):
        text = "price = b * expected(price) + demand\ndemand = keep * before(demand) + e"
        made, path = path_of(text, {"b": 0.9, "keep": 0.6})
        self.assertEqual(made.variables, ("price", "demand"))
        wanted = 1 / (1 - 0.9 * 0.6)
        np.testing.assert_allclose(path.impact, [[wanted], [1.0]], rtol=1e-12)
        np.testing.assert_allclose(path.transition, [[0, 0.6 * wanted], [0, 0.6]], atol=1e-12)
        np.testing.assert_allclose(path.roots[:3], [0, 0.6, 1 / 0.9], atol=1e-12)
        self.assertEqual(path.kind, "one")
        self.assertIn("one stable path: 2 of 4 roots", path.words)

    def test_second_order_equations_take_the_smaller_root(self):
        # x = 0.3 E x(+1) + 0.5 x(-1) + e: 0.3 r^2 - r + 0.5 = 0.
        _, path = path_of("x = 0.3 * expected(x) + 0.5 * before(x) + e")
        root = (1 - np.sqrt(1 - 4 * 0.3 * 0.5)) / (2 * 0.3)
        np.testing.assert_allclose(path.transition, [[root]], rtol=1e-12)
        np.testing.assert_allclose(path.impact, [[1 / (1 - 0.3 * root)]], rtol=1e-12)

    def test_times_farther_away_are_the_same_as_by_hand(self):
        far = "x = 0.2 * expected(expected(x)) + 0.4 * before(before(before(x))) + e"
        by_hand = (
            "x = 0.2 * expected(next) + 0.4 * before(older) + e\nnext = expected(x)\n"
            "old = before(x)\nolder = before(old)"
        )
        made, path = path_of(far)
        _, other = path_of(by_hand)
        self.assertEqual(made.named, 1)
        self.assertEqual(made.variables[0], "x")
        one, two = path.impact, other.impact
        for _ in range(6):
            self.assertAlmostEqual(float(one[0, 0]), float(two[0, 0]), places=12)
            one, two = path.transition @ one, other.transition @ two

    def test_constants_say_where_variables_rest(self):
        text = "x = 0.3 * expected(x) + 0.5 * before(x) + 2 * base + e\ny = x - 1"
        made = system(text, ("base",))
        self.assertTrue(made.has_constants)
        rest = rest_of(made.matrices([eval(one, {}, {"base": 0.25}) for one in made.asked]))
        np.testing.assert_allclose(rest, [0.5 / 0.2, 0.5 / 0.2 - 1])

    def test_how_many_paths_there_are_is_said_with_the_roots(self):
        for text, kind, words in (
            ("x = 1.5 * expected(x) + e", "several", "have the moduli 0.6667, 0"),
            ("x = 1.25 * before(x) + e", "none", "have the moduli 1.25"),
            ("x = before(x) + e", "none", "on the unit circle"),
            ("x = 2 * before(x) + e\ny = 2 * expected(y) + e", "none", "split into parts"),
            ("x = y + e\n2 * x = 2 * y + 0.5 * e", "unclear", "do not determine"),
        ):
            with self.subTest(text):
                _, path = path_of(text)
                self.assertEqual(path.kind, kind)
                self.assertIn(words, path.words)


class Compiled(unittest.TestCase):
    def random_systems(self):
        random = np.random.default_rng(3)
        for n in (1, 2, 4, 6):
            for _ in range(12):
                ahead, before = random.normal(size=(2, n, n)) * random.uniform(0.1, 0.9) / n
                shocks = random.normal(size=(n, 2))
                yield {
                    "ahead": ahead,
                    "now": np.eye(n) + 0.3 * random.normal(size=(n, n)),
                    "before": before,
                    "shocks": shocks,
                    "constant": np.zeros((n, 1)),
                }

    def test_it_agrees_with_the_schur_form_and_knows_where_there_is_no_path(self):
        kinds = set()
        compiled = jax.jit(stable_path)
        for made in self.random_systems():
            path = solved(made)
            kinds.add(path.kind)
            transition, impact, valid = compiled(*(made[name] for name in MATRICES[:4]))
            self.assertEqual(bool(valid), path.kind == "one", path)
            if valid:
                np.testing.assert_allclose(transition, path.transition, atol=1e-8)
                np.testing.assert_allclose(impact, path.impact, atol=1e-8)
        self.assertLessEqual({"one", "none", "several"}, kinds)

    def test_derivatives_agree_with_differences(self):
        random = np.random.default_rng(1)
        made = next(one for one in self.random_systems() if len(one["now"]) == 4)
        self.assertEqual(solved(made).kind, "one")
        ways = random.normal(size=(3, 4, 4))
        weights = random.normal(size=(4, 4))

        def total(step):
            moved = (made[name] + step * way for name, way in zip(MATRICES, ways, strict=False))
            return (stable_path(*moved, made["shocks"])[0] * weights).sum()

        numeric = (total(1e-6) - total(-1e-6)) / 2e-6
        for exact in (jax.grad(total)(0.0), jax.jacfwd(total)(0.0)):
            np.testing.assert_allclose(exact, numeric, rtol=1e-6)


class Filter(unittest.TestCase):
    def setUp(self):
        random = np.random.default_rng(2)
        self.transition = np.array([[0.5, 0.2, 0.0], [0.1, 0.7, 0.3], [0.0, 0.0, 0.4]])
        root = random.normal(size=(3, 2))
        self.steps = root @ root.T
        self.levels, self.errors = np.array([0.5, -1.0]), np.array([0.0, 0.4])
        self.readings = random.normal(size=(9, 2))
        self.read = random.random((9, 2)) > 0.3
        self.places = (2, 0)

    def density(self, transition, steps, levels, errors):
        around = jnp.where(self.read, self.readings - levels, 0.0)
        series = series_of(self.places, transition, steps, errors, around, self.read)
        return log_density(series)

    def test_it_is_the_normal_density_of_all_readings(self):
        first = np.asarray(spread_at_rest(jnp.asarray(self.transition), jnp.asarray(self.steps)))
        np.testing.assert_allclose(
            first, self.transition @ first @ self.transition.T + self.steps, atol=1e-12
        )
        times = len(self.readings)
        whole = np.zeros((times, 2, times, 2))
        for late in range(times):
            for early in range(late + 1):
                lag = np.linalg.matrix_power(self.transition, late - early) @ first
                block = lag[np.ix_(self.places, self.places)]
                whole[late, :, early, :], whole[early, :, late, :] = block, block.T
        whole = whole.reshape(2 * times, -1) + np.diag(np.tile(self.errors**2, times))
        kept = self.read.reshape(-1)
        exact = stats.multivariate_normal(
            np.tile(self.levels, times)[kept], whole[np.ix_(kept, kept)]
        ).logpdf(self.readings.reshape(-1)[kept])
        found = self.density(self.transition, self.steps, self.levels, self.errors)
        self.assertAlmostEqual(float(found), float(exact), places=9)

    def test_its_gradient_agrees_with_differences(self):
        at = (self.transition, self.steps, self.levels, self.errors + 0.1)
        random = np.random.default_rng(5)
        ways = [random.normal(size=one.shape) for one in at]
        ways[1] = ways[1] + ways[1].T

        def total(step):
            return self.density(*(a + step * w for a, w in zip(at, ways, strict=True)))

        numeric = (total(1e-6) - total(-1e-6)) / 2e-6
        np.testing.assert_allclose(jax.grad(total)(0.0), numeric, rtol=1e-6)


class Refused(unittest.TestCase):
    def test_what_cannot_be_read(self):
        for text, words in (
            ("x = x * y + e\ny = x", "product of two"),
            ("x = exp(x) + e", "power or a function"),
            ("x = e / x", "cannot divide by a variable"),
            ("x = before(e)", "the shock `e` is known only now"),
            ("x = before(expected(x)) + e", "inside each other"),
            ("x = expected(x, 2) + e", "takes one expression"),
            ("x = 2 = e", "one equals sign"),
            ("x == e", "one equals sign"),
            ("x = e per mill", "`per` has no meaning"),
            ("x = sinus(0.5) * x + e", "no function `sinus`"),
        ):
            with self.subTest(text), self.assertRaisesRegex(LanguageError, words):
                system(text)


if __name__ == "__main__":
    unittest.main()
