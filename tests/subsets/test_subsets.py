"""Weights of subsets against every subset by least squares, and walks against all of them."""

import functools
import itertools
import unittest

import numpy as np
from scipy import integrate, stats

from millwright.subsets.explore import Walks, enumerated, walked
from millwright.subsets.space import Space
from millwright.subsets.state import Columns
from millwright.subsets.weights import GPrior

ROWS = 30


def silent(share):
    """Be told how far a search is."""


@functools.cache
def data(columns, rows=ROWS, seed=1):
    generator = np.random.default_rng(seed)
    x = generator.standard_normal((rows, columns)) + 0.7 * generator.standard_normal((rows, 1))
    y = x[:, 0] - 0.7 * x[:, 1] + 0.4 * x[:, 2] + generator.standard_normal(rows)
    x, y = x - x.mean(axis=0), y - y.mean()
    return x / np.sqrt(np.sum(x**2, axis=0)), y / np.sqrt(y @ y)


def lists(some):
    flat = np.array([one for each in some for one in each], dtype=np.int64)
    return flat, np.concatenate([[0], np.cumsum([len(each) for each in some])]).astype(np.int64)


def space(first, free=None, parents=(), rivals=(), by_size=None, log_odds=None):
    terms = len(first) - 1
    free = np.arange(terms) if free is None else np.array(free)
    return Space(
        np.array(first, dtype=np.int64),
        free.astype(np.int64),
        *lists([parents.get(t, ()) for t in range(terms)] if parents else [()] * terms),
        *lists([rivals.get(t, ()) for t in range(terms)] if rivals else [()] * terms),
        np.zeros(len(free) + 1) if by_size is None else by_size,
        np.zeros(terms) if log_odds is None else log_odds,
    )


def every(x, y, where, prior, most):
    """Return inclusion, mean and mean square of slopes by least squares on every subset."""
    terms = len(where.first) - 1
    logs, included, means, squares = [], [], [], []
    for inside in itertools.product([0, 1], repeat=terms):
        inside = np.array(inside)
        if any(not inside[t] for t in range(terms) if t not in where.free):
            continue
        if any(
            inside[t]
            and not all(inside[where.parents[where.parents_from[t] : where.parents_from[t + 1]]])
            for t in range(terms)
        ) or any(
            inside[t]
            and any(inside[where.rivals[where.rivals_from[t] : where.rivals_from[t + 1]]])
            for t in range(terms)
        ):
            continue
        columns = np.flatnonzero(np.repeat(inside, np.diff(where.first)))
        if len(columns) > most or np.linalg.matrix_rank(x[:, columns]) < len(columns):
            continue
        slopes = np.linalg.lstsq(x[:, columns], y, rcond=None)[0]
        explained = float(y @ x[:, columns] @ slopes)
        log, s, squared, noise = (
            (float(one) for one in prior.means(len(columns), np.asarray(explained)))
            if len(columns)
            else (0.0, 0.0, 0.0, 0.0)
        )
        size = int(inside[where.free].sum())
        logs.append(log + where.by_size[size] + where.log_odds @ inside)
        included.append(inside)
        mean, square = np.zeros(x.shape[1]), np.zeros(x.shape[1])
        mean[columns] = s * slopes
        spread = noise / (len(y) - 3) * np.diag(np.linalg.inv(x[:, columns].T @ x[:, columns]))
        square[columns] = squared * slopes**2 + spread
        means.append(mean)
        squares.append(square)
    weights = np.exp(np.array(logs) - max(logs))
    weights /= weights.sum()
    return tuple(weights @ np.array(one) for one in (included, means, squares))


def found(x, y, where, prior, walks=None, most=None, kept=500):
    most = min(x.shape[1], len(y) - 3) if most is None else most
    columns = Columns(np.ascontiguousarray(x.T @ x), x.T @ y, most)
    table = prior.table(most, 0.98)
    if walks is None:
        return enumerated(columns, where, table, kept, silent)
    return walked(columns, where, table, kept, walks, 3, silent)


