"""Values taken from the data once, columns of labels in comparisons, labels left open."""

import functools
import unittest

import numpy as np

import millwright as mw
from millwright.errors import DataError, ModelError

PRIORS = {"level": "normal(0, 100)", "slope": "normal(0, 10)", "noise": "half_normal(1)"}
QUICK = {"draws": 200, "warmup": 300, "seed": 1, "progress": False}


@functools.cache
def loft():
    rng = np.random.default_rng(4)
    hours = rng.uniform(0, 10, 40)
    breed = np.array(["dale", "vale", "wold"])[rng.integers(0, 3, 40)]
    dry = 20 + 3 * (hours - hours.mean()) + 5 * (breed == "vale") + rng.normal(0, 0.1, 40)
    return {"hours": hours, "breed": breed, "dry": dry}


def fitted(location, **more):
    model = mw.Model(
        priors=PRIORS | {"step": "normal(0, 10)"} | more.get("priors", {}),
        likelihood={"dry": location},
        derived=more.get("derived", {}),
    )
    return model.fit(loft(), **QUICK)


def expected(posterior, **rows):
    return posterior.predict(rows).expected["dry"]


class Taken(unittest.TestCase):
    def test_predictions_use_the_values_of_the_fit(self):
        hours = loft()["hours"]
        right = 20 + 3 * (np.array([20.0, -5.0]) - hours.mean())
        texts = {
            "mean": "normal(level + slope * (hours - mean(hours))"
            ' + step * (breed == "vale"), noise)',
            "standardise": "normal(level + slope * sd(hours) * standardise(hours)"
            ' + where(breed == "vale", step, 0), noise)',
            "sum and @": "normal(level + slope * (hours - (hours @ ones) / sum(ones))"
            ' - step * -(breed == "vale"), noise)',
            "function": lambda level, slope, hours, step, breed, noise: mw.normal(
                level + slope * (hours - mw.mean(hours)) + step * (breed == "vale"), noise
            ),
        }
        for name, text in texts.items():
            with self.subTest(name):
                loft()["ones"] = np.ones(40)
                found = fitted(text)
                rows = {"hours": [20.0, -5.0], "breed": ["dale", "vale"], "ones": [1.0, 1.0]}
                np.testing.assert_allclose(
                    expected(found, **rows), right + np.array([0, 5]), atol=0.5
                )
        self.assertIn(f"sum(ones) = {40}", fitted(texts["sum and @"]).describe())

    def test_values_stand_in_the_description_and_are_kept_by_every_use_of_new_rows(self):
        posterior = fitted(
            "normal(middle + slope * (hours - centre), noise)",
            priors={"middle": "normal(mean(dry), 10 * sd(dry))", "level": 0, "step": 0},
            derived={"centre": "mean(hours)"},
        )
        mean = loft()["hours"].mean()
        self.assertIn(f"mean(hours) = {mean:.6g}", posterior.describe())
        prediction = posterior.predict({"hours": [20.0, 30.0]})
        np.testing.assert_allclose(prediction.expected["dry"], [63.5, 93.5], atol=4)
        score = prediction.score({"dry": prediction.expected["dry"]})
        self.assertLess(score.frame["root-mean-square error"].max(), 0.01)

    def test_matrices_are_standardised_column_by_column(self):
        rng = np.random.default_rng(3)
        x = rng.normal([3, 50], [1, 100], (30, 2))
        y = ((x - x.mean(0)) / x.std(0, ddof=1)) @ [1.0, 2.0] + rng.normal(0, 0.1, 30)
        model = mw.Model(
            priors={"weight": "normal(0, 5) per X", "noise": "half_normal(1)"},
            likelihood={"y": "normal(standardise(X) @ weight, noise)"},
        )
        posterior = model.fit({"X": x, "y": y}, **QUICK)
        np.testing.assert_allclose(posterior.predict({"X": x[:1]}).expected["y"], y[:1], atol=0.35)

    def test_something_unknown_under_a_reduction_is_refused_for_new_rows(self):
        posterior = fitted(
            "normal(line - mean(line) + step * 0 + level * 0, noise)",
            derived={"line": "slope * hours", "typical": "mean(line)"},
        )
        self.assertTrue(np.isfinite(posterior["typical"]).all())
        with self.assertRaisesRegex(ModelError, r"`mean\(line\)` runs over the rows"):
            posterior.predict({"hours": [20.0]})

    def test_what_does_not_vary_has_no_scale(self):
        for hours in ([1.0], [2.0, 2.0]):
            with self.assertRaisesRegex(ModelError, "does not vary"):
                mw.Model(
                    priors=PRIORS,
                    likelihood={"dry": "normal(level + slope * standardise(hours), noise)"},
                ).fit({"hours": hours, "dry": hours}, **QUICK)


