"""Rows and groups predicted from fits without them, against exact predictive densities."""

import functools
import unittest
import warnings

import numpy as np
from scipy import stats

import millwright as mw
from millwright.accuracy.bridged import bridged
from millwright.accuracy.pointwise import row_blocks
from millwright.errors import ArgumentError, DataError, ModelError
from tests.fits import known_scale

STONES = np.repeat(list("abcdef"), 4)


@functools.cache
def groups():
    """Six stones of which one is far off, and in another one reading is."""
    generator = np.random.default_rng(2)
    weight = generator.normal(0, 1, 6)[np.repeat(np.arange(6), 4)] + generator.normal(0, 0.3, 24)
    weight[STONES == "c"] += 4
    weight[1] += 4
    model = mw.Model(
        priors={
            "middle": "normal(0, 3)",
            "spread": "half_normal(2)",
            "noise": "half_normal(1)",
            "effect": "normal(middle, spread) per stone",
        },
        likelihood={"weight": "normal(effect[stone], noise)"},
    )
    data = {"weight": weight, "stone": STONES}
    return model.fit(data, seed=1, progress=False), weight


def log_evidence(weight, stone):
    """Integrate the model of `groups` over a grid of both scales; all else is exact."""
    spread, noise = np.meshgrid(np.linspace(0.005, 9, 700), np.linspace(0.05, 2.5, 400))
    names = np.unique(stone)
    n = np.array([(stone == name).sum() for name in names])
    means = np.array([weight[stone == name].mean() for name in names])
    inner = sum(
        ((weight[stone == name] - weight[stone == name].mean()) ** 2).sum() for name in names
    )
    free = len(weight) - len(names)
    variance = spread[..., None] ** 2 + noise[..., None] ** 2 / n
    precision = (1 / variance).sum(-1) + 1 / 9
    middle = (means / variance).sum(-1) / precision
    log = -free * np.log(noise) - inner / 2 / noise**2 - len(weight) / 2 * np.log(2 * np.pi)
    log -= 0.5 * (np.log(variance).sum(-1) + np.log(9 * precision) + np.log(n).sum())
    log -= 0.5 * ((means**2 / variance).sum(-1) - middle**2 * precision)
    log += stats.halfnorm(0, 2).logpdf(spread) + stats.halfnorm(0, 1).logpdf(noise)
    return log.max() + np.log(np.exp(log - log.max()).sum())


class Bridge(unittest.TestCase):
    def test_the_ratio_of_two_normals(self):
        generator = np.random.default_rng(0)
        # The posterior of a mean with and without one observation of 3.
        before = generator.normal(0, 1, (4, 4000))
        after = generator.normal(1.5, np.sqrt(0.5), (4, 4000))
        log_lik = [stats.norm.logpdf(3, x) for x in (after, before)]
        value, error = bridged(*log_lik)
        self.assertLess(abs(value - stats.norm.logpdf(3, 0, np.sqrt(2))), 4 * error)
        self.assertLess(error, 0.05)

    def test_what_no_draw_allows_has_no_value(self):
        never = np.full((2, 50), -np.inf)
        self.assertTrue(np.isnan(bridged(np.zeros((2, 50)), never)).all())