G_PRIORS = (
    GPrior("n", float(ROWS), ROWS),
    GPrior("hyper-g", None, ROWS),
    GPrior("hyper-g/n", None, ROWS, per_rows=True),
)


class Weights(unittest.TestCase):
    def test_a_closed_marginal_likelihood_by_quadrature(self):
        x, y = data(3)
        one, g = x[:, 0], 20.0

        # The level is integrated out: one degree of freedom less. Rows: log of the sd.
        sd = np.exp(np.linspace(-4.5, 0.5, 801))[:, None]
        slope = np.linspace(-4, 4, 4001)
        apart = np.sum((y[:, None] - one[:, None] * slope) ** 2, axis=0)
        likelihood = sd ** -(ROWS - 1) * np.exp(-0.5 * apart / sd**2)
        joint = likelihood * stats.norm(0, np.sqrt(g) * sd).pdf(slope)
        above = integrate.simpson(integrate.simpson(joint, x=slope), x=np.log(sd[:, 0]))
        none = sd[:, 0] ** -(ROWS - 1) * np.exp(-0.5 * (y @ y) / sd[:, 0] ** 2)
        below = integrate.simpson(none, x=np.log(sd[:, 0]))
        explained = np.asarray((one @ y) ** 2)
        log = float(GPrior("20", g, ROWS).means(1, explained)[0])
        self.assertAlmostEqual(log, np.log(above / below), 7)

    def test_priors_of_g_integrate_to_one(self):
        for prior in G_PRIORS[1:]:
            # With nothing explained and n - 1 = k the likelihood does not depend on g.
            logs = prior.log_weights(ROWS - 1, np.asarray(0.0))[1]
            t, weights = prior._nodes
            del t
            self.assertAlmostEqual(np.exp(weights).sum(), 1.0, 4)
            self.assertTrue(np.isfinite(logs).all())

    def test_hyper_g_by_quadrature_over_g(self):
        for prior in G_PRIORS[1:]:
            for count, explained in ((1, 0.05), (4, 0.6), (8, 0.97)):
                scale = ROWS if prior.per_rows else 1.0

                def integrand(s, count=count, explained=explained, scale=scale):
                    # g / (scale + g) is beta(1, 1/2).
                    g = scale * s / (1 - s)
                    log = 0.5 * (ROWS - 1 - count) * np.log1p(g)
                    log -= 0.5 * (ROWS - 1) * np.log1p(g * (1 - explained))
                    return np.exp(log) * 0.5 / np.sqrt(1 - s)

                exact = integrate.quad(integrand, 0, 1, limit=400, epsabs=0, epsrel=1e-10)[0]
                value = float(prior.means(count, np.asarray(explained))[0])
                self.assertAlmostEqual(value, np.log(exact), 6)