class Labels(unittest.TestCase):
    def test_unknown_labels_are_refused_with_those_that_exist(self):
        with self.assertRaisesRegex(ModelError, "no label 'vail'.*`vale`.*Labels: 'dale'"):
            fitted('normal(level + slope * hours + step * (breed == "vail"), noise)')
        with self.assertRaisesRegex(ModelError, "holds numbers"):
            fitted('normal(level + step * (hours == "vale") + slope, noise)')
        posterior = fitted('normal(level + slope * hours + step * (breed != "vale"), noise)')
        with self.assertRaisesRegex(DataError, "'moor'"):
            posterior.predict({"hours": [1.0], "breed": ["moor"]})

    def test_columns_whose_names_begin_with_row(self):
        data = {"rower": loft()["breed"], "row_group": loft()["breed"], "y": loft()["dry"]}
        model = mw.Model(
            priors={
                "base": "normal(0, 30)",
                "skill": "normal(base, 5) per rower",
                "share": "dirichlet(concentration=2) per row_group",
                "noise": "half_normal(9)",
            },
            likelihood={"y": "normal(skill[rower] + share[row_group], noise)"},
        )
        posterior = model.fit(data, **QUICK)
        names = list(posterior.table().index)
        self.assertIn("skill[vale]", names)
        self.assertIn("share[wold]", names)
        self.assertIn("skill[vale]", str(posterior))
        self.assertIn("skill[dale]", posterior.convergence_table().index)


class OpenBrackets(unittest.TestCase):
    def test_one_term_of_effects_with_several(self):
        breed, hours = loft()["breed"], loft()["hours"]
        texts = {
            "term": 'normal(line["start"][breed] + line["hours"][breed] * hours, noise)',
            "both": "normal(line[breed] @ both, noise)",
        }
        for term, text in texts.items():
            with self.subTest(text):
                model = mw.Model(
                    priors={"line": f"normal(0, 20) per breed, {term}", "noise": "half_normal(1)"},
                    labels={"term": ["start", "hours"]} if term == "term" else {},
                    columns={"both": ["one", "hours"]},
                    likelihood={"dry": text},
                    derived={"slopes": 'line["hours"]'},
                )
                data = {"breed": breed, "hours": hours, "one": np.ones(40), "dry": loft()["dry"]}
                posterior = model.fit(data, **QUICK)
                np.testing.assert_allclose(
                    posterior.draws.get("slopes").mean(axis=(0, 1)), 3, atol=0.1
                )
                self.assertEqual(len(posterior.contrasts("line", against="dale")), 4)
                table = posterior.contrasts("slopes")
                self.assertEqual(next(iter(table.index)), "vale - dale")

    def test_a_label_of_several_sets_must_be_said_in_full(self):
        model = mw.Model(
            priors={"m": "normal(0, 1) per a, b", "noise": "half_normal(1)"},
            labels={"a": ["x", "y"], "b": ["x", "z"]},
            likelihood={"y": 'normal(sum(m["x"]), noise)'},
        )
        with self.assertRaisesRegex(ModelError, "label of `a` and `b`"):
            model.fit({"y": [1.0, 2.0]}, **QUICK)


