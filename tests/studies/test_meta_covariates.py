"""Covariates and several estimates a trial, against dense normal densities and sampled fits."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy import stats

import millwright as mw
from millwright.errors import ArgumentError, DataError

LOFTS = mw.demo.load("loft_trials").frame


def study(**settings):
    given = {"per": "mill", "correlation": 0.5, "covariates": "~ heat + grain", **settings}
    return mw.studies.meta_analysis(LOFTS, "difference", **given)


@functools.cache
def found():
    return study().fit(seed=1)


def dense(made, spread, effect, correlation):
    """The log likelihood with everything but effect and spread integrated out, by one density."""
    trials, columns = made.table.trials, made.table.design.standardised
    mills = LOFTS["mill"].to_numpy()
    same = mills[:, None] == mills
    if correlation is None:
        same, correlation = np.eye(len(mills)), 0.0
    errors = np.outer(trials.errors, trials.errors) * correlation * same
    errors[np.diag_indices(len(mills))] = trials.errors**2
    location, scale = trials.slope
    covariance = errors + spread**2 * same + scale**2 * columns @ columns.T
    mean = effect + location * columns.sum(axis=1)
    return stats.multivariate_normal(mean, covariance).logpdf(trials.estimates)


class Exact(unittest.TestCase):
    def test_likelihood_against_one_dense_density(self):
        spreads = np.array([0.0, 0.07, 0.3, 2.0])
        for correlation in (None, 0.0, 0.5, 0.95):
            given = {"correlation": correlation, "slope": "normal(0.1, 0.4)"}
            if correlation is None:
                given |= {"per": None, "label": "label"}
                rows = LOFTS.assign(label=range(len(LOFTS)))
                made = mw.studies.meta_analysis(
                    rows, "difference", **{"covariates": "~ heat + grain", **given}
                )
            else:
                made = study(**given)
            trials = made.table.trials
            for effect in (-1.0, 0.3):
                told = trials.log_likelihood(np.full(1, effect), spreads[:, None])[:, 0]
                expected = [dense(made, spread, effect, correlation) for spread in spreads]
                np.testing.assert_allclose(told, expected, atol=1e-8)

    def test_draws_against_the_sampled_visible_model(self):
        exact = found().posterior.table()
        made = found().study
        sampled = made.models["random"].fit(
            made.data_of("random"), seed=3, draws=1500, progress=False
        )
        rows = sampled.table()
        self.assertEqual(list(exact.index), list(rows.index))
        errors = np.hypot(
            exact["sd"] / np.sqrt(exact["effective draws"]),
            rows["sd"] / np.sqrt(rows["effective draws"]),
        )
        self.assertLess(np.abs((exact["mean"] - rows["mean"]) / errors).max(), 4.5)
        self.assertLess(np.abs(exact["sd"] / rows["sd"] - 1).max(), 0.15)
        evidence = sampled.evidence()
        self.assertLess(abs(evidence.log_value - found().log_evidences["random"]), 0.08)

    def test_covariates_that_leave_nothing_are_the_plain_study(self):
        rows = LOFTS.drop(columns="mill")
        narrow = mw.studies.meta_analysis(
            rows, "difference", covariates="~ heat", slope="normal(0, 1e-9)"
        )
        plain = mw.studies.meta_analysis(rows, "difference")
        self.assertNotIn("slope", plain.models["random"].describe())
        for kind, value in plain.fit(seed=1).log_evidences.items():
            self.assertAlmostEqual(narrow.exact[kind].log_evidence, value, 6)

    def test_terms_are_weighed_against_leaving_them_out(self):
        table = found().covariates()
        without = study(covariates="~ heat", slope="normal(0, 0.5)")
        logs = [
            np.logaddexp.reduce(list(one.log_evidences.values()))
            for one in (found().study, without)
        ]
        self.assertAlmostEqual(table["log BF, term"]["grain[T.wheat]"], logs[0] - logs[1], 7)
        slope = found().posterior.draws.get("slope")[..., 0] / LOFTS["heat"].std()
        self.assertAlmostEqual(table["change per 1, median"]["heat"], np.median(slope), 9)

    def test_the_effect_at_covariates(self):
        told = found().effect_at({"heat": [30, 40], "grain": "rye"})
        step = told["effect, median"].diff().iloc[1]
        self.assertAlmostEqual(step, 10 * found().covariates()["change per 1, median"]["heat"], 2)
        groups = found().subgroups()
        self.assertEqual(groups["estimates"].tolist(), [10, 10])
        self.assertAlmostEqual(
            groups["effect, median"].diff().iloc[1],
            found().covariates()["change per 1, median"]["grain[T.wheat]"],
            2,
        )
        middle = found().effect_at({"heat": LOFTS["heat"].mean(), "grain": ["rye", "wheat"]})
        self.assertAlmostEqual(
            middle["effect, median"].mean(), found().table()["median"]["effect"], 2
        )

    def test_whole_trials_are_left_out_and_added(self):
        table = found().leave_one_out()
        self.assertEqual(list(table.index[1:]), list(LOFTS["mill"].unique()))
        rest = LOFTS[LOFTS["mill"] != "Quay"]
        design = found().study.table.design
        alone = found().study.without["Quay"]["random"]
        np.testing.assert_allclose(
            alone.trials.columns, design.standardised[LOFTS["mill"] != "Quay"]
        )
        self.assertEqual(len(alone.trials), len(rest))
        self.assertEqual(len(found().path()), LOFTS["mill"].nunique())


class Told(unittest.TestCase):
    def test_answer_figures_page_and_store(self):
        told = " ".join(found().answer)
        for words in (
            "With `grain[T.wheat]` in place of `rye`",
            "10 trials",
            "For 1 more of `heat`",
            "none of it as under one with it",
        ):
            self.assertIn(words, f"{found().question} {told}")
        self.assertIn("reference rye", str(found().study))
        figure = mw.plots.study(found(), "covariates")
        np.testing.assert_allclose(
            figure.axes[0].collections[-1].get_offsets(),
            LOFTS[["heat", "difference"]].to_numpy(float),
        )
        self.assertEqual(len(mw.plots.prior_densities(study()).axes), 4)
        with tempfile.TemporaryDirectory() as folder:
            found().save(Path(folder) / "stored")
            stored = mw.studies.load(Path(folder) / "stored")
            self.assertEqual(stored.answer, found().answer)
            place = found().study.write(Path(folder) / "sheets")
            sheet = mw.Model.read(place / "random.toml")
            self.assertEqual(sheet.describe(), found().study.models["random"].describe())

    def test_few_trials_for_the_slopes_are_a_caution(self):
        made = mw.studies.meta_analysis(
            LOFTS.iloc[::2].head(6), "difference", label="mill", covariates="~ heat + grain"
        )
        self.assertIn("6 trials for 2 slopes", str(made.fit(seed=1).verdict))
        self.assertTrue(found().verdict.good)

    def test_settings_that_make_no_sense(self):
        cases = {
            "go together": {"correlation": None},
            "from 0 to below 1": {"correlation": 1},
            "finite number": {"correlation": "half"},
            "leaves the intercept out": {"covariates": "~ heat - 1"},
            "names no covariate": {"covariates": "~ 1"},
            "has a left side": {"covariates": "difference ~ heat"},
            "no column `warmth`": {"covariates": "~ warmth"},
            "beside the estimate": {"covariates": "~ standard_error"},
            "is a normal one": {"slope": "student_t(0, 1, df=3)"},
            "goes with covariates": {"covariates": None, "slope": "normal(0, 1)"},
        }
        for words, settings in cases.items():
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words):
                study(**settings)
        with self.assertRaisesRegex(ArgumentError, "rename the covariate"):
            mw.studies.meta_analysis(
                LOFTS.rename(columns={"heat": "spread"}), "difference", covariates="~ spread"
            )
        with self.assertRaisesRegex(DataError, "Say per='mill'"):
            mw.studies.meta_analysis(LOFTS, "difference", label="mill")
        with self.assertRaisesRegex(DataError, "the label maize"):
            found().effect_at({"heat": 30, "grain": "maize"})
        with self.assertRaisesRegex(ArgumentError, "one of grain"):
            found().subgroups("heat")
        plain = study(covariates=None).fit(seed=1)
        for call in (plain.covariates, plain.subgroups, lambda: plain.effect_at({"heat": 1})):
            with self.assertRaisesRegex(ArgumentError, "no covariates"):
                call()


if __name__ == "__main__":
    unittest.main()
