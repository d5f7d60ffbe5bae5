"""Models with vectors, matrices and labels: exact answers, labels kept, mistakes refused."""

import tempfile
import unittest

import numpy as np
import pandas as pd
from scipy import stats

import millwright as mw
from millwright.errors import DataError, MillwrightError, ModelError, StartError
from millwright.fitting.target import target_of
from tests.fits import assert_mean_near

GRADES = ["poor", "fair", "good"]


def graded(rows=150, seed=1):
    """Grades of loaves against hours of proving, by cut points -1 and 1.5."""
    generator = np.random.default_rng(seed)
    hours = generator.uniform(0, 6, rows)
    latent = 0.8 * (hours - 3) + generator.logistic(size=rows)
    grade = np.array(GRADES)[np.digitize(latent, [-1.0, 1.5])]
    return pd.DataFrame({"hours": hours, "grade": grade})


CUT_POINTS = {
    "priors": {"slope": "normal(0, 1)", "cuts": "ordered(normal(0, 3)) per cut"},
    "likelihood": {"grade": "cumulative_logit(slope * (hours - 3), cuts=cuts)"},
    "labels": {"grade": GRADES, "cut": "between grade"},
}


class Exact(unittest.TestCase):
    def test_shares_of_labels_with_a_dirichlet_prior(self):
        data = pd.DataFrame({"grade": ["poor"] * 3 + ["fair"] * 10 + ["good"] * 7})
        model = mw.Model(
            priors={"share": "dirichlet(concentration=[1, 2, 3]) per grade"},
            likelihood={"grade": "categorical(probabilities=share)"},
            labels={"grade": GRADES},
        )
        posterior = model.fit(data, seed=3, progress=False)
        for grade, want in zip(GRADES, np.array([4, 12, 10]) / 26, strict=True):
            assert_mean_near(self, posterior.draws.single()[f"share[{grade}]"], want)
        mode = model.mode(data)
        self.assertAlmostEqual(mode["share[fair]"], 11 / 23, places=5)
        # The curvature of the Dirichlet density at its mode, with one share bound to the rest.
        found = mode.values["standard error"]["share[fair]"]
        self.assertAlmostEqual(found, np.sqrt(11 / 23 * 12 / 23 / 23), places=4)

    def test_multivariate_normal_with_known_covariance(self):
        generator = np.random.default_rng(4)
        covariance = np.array([[1.0, 0.7], [0.7, 2.0]])
        values = generator.multivariate_normal([1.0, -1.0], covariance, 25)
        data = pd.DataFrame(values, columns=["flour", "bran"])
        model = mw.Model(
            priors={"centre": "normal(0, 2) per Y"},
            likelihood={"Y": "multivariate_normal(centre, covariance=[[1, 0.7], [0.7, 2]])"},
            columns={"Y": ["flour", "bran"]},
        )
        posterior = model.fit(data, seed=5, progress=False)
        precision = np.eye(2) / 4 + 25 * np.linalg.inv(covariance)
        want = np.linalg.solve(precision, 25 * np.linalg.solve(covariance, values.mean(axis=0)))
        for name, mean in zip(("flour", "bran"), want, strict=True):
            assert_mean_near(self, posterior.draws.single()[f"centre[{name}]"], mean)
        rows, log_likelihood = len(data), posterior.leave_one_out()
        self.assertEqual(len(log_likelihood.rows), rows)