class Known(unittest.TestCase):
    def test_what_no_unknown_changes_is_not_judged(self):
        model = mw.Model(
            priors={"a": "normal(0, 1)"},
            derived={"middle": "mean(hours)", "twice": "2 * middle", "there": "a + middle"},
            likelihood={"y": "normal(a + hours - middle, 1)"},
        )
        posterior = model.fit({"hours": [1.0, 2.0, 3.0], "y": [0.0, 1.0, 2.0]}, **QUICK)
        self.assertNotIn("constant", str(posterior.verdict))
        self.assertEqual(posterior.table().loc["twice", "mean"], 4.0)

    def test_values_outside_are_named_in_a_matrix_of_columns(self):
        model = mw.Model(
            priors={"rate": "gamma(shape=2, rate=1) per Y"},
            likelihood={"Y": "poisson(rate=rate)"},
            columns={"Y": ["left", "right"]},
        )
        with self.assertRaisesRegex(DataError, r"the data have -2, 1\.5 in row 2"):
            model.bind({"left": [1, -2, 3], "right": [0, 1.5, 2]})


class KnownScales(unittest.TestCase):
    def test_group_priors_with_constant_column_and_unknown_scale_in_all_forms(self):
        rng = np.random.default_rng(2)
        mill = np.repeat(list("abcdef"), 8)
        width = np.repeat([0.5, 1.0, 2.0, 0.5, 1.0, 2.0], 8)
        data = {"mill": mill, "width": width, "y": rng.normal(np.repeat(rng.normal(2, 1, 6), 8))}
        means = data["y"].reshape(6, 8).mean(axis=1)
        for form in ("informed", "centred", "non-centred"):
            for scale in ("1.5", "width", "tau"):
                with self.subTest(form=form, scale=scale):
                    priors = {
                        "centre": "normal(0, 5)",
                        "tau": "half_normal(2)",
                        "effect": f"normal(centre, {scale}) per mill",
                    }
                    model = mw.Model(priors=priors, likelihood={"y": "normal(effect[mill], 1)"})
                    posterior = model.fit(data, **QUICK, parameterisation=form)
                    record = posterior.record.groups["effect"]
                    if form == "informed":
                        sizes = {"1.5": [1.5], "width": [0.5, 2.0]}.get(scale)
                        if sizes:
                            wanted = [8 * s**2 / (1 + 8 * s**2) for s in (sizes[0], sizes[-1])]
                            np.testing.assert_allclose(record["share_from_own_data"], wanted)
                    if scale == "1.5":
                        # With a flat centre the effects' means are known up to the shrinkage.
                        exact = _exact_effects(means)
                        draws = posterior.draws.get("effect")
                        error = 1.5 * draws.std(axis=(0, 1)) / np.sqrt(150)
                        self.assertTrue(
                            np.all(np.abs(draws.mean(axis=(0, 1)) - exact) < 4.5 * error)
                        )


class Refused(unittest.TestCase):
    def fit(self, likelihood, priors=None):
        model = mw.Model(
            priors={"b": "normal(0, 1)", **(priors or {})}, likelihood={"y": likelihood}
        )
        data = {"mill": ["a", "b", "a"], "hours": [1.0, 2.0, 4.0]}
        return model.fit({**data, "y": [0.0, 1.0, 2.0]}, **QUICK)

    def test_rows_have_no_labels_to_look_up(self):
        for text in ("hours[mill]", "mean(hours[mill])"):
            with self.subTest(text), self.assertRaisesRegex(ModelError, "rows have no labels"):
                self.fit(f"normal(b * {text}, 1)")

    def test_unknown_values_of_labels_can_be_standardised(self):
        found = self.fit(
            "normal(b * standardise(effect)[mill], 1)", {"effect": "normal(0, 1) per mill"}
        )
        effect = found.draws.get("effect")
        centred = effect - effect.mean(axis=-1, keepdims=True)
        scaled = centred / effect.std(axis=-1, ddof=1, keepdims=True)
        expected = (found.draws.get("b")[..., None] * scaled).mean(axis=(0, 1))
        predicted = found.predict({"mill": ["a", "b"]}).expected["y"]
        np.testing.assert_allclose(predicted, expected)


def _exact_effects(means):
    """Posterior means of effect for centre ~ normal(0, 5), scale 1.5, eight unit readings each."""
    prior = 25 * np.ones((6, 6)) + 1.5**2 * np.eye(6)
    return prior @ np.linalg.solve(prior + np.eye(6) / 8, means)


if __name__ == "__main__":
    unittest.main()