class Repairs(unittest.TestCase):
    def test_an_outlier_within_a_group_is_exact(self):
        posterior, weight = groups()
        plain = posterior.leave_one_out(repair=False)
        found = posterior.leave_one_out(progress=False)
        self.assertIn(("weight", 2), plain.unreliable)
        self.assertEqual(set(found.refitted), set(plain.unreliable))
        self.assertEqual(found.unreliable, ())
        at = found.rows.index(("weight", 2))
        exact = log_evidence(weight, STONES) - log_evidence(
            np.delete(weight, 1), np.delete(STONES, 1)
        )
        self.assertLess(abs(found.elpd_by_row[at] - exact), 4 * found.refit_errors[at] + 0.02)
        self.assertGreater(plain.elpd_by_row[at] - exact, 1)
        self.assertIn("fitted again without", str(found))
        self.assertIs(posterior.leave_one_out(), found)

    def test_a_k_that_seems_good_is_not_trusted_near_the_limit(self):
        # Of this seed k is 0.65 for the last, whose value reweighting misses by a third.
        y = np.array([0.1, 0.3, -0.2, 1.1])
        model = mw.Model(
            priors={"m": "normal(0, 2)", "s": "half_normal(1)"}, likelihood={"y": "normal(m, s)"}
        )
        posterior = model.fit({"y": y}, seed=0, progress=False)
        plain = posterior.leave_one_out(repair=False)
        self.assertEqual(plain.unreliable, ())
        self.assertEqual(plain.doubtful, (("y", 3), ("y", 4)))
        self.assertIn("reliable for all 4 rows", str(plain))
        self.assertIn("Less certain for rows 3, 4 (counted from 1, of 4)", str(plain))
        found = posterior.leave_one_out(progress=False)
        self.assertEqual(found.refitted, plain.doubtful)
        self.assertEqual(found.doubtful, ())
        self.assertNotIn("Less certain", str(found))
        self.assertIn("or within its own error of that, for rows 3, 4", str(found))
        m, s = np.meshgrid(np.linspace(-9, 9, 900), np.linspace(0.01, 7, 900), indexing="ij")
        log = stats.norm.logpdf(m, 0, 2) + stats.halfnorm.logpdf(s)
        log += sum(stats.norm.logpdf(v, m, s) for v in y[:3])
        weights = np.exp(log - log.max())
        exact = np.log((weights * stats.norm.pdf(1.1, m, s)).sum() / weights.sum())
        self.assertLess(abs(found.elpd_by_row[3] - exact), 4 * found.refit_errors[3] + 0.01)
        self.assertGreater(plain.elpd_by_row[3] - exact, 0.2)

    def test_a_walk_read_once_a_step_is_exact(self):
        # Each row is nearly all that is known of its step: reweighting errs, always to one side.
        make = np.random.default_rng(4)
        steps, noise = 16, 0.5
        y = make.normal(size=steps).cumsum() + noise * make.normal(size=steps)
        model = mw.Model(
            priors={"level": "random_walk(start=0, scale=1) per step"},
            likelihood={"y": f"normal(level[step], {noise})"},
        )
        posterior = model.fit({"step": np.arange(steps), "y": y}, seed=1, progress=False)
        number = np.arange(1, steps + 1)
        covariance = np.minimum.outer(number, number) + noise**2 * np.eye(steps)
        precision = np.linalg.inv(covariance)
        # Rasmussen and Williams (2006), equations 5.10 to 5.12.
        variance = 1 / np.diag(precision)
        mean = y - precision @ y * variance
        exact = stats.norm.logpdf(y, mean, np.sqrt(variance))
        found = posterior.leave_one_out(progress=False)
        self.assertGreater(len(found.refitted), 10)
        away = np.abs(found.elpd_by_row - exact)
        self.assertTrue((away < 4 * found.refit_errors + 0.1).all(), away)
        self.assertLess(abs(found.elpd - exact.sum()), 0.4)

    def test_two_outcomes_of_one_table(self):
        generator = np.random.default_rng(4)
        data = {"a": generator.normal(0, 1, 12), "b": generator.normal(0, 1, 12)}
        data["b"][5] = 9.0
        model = mw.Model(
            priors={"m": "normal(0, 2)", "s": "half_normal(1)"},
            likelihood={"a": "normal(m, 1)", "b": "normal(m, s)"},
        )
        posterior = model.fit(data, seed=1, progress=False)
        found = posterior.leave_one_out(progress=False)
        self.assertEqual(found.refitted, (("b", 6),))
        m, s = np.meshgrid(np.linspace(-3, 3, 500), np.linspace(0.2, 9, 900), indexing="ij")
        log = stats.norm.logpdf(m, 0, 2) + stats.halfnorm.logpdf(s)
        log += sum(stats.norm.logpdf(v, m, 1) for v in data["a"])
        log += sum(stats.norm.logpdf(v, m, s) for v in np.delete(data["b"], 5))
        weights = np.exp(log - log.max())
        exact = np.log((weights * stats.norm.pdf(9.0, m, s)).sum() / weights.sum())
        at = found.rows.index(("b", 6))
        self.assertLess(abs(found.elpd_by_row[at] - exact), 4 * found.refit_errors[at] + 0.01)

    def test_without_the_only_row_a_flat_prior_is_no_posterior(self):
        model = mw.Model(priors={"a": "flat()"}, likelihood={"y": "normal(a, 1)"})
        with warnings.catch_warnings():
            # Draws run off until their squares overflow, which the verdict tells.
            warnings.simplefilter("error")
            result = model.fit({"y": [1.0]}, seed=1, progress=False).leave_one_out()
        self.assertEqual(result.unreliable, (("y", 1),))
        self.assertRegex(str(result), "Not fitted again without it: .*NOT CONVERGED")

    def test_what_is_not_fitted_again_says_why(self):
        process = mw.Model(
            priors={"size": "half_normal(1)"},
            likelihood={
                "y": "gaussian_process(0, kernel=squared_exponential(x, scale=size, length=1), "
                "noise=0.1)"
            },
        )
        x = np.linspace(0, 8, 9)
        y = np.where(x == 4, 12.0, np.sin(x))
        data = {"x": x, "y": y}
        found = process.fit(data, seed=1, progress=False).leave_one_out(progress=False)
        self.assertTrue(found.unreliable)
        self.assertIn("depend on each other", str(found))
        trial = groups()[0]
        self.assertNotIn("Not fitted again", str(trial.leave_one_out(repair=False)))