class Every(unittest.TestCase):
    def check(self, x, y, where, prior, most=None):
        told = found(x, y, where, prior, most=most)
        most = min(x.shape[1], len(y) - 3) if most is None else most
        exact = every(x, y, where, prior, most)
        for value, wanted in zip((told.included, told.first, told.second), exact, strict=True):
            np.testing.assert_allclose(value, wanted, atol=3e-8)
        self.assertAlmostEqual(told.size.sum(), 1.0)
        return told

    def test_each_prior_of_g_and_of_subsets(self):
        x, y = data(8)
        for prior in G_PRIORS:
            self.check(x, y, space(range(9)), prior)
        sizes = -np.arange(9.0)
        self.check(x, y, space(range(9), by_size=sizes), G_PRIORS[0])
        odds = np.linspace(-1, 1, 8)
        self.check(x, y, space(range(9), log_odds=odds), G_PRIORS[1])

    def test_groups_parents_rivals_and_what_is_always_in(self):
        x, y = data(8)
        groups = space([0, 2, 3, 6, 7, 8])
        self.check(x, y, groups, G_PRIORS[0])
        self.check(x, y, space(range(9), parents={4: (0, 1), 5: (2,)}), G_PRIORS[0])
        self.check(x, y, space(range(9), rivals={0: (3,), 3: (0,)}), G_PRIORS[0])
        told = self.check(x, y, space(range(9), free=[0, 2, 4, 5, 6, 7]), G_PRIORS[0])
        np.testing.assert_allclose(told.included[[1, 3]], 1.0)

    def test_columns_that_say_the_same_and_more_than_the_rows_allow(self):
        x, y = data(7)
        twice = np.column_stack(
            [x, x[:, 0], (x[:, 1] + x[:, 2]) / np.linalg.norm(x[:, 1] + x[:, 2])]
        )
        self.check(twice, y, space(range(10)), G_PRIORS[0])
        few, short = data(9, rows=9, seed=4)
        self.check(few, short, space(range(10)), GPrior("9", 9.0, 9), most=6)

    def test_the_best_are_kept_in_order(self):
        x, y = data(8)
        whole = found(x, y, space(range(9)), G_PRIORS[0], kept=256)
        some = found(x, y, space(range(9)), G_PRIORS[0], kept=10)
        np.testing.assert_array_equal(some.kept, whole.kept[:10])
        np.testing.assert_allclose(some.shares, whole.shares[:10])
        self.assertAlmostEqual(whole.shares.sum(), 1.0)
        self.assertTrue((np.diff(whole.log) <= 0).all())


class Walked(unittest.TestCase):
    WALKS = Walks(chains=4, steps=20_000, burn_in=1000)

    def test_against_all_subsets(self):
        x, y = data(14)
        where = space(range(15), by_size=-0.5 * np.arange(15.0))
        exact = found(x, y, where, G_PRIORS[0])
        told = found(x, y, where, G_PRIORS[0], self.WALKS)
        self.assertLess(np.abs(told.included - exact.included).max(), 0.01)
        shares = told.visits.included
        means = shares.mean(axis=1)
        error = np.maximum(means.std(axis=0, ddof=1) / 2, 0.003)
        self.assertLess(np.abs((means.mean(axis=0) - exact.included) / error).max(), 5)
        self.assertAlmostEqual(told.visits.size.sum(), 1.0)
        self.assertGreater(told.visits.covered, 0.8)
        self.assertGreater(told.visits.kept, 0.8)

    def test_bound_terms_groups_and_forced_ones(self):
        x, y = data(8)
        for where in (
            space([0, 2, 3, 6, 7, 8]),
            space(range(9), parents={4: (0, 1)}),
            space(range(9), rivals={0: (3,), 3: (0,)}),
            space(range(9), free=[0, 2, 4, 5, 6, 7]),
        ):
            exact = found(x, y, where, G_PRIORS[0])
            told = found(x, y, where, G_PRIORS[0], self.WALKS)
            np.testing.assert_allclose(told.included, exact.included, atol=2e-3)
            by_visits = told.visits.included.mean(axis=(0, 1))
            self.assertLess(np.abs(by_visits - exact.included).max(), 0.05)

    def test_columns_that_say_the_same(self):
        x, y = data(7)
        twice = np.column_stack([x, x[:, 0], x[:, 1]])
        exact = found(twice, y, space(range(10)), G_PRIORS[0])
        told = found(twice, y, space(range(10)), G_PRIORS[0], self.WALKS)
        np.testing.assert_allclose(told.included, exact.included, atol=2e-3)
        np.testing.assert_allclose(told.shares[:5], exact.shares[:5], rtol=0.02)

    def test_the_same_seed_walks_the_same_way(self):
        x, y = data(14)
        one, other = (found(x, y, space(range(15)), G_PRIORS[0], self.WALKS) for _ in range(2))
        np.testing.assert_array_equal(one.visits.included, other.visits.included)
        np.testing.assert_array_equal(one.kept, other.kept)


if __name__ == "__main__":
    unittest.main()