class Grades(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.model = mw.Model(**CUT_POINTS)
        cls.data = graded()
        cls.posterior = cls.model.fit(cls.data, seed=2, progress=False)

    def test_cut_points_are_found_and_named_by_their_neighbours(self):
        table = self.posterior.table()
        self.assertEqual(list(table.index), ["slope", "cuts[poor | fair]", "cuts[fair | good]"])
        draws = self.posterior.draws.single()
        for name, truth in (("slope", 0.8), ("cuts[poor | fair]", -1), ("cuts[fair | good]", 1.5)):
            self.assertLess(abs(draws[name].mean() - truth), 3 * draws[name].std())

    def test_predictions_are_probabilities_of_labels(self):
        predicted = self.posterior.predict(pd.DataFrame({"hours": [0.0, 6.0]}))
        table = predicted.table()
        self.assertEqual(list(table["most probable"]), ["poor", "good"])
        np.testing.assert_allclose(table[[f"P({g})" for g in GRADES]].sum(axis=1), 1.0)
        score = predicted.score({"grade": ["poor", "good"]})
        self.assertIn("Share right", str(score))
        self.assertEqual(score.frame["share of rows right"].iloc[0], 1.0)

    def test_check_counts_shares_of_labels(self):
        check = self.posterior.predictive_check(200)
        self.assertEqual(
            [name for _, name in check.table().index], [f"share of {g}" for g in GRADES]
        )
        self.assertIn("reproduces", str(check))

    def test_labels_survive_storing_and_simulating(self):
        with tempfile.TemporaryDirectory() as folder:
            self.posterior.save(folder + "/run")
            loaded = mw.load(folder + "/run")
        self.assertEqual(str(loaded), str(self.posterior))
        fake = self.model.simulate({"hours": [1.0, 2.0]}, draws=3).data(0)
        self.assertEqual(list(fake["grade"].cat.categories), GRADES)

    def test_fitted_line_says_why_not(self):
        with self.assertRaisesRegex(MillwrightError, "one number a row"):
            mw.plots.fitted_line(self.posterior, "hours")


class Correlated(unittest.TestCase):
    def test_correlation_of_two_columns(self):
        model = mw.Model(
            priors={
                "centre": "normal(0, 3) per Y",
                "spread": "half_normal(2) per Y",
                "correlation": "lkj(shape=2) per Y",
            },
            likelihood={
                "Y": "multivariate_normal(centre, scales=spread, correlation=correlation)"
            },
            derived={"together": 'correlation["flour", "bran"]'},
            columns={"Y": ["flour", "bran"]},
        )
        self.assertIn("each correlation", model.describe())
        fake = model.simulate(
            None, rows=80, draws=1, given={"correlation": [[1, 0.6], [0.6, 1]], "spread": 1}
        )
        data = fake.data(0)
        self.assertEqual(list(data.columns), ["flour", "bran"])
        posterior = model.fit(data, seed=1, progress=False)
        names = list(posterior.table().index)
        self.assertIn("correlation[flour, bran]", names)
        self.assertNotIn("correlation[flour, flour]", names)
        together = posterior["together"].values
        np.testing.assert_array_equal(together, posterior["correlation"].values[..., 0, 1])
        self.assertAlmostEqual(together.mean(), np.corrcoef(data.T)[0, 1], delta=0.1)
        with tempfile.TemporaryDirectory() as folder:
            posterior.save(folder + "/run")
            np.testing.assert_array_equal(
                mw.load(folder + "/run")["correlation"], posterior["correlation"]
            )


class Lists(unittest.TestCase):
    def test_lists_may_differ_from_row_to_row(self):
        x, grade = np.array([0.2, 0.7, 0.4]), ["fine", "coarse", "fine"]
        one, other = np.array([0.1, -1.0, 2.0]), np.array([1.0, 0.5, 0.3])
        model = mw.Model(
            priors={"a": "normal(0, 1)"},
            likelihood={
                "grade": "categorical(probabilities=[1 - x, x])",
                "Y": "multivariate_normal([a * x, x], covariance=[[1, 0.3], [0.3, 1]])",
            },
            columns={"Y": ["one", "other"]},
        )
        data = {"x": x, "grade": grade, "one": one, "other": other}
        found = target_of(model.bind(data)).plain(np.array([[0.4]]))[0]
        apart = np.column_stack([one - 0.4 * x, other - x])
        want = stats.norm.logpdf(0.4) + np.log([0.2, 0.3, 0.4]).sum()
        want += stats.multivariate_normal([0, 0], [[1, 0.3], [0.3, 1]]).logpdf(apart).sum()
        self.assertAlmostEqual(found, want, places=9)
        with self.assertRaisesRegex(ModelError, "values over one label set or the rows"):
            mw.Model(
                priors={"a": "normal(0, 1) per grade"},
                likelihood={"one": "mixture(normal([a, x], 1), weights=[1, 1])"},
            ).bind(data)


class Refused(unittest.TestCase):
    def assert_refused(self, kind, *words, data=None, **given):
        with self.assertRaises(kind) as caught:
            model = mw.Model(**given)
            model.fit(graded() if data is None else data, progress=False)
        for word in words:
            self.assertIn(word, str(caught.exception))

    def test_order_of_text_labels_is_asked_for(self):
        given = {**CUT_POINTS, "labels": {"cut": "between grade"}}
        self.assert_refused(ModelError, "order of the labels", "labels={'grade'", **given)

    def test_wrong_number_of_cuts(self):
        given = {**CUT_POINTS, "labels": {"grade": GRADES, "cut": ["one"]}}
        self.assert_refused(ModelError, "makes 2 labels", "has 3", **given)

    def test_labels_that_are_not_stated(self):
        given = {**CUT_POINTS, "labels": {"grade": ["poor", "good"], "cut": "between grade"}}
        self.assert_refused(DataError, "'fair'", **given)

    def test_vector_without_label_set(self):
        priors = {"slope": "normal(0, 1)", "cuts": "ordered(normal(0, 3))"}
        self.assert_refused(ModelError, "needs the label set", **{**CUT_POINTS, "priors": priors})

    def test_lists_where_they_do_not_belong(self):
        for prior, words in (
            ("normal([1, 2], 2)", "not a list"),
            ("normal(0, exp([1, 2]) * 2)", "a list can only"),
        ):
            self.assert_refused(
                ModelError, words, priors={"a": prior}, likelihood={"hours": "normal(a, 1)"}
            )
        self.assert_refused(
            ModelError,
            "lists 2 values",
            priors={"share": "dirichlet(concentration=[1, 2]) per grade"},
            likelihood={"grade": "categorical(probabilities=share)"},
        )

    def test_one_column_is_not_a_vector(self):
        self.assert_refused(
            ModelError,
            "one column",
            "columns={'hours'",
            priors={"a": "beta(alpha=1, beta=1)"},
            likelihood={"hours": "multinomial(trials=3, probabilities=[0.4, 0.6])"},
            derived={"b": "a + 1"},
        )

    def test_matrices(self):
        data = pd.DataFrame({"flour": [1.0, 2.0], "bran": [2.0, 1.0]})
        common = {"priors": {"a": "normal(0, 2)"}, "columns": {"Y": ["flour", "bran"]}}
        self.assert_refused(
            ModelError,
            "must be a matrix over `Y`",
            data=data,
            likelihood={"Y": "multivariate_normal(a, covariance=1)"},
            **common,
        )
        self.assert_refused(
            StartError,
            "not positive definite",
            data=data,
            likelihood={"Y": "multivariate_normal(a, covariance=[[1, 2], [2, 1]])"},
            **common,
        )
        self.assert_refused(
            ModelError,
            "given together",
            data=data,
            likelihood={"Y": "multivariate_normal(a, scales=1)"},
            **common,
        )

    def test_lists_that_belong_together_have_one_length(self):
        start = "transition={t}, loading={z}, scale=[a], noise=1, start=[0], start_scale=[1]"
        for t, z, words in (
            ("[[1, 0], [0, 1]]", "[1]", "(2), its `loading` over a list (1)"),
            ("[[1, 0]]", "[1]", "square matrix"),
        ):
            self.assert_refused(
                ModelError,
                words,
                priors={"a": "half_normal(1)"},
                likelihood={"hours": f"state_space({start.format(t=t, z=z)})"},
            )
        self.assert_refused(
            ModelError,
            "both must run over one label set",
            priors={"a": "normal(0, 1) per grade"},
            likelihood={"hours": "mixture(normal(a, 1), weights=[1, 2])"},
        )

    def test_counts_that_do_not_sum_to_trials(self):
        data = pd.DataFrame({"a": [1.0, 2.0], "b": [2.0, 2.0]})
        self.assert_refused(
            DataError,
            "sum to `trials`",
            "row 2",
            data=data,
            priors={"p": "dirichlet(concentration=1) per Y"},
            likelihood={"Y": "multinomial(trials=3, probabilities=p)"},
            columns={"Y": ["a", "b"]},
        )


if __name__ == "__main__":
    unittest.main()
