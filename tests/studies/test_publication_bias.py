"""Publication bias against brute-force integrals and visible models, and what is refused."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy import integrate, stats

import millwright as mw
from millwright.accuracy.pointwise import row_blocks
from millwright.errors import ArgumentError
from millwright.models.exact import exact_posterior
from millwright.plots.study import study_figures
from millwright.studies.meta_bias import Regression, Selection
from millwright.studies.meta_priors import number_prior
from tests.studies.test_meta_analysis import HALF, TRIALS, S, Y, found, likelihood, study


@functools.cache
def biased():
    return found().publication_bias("negative")


class Weighed(unittest.TestCase):
    def test_a_selection_model_by_brute_force(self):
        grid, spreads = np.linspace(-2.5, 2.5, 401), np.linspace(0, 3, 241)
        nodes, weights = np.polynomial.legendre.leggauss(24)
        cut = stats.norm.isf(0.05)
        base = likelihood(grid, spreads)
        total = np.zeros_like(base)
        for node, weight in zip(0.5 * (1 + nodes), 0.5 * weights, strict=True):
            seen = np.ones_like(base)
            for y, s in zip(Y, S, strict=True):
                below = stats.norm.cdf((-cut * s - grid) / np.hypot(s, spreads)[:, None])
                chance = 1.0 if y <= -cut * s else node
                seen = seen * chance / (below + node * (1 - below))
            total += weight * base * seen
        inner = integrate.simpson(total * stats.norm.pdf(grid), x=grid)
        value = integrate.simpson(inner * HALF(spreads), x=spreads)
        name = "selection, one-sided, p 0.05"
        self.assertAlmostEqual(biased().log_evidences["random", name], np.log(value), 5)
        density = integrate.simpson(total * HALF(spreads)[:, None], x=spreads, axis=0)
        density = density * stats.norm.pdf(grid)
        mean = integrate.simpson(density * grid, x=grid) / integrate.simpson(density, x=grid)
        only = study(prior={"random": 1}).fit(seed=1)
        made = only.publication_bias("negative", one_sided=[(0.05,)], two_sided=[], slope=None)
        found_density = made.by_bias[name]
        self.assertAlmostEqual(
            integrate.trapezoid(found_density.densities * found_density.grid, found_density.grid),
            mean,
            3,
        )

    def test_visible_models_have_the_same_likelihood(self):
        at = {"effect": -0.4, "spread": 0.25}
        slope = Regression(1, "normal(0, 1)", number_prior("slope", "normal(0, 1)"))
        for bias in (
            Selection((0.05,), 1, -1),
            Selection((0.025, 0.05), 1, -1),
            Selection((0.05,), 2, -1),
            slope,
        ):
            with self.subTest(bias.words):
                effect, spread = np.array([at["effect"]]), np.array([at["spread"]])
                total, _ = bias.parts(found().study.table.trials, effect, spread)
                if bias is slope:
                    values = {"slope": bias.slopes[0][7]}
                else:
                    values = {f"step_{k}": v for k, v in enumerate(bias.steps[0][7], start=1)}
                binding = biased().models[f"random, {bias.words}"].bind(TRIALS)
                known = {name: np.array([value]) for name, value in {**at, **values}.items()}
                draws = exact_posterior(
                    binding, lambda g, n, known=known: known, method="", chains=1, draws=1
                ).draws
                rows = np.concatenate([logs[0] for _, logs in row_blocks(draws)])
                self.assertEqual(len(rows), len(Y))
                self.assertAlmostEqual(rows.sum(), total[0, 0, 7], 9)

    def test_without_bias_it_is_the_plain_study(self):
        for kind, value in found().log_evidences.items():
            self.assertAlmostEqual(biased().log_evidences[kind, "none"], value, 6)
        shares = found().shares
        self.assertAlmostEqual(sum(biased().shares.values()), 1.0)
        weights = {k: shares[k] / (shares["random"] + shares["common"]) for k in shares}
        below = sum(
            weights[kind] * found().study.exact[kind].of_effect.below(-0.3)
            for kind in ("random", "common")
        )
        self.assertAlmostEqual(biased().plain.below(-0.3), below, 5)

    def test_the_other_direction_is_the_mirror_image(self):
        turned = mw.studies.meta_analysis(TRIALS.assign(difference=-Y), "difference").fit(seed=1)
        some = {"one_sided": [(0.05,)], "two_sided": [], "slope": "normal(0, 1)"}
        one = found().publication_bias("negative", **some)
        mirror = turned.publication_bias("positive", **some)
        for key, value in one.log_evidences.items():
            self.assertAlmostEqual(mirror.log_evidences[key], value, 7)
        self.assertAlmostEqual(mirror.corrected.below(0.2), 1 - one.corrected.below(-0.2), 6)

    def test_weights_fall_and_chances_sum_to_one(self):
        selection = Selection((0.025, 0.05), 1, 1)
        share = np.exp(selection.steps[1])
        self.assertAlmostEqual(share.sum(), 1.0)
        # Of two uniform numbers the larger has mean 2/3, the smaller 1/3.
        np.testing.assert_allclose(share @ selection.weights, [1, 2 / 3, 1 / 3], atol=1e-12)
        for one in (selection, Selection((0.05, 0.5), 2, -1)):
            chances = one._chances(0.2, np.array([-3.0, 0.1]), np.array([0.0, 0.4]))
            np.testing.assert_allclose(chances.sum(axis=-1), 1.0)
            self.assertTrue((chances >= 0).all())
        flat = Selection((0.05,), 2, 1)
        np.testing.assert_allclose(
            flat._chances(0.2, np.zeros(1), np.zeros(1))[0], [0.05, 0.95], atol=1e-12
        )

    def test_trials_that_only_significant_results_left(self):
        generator = np.random.default_rng(8)
        errors = generator.uniform(0.1, 0.5, 300)
        estimates = errors * generator.standard_normal(300)
        seen = (estimates / errors > 1.645) | (generator.random(300) < 0.03)
        table = {"estimate": estimates[seen], "standard_error": errors[seen]}
        made = mw.studies.meta_analysis(table).fit(seed=1)
        bias = made.publication_bias("positive", one_sided=[(0.05,)], two_sided=[], slope=None)
        self.assertGreater(bias.inclusion()["posterior probability"]["bias"], 0.99)
        plain, corrected = (
            abs(one.quantile(np.array([0.5]))[0]) for one in (bias.plain, bias.corrected)
        )
        self.assertLess(corrected, 0.5 * plain)

    def test_told_drawn_and_refused(self):
        told = str(biased())
        for words in ("Without regard to bias", "as you said", "regression on the error"):
            self.assertIn(words, told)
        dots = [
            line for line in mw.plots.funnel(biased()).axes[0].lines if len(line.get_xdata()) == 9
        ]
        np.testing.assert_allclose(dots[0].get_xdata(), Y)
        stated = found().publication_bias(
            "negative",
            one_sided=[],
            slope=None,
            prior={"none": 3, "selection, two-sided, p 0.05": 1},
        )
        self.assertAlmostEqual(stated.inclusion()["prior probability"]["bias"], 0.25)
        one_side = study(prior={"random": 1}).fit(seed=1)
        some = {"one_sided": [], "slope": None}
        self.assertIn("not asked", str(one_side.publication_bias("negative", **some)))
        with self.assertRaisesRegex(ArgumentError, "none to correct"):
            study(prior={"null random": 1}).fit(seed=1).publication_bias("negative")
        call = found().publication_bias
        for words, given in (
            ("positive or negative", {"direction": "up"}),
            ("between 0 and 1", {"one_sided": [(0.0, 0.5)]}),
            ("p-values", {"one_sided": [0.05]}),
            ("p-values", {"one_sided": [(0.01, 0.02, 0.05, 0.1)]}),
            ("ascend", {"one_sided": [(0.05, 0.025)]}),
            ("at least one", {"one_sided": [], "two_sided": [], "slope": None}),
            ("proper distribution", {"slope": "flat()"}),
            ("names 'nil'", {"prior": {"nil": 1}}),
            ("negative", {"prior": {"none": -1}}),
            ("nothing any", {"prior": {"none": 0}}),
        ):
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words):
                call(**{"direction": "negative", **given})
        with self.assertRaisesRegex(ArgumentError, "publication_bias"):
            mw.plots.funnel(3)


DRAWN = 8_000
SHARES = np.array([0.025, 0.25, 0.5, 0.75, 0.975])


@functools.cache
def asked():
    powder = mw.demo.load("powder_trials").frame
    return mw.studies.meta_analysis(powder, "gain", label="report", bias="positive").fit(seed=2)


class Draws(unittest.TestCase):
    def test_draws_of_every_model_against_quadrature(self):
        made = found().publication_bias(
            "negative", one_sided=[(0.025, 0.05)], slope_squared="normal(0, 5)"
        )
        generator = np.random.default_rng(5)
        for (kind, bias), joint in made.joints.items():
            drawn = joint.draws(generator, DRAWN)
            with self.subTest(kind=kind, bias=bias):
                if joint.effects is None:
                    self.assertTrue((drawn.effect == 0).all())
                    continue
                ends = joint.effects.quantile(SHARES)
                below = (drawn.effect[:, None] < ends).mean(axis=0)
                errors = np.sqrt(SHARES * (1 - SHARES) / DRAWN)
                self.assertLess(np.abs((below - SHARES) / errors).max(), 4.5)

    def test_draws_of_weights_against_the_sampled_visible_model(self):
        name = "common, selection, one-sided, p 0.05"
        made = biased()
        sampled = made.models[name].fit(TRIALS, seed=4, draws=1500, progress=False)
        drawn = made.joints["common", name.split(", ", 1)[1]].draws(
            np.random.default_rng(1), DRAWN
        )
        rows = sampled.table()
        for key, values in (("effect", drawn.effect), ("step_1", drawn.own[:, 0])):
            row = rows.loc[key]
            error = row["sd"] * np.sqrt(1 / row["effective draws"] + 1 / DRAWN)
            self.assertLess(abs(values.mean() - row["mean"]), 4.5 * error, key)
            self.assertLess(abs(values.std() / row["sd"] - 1), 0.1, key)

    def test_weight_function_and_average(self):
        table = asked().bias.weight_function()
        self.assertEqual(table["one-sided p, to"].tolist(), [0.025, 0.05, 0.975, 1.0])
        self.assertEqual(table["mean"].iloc[0], 1.0)
        average = asked().bias.posterior
        self.assertLess(table["mean"].iloc[2], 0.6)
        # With one exception, two-sided selection, weights only fall with the p-value.
        self.assertEqual(average.probability("weight_1 >= weight_2").value, 1.0)
        none = asked().bias.inclusion()["posterior probability"]["effect"]
        there = 1 - average.probability("effect == 0").value
        self.assertLess(abs(there - none), 0.02)
        np.testing.assert_array_equal(
            average.draws.get("spread"), asked().bias.posterior.draws.get("spread")
        )

    def test_seen_between_steps_of_other_models(self):
        two = Selection((0.05,), 2, 1)
        np.testing.assert_allclose(two.one_sided_cuts, [0.025, 0.975])
        steps = np.array([0.025, 0.05, 0.975])
        np.testing.assert_allclose(two.seen_between(steps, np.array([[0.3]])), [[1, 0.3, 0.3, 1]])
        one = Selection((0.025, 0.05), 1, 1)
        seen = one.seen_between(steps, np.array([[0.5, 0.4]]))
        np.testing.assert_allclose(seen, [[1, 0.5, 0.2, 0.2]])


class Asked(unittest.TestCase):
    def test_as_part_of_the_study(self):
        told = " ".join(asked().answer)
        for words in ("without regard to publication bias", "under publication bias as", "hoped"):
            self.assertIn(words, told)
        self.assertNotIn("Not asked", told)
        row = asked().table().loc["effect, bias allowed for"]
        self.assertAlmostEqual(row["median"], asked().bias.corrected.median, 9)
        self.assertLess(row["median"], asked().table()["median"]["effect"])
        record = asked().record["publication_bias"]
        self.assertAlmostEqual(
            record["inclusion"]["bias"]["posterior"], asked().bias.inclusions["bias"].after
        )
        self.assertAlmostEqual(sum(one["probability"] for one in record["effects"][1:]), 1.0)
        with tempfile.TemporaryDirectory() as folder:
            asked().save(Path(folder) / "stored")
            self.assertEqual(mw.studies.load(Path(folder) / "stored").answer, asked().answer)

    def test_figures(self):
        self.assertEqual(list(study_figures(asked()))[-1], "funnel")
        figure = mw.plots.study(asked(), "funnel")
        self.assertEqual(len(figure.axes), 3)
        steps = figure.axes[2].patches[-1].get_data()
        table = asked().bias.weight_function()
        np.testing.assert_allclose(steps.values, table["median"])
        labels = [one.get_text() for one in mw.plots.study(asked()).axes[0].get_yticklabels()]
        self.assertIn("effect, publication\nbias allowed for", labels)

    def test_refused(self):
        for words, settings in (
            ("positive or negative", {"bias": "up"}),
            ("none to correct", {"bias": "positive", "prior": {"null random": 1}}),
            ("one estimate a trial", {"bias": "positive", "covariates": "~ sacks"}),
        ):
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words):
                study(**settings)
        slopes = {"one_sided": [], "two_sided": []}
        with self.assertRaisesRegex(ArgumentError, "No model of selection"):
            found().publication_bias("negative", **slopes).weight_function()


if __name__ == "__main__":
    unittest.main()