class Blocks(unittest.TestCase):
    def test_rows_in_blocks_are_the_rows(self):
        generator = np.random.default_rng(1)
        data = {"x": generator.normal(size=700), "y": generator.normal(size=700)}
        model = mw.Model(
            priors={"slope": "normal(0, 1)"}, likelihood={"y": "normal(slope * x, 1)"}
        )
        posterior = model.fit(data, seed=1, progress=False)
        blocks = list(row_blocks(posterior.draws))
        self.assertGreater(len(blocks), 2)
        slope = posterior.draws.get("slope").reshape(-1, 1)
        whole = np.concatenate([block for _, block in blocks], axis=1)
        np.testing.assert_allclose(
            whole, stats.norm.logpdf(data["y"], slope * data["x"]), rtol=1e-9
        )
        self.assertEqual(blocks[1][0][0], ("y", blocks[0][1].shape[1] + 1))


class CrossValidation(unittest.TestCase):
    def test_groups_are_exact(self):
        posterior, weight = groups()
        found = posterior.cross_validation(by="stone", progress=False)
        self.assertEqual(found.rows, tuple("abcdef"))
        whole = log_evidence(weight, STONES)
        for at, name in enumerate(found.rows):
            left = name != STONES
            exact = whole - log_evidence(weight[left], STONES[left])
            self.assertLess(
                abs(found.elpd_by_row[at] - exact), 4 * found.error_by_row[at] + 0.05, name
            )
        self.assertEqual(found.unreliable, ())
        self.assertEqual(list(found.table()["rows"]), [4] * 6)
        self.assertIn("6 groups of `stone`", str(found))

    def test_groups_that_are_whole_numbers_are_told_as_such(self):
        model = mw.Model(
            priors={"level": "normal(0, 1) per mill"}, likelihood={"y": "normal(level[mill], 1)"}
        )
        data = {"mill": [0, 0, 10, 10], "y": [0.1, 0.4, 1.2, 0.8]}
        posterior = model.fit(data, seed=1, progress=False)
        found = posterior.cross_validation(by="mill", progress=False)
        self.assertEqual(found.rows, (0, 10))

    def test_folds_are_exact(self):
        posterior, y = known_scale()
        found = posterior.cross_validation(folds=4, progress=False)
        self.assertEqual(len(found.rows), 40)
        # Every fold has ten rows; which they are is read off the mean that predicts them.
        total = 0.0
        dealt = np.random.default_rng([0, 20]).permutation(np.arange(40) % 4)
        for fold in range(4):
            rest = y[dealt != fold]
            precision = 0.25 + len(rest)
            predictive = stats.norm(rest.sum() / precision, np.sqrt(1 / precision + 1))
            total += predictive.logpdf(y[dealt == fold]).sum()
        self.assertAlmostEqual(found.elpd, total, delta=0.15)
        self.assertEqual(found.table().index.names, ["outcome", "row"])

    def test_models_are_compared_by_groups(self):
        posterior, weight = groups()
        plain = mw.Model(
            priors={"middle": "normal(0, 3)", "noise": "half_normal(3)"},
            likelihood={"weight": "normal(middle, noise)"},
        ).fit({"weight": weight, "stone": STONES}, seed=1, progress=False)
        found = mw.compare(grouped=posterior, plain=plain, by=STONES, progress=False)
        self.assertIn("unreliable groups", found.table())
        self.assertIn("leaving out each of 6 groups", str(found))
        self.assertNotIn("effective parameters", found.table())
        gap = posterior.cross_validation(by=STONES, progress=False).elpd_by_row
        gap = plain.cross_validation(by=STONES, progress=False).elpd_by_row - gap
        row = found.table().loc["plain"]
        self.assertAlmostEqual(row["elpd difference"], gap.sum())
        self.assertAlmostEqual(row["SE of difference"], np.sqrt(6) * gap.std(ddof=1))
        with self.assertRaisesRegex(ArgumentError, "call that model otherwise"):
            mw.compare(by=posterior, plain=plain)

    def test_bad_calls(self):
        posterior, _ = groups()
        calls = [
            ({"folds": 3, "by": "stone"}, ArgumentError, "either"),
            ({"folds": 1}, ArgumentError, "folds"),
            ({"folds": 25}, ArgumentError, "more than the 24 rows"),
            ({"by": "stones"}, DataError, "stone"),
            ({"by": ["a"] * 24}, ArgumentError, "two groups"),
            ({"by": ["a", "b"]}, DataError, "24 rows"),
        ]
        for arguments, error, words in calls:
            with self.assertRaisesRegex(error, words):
                posterior.cross_validation(progress=False, **arguments)
        approximate = mw.Model(
            priors={"m": "normal(0, 1)"}, likelihood={"y": "normal(m, 1)"}
        ).normal_approximation({"y": [0.1, 0.4]}, seed=1)
        with self.assertRaisesRegex(ModelError, "Fit the model"):
            approximate.cross_validation(progress=False)
