"""Regressions against conjugate algebra and quadrature, design matrices, and what is refused."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import stats
from scipy.special import expit, logsumexp

import millwright as mw
from millwright.diagnostics.convergence import mean_error, scale_reduction
from millwright.errors import ArgumentError, DataError
from millwright.models.exact import exact_posterior
from millwright.studies import regression_study
from millwright.studies.design import design_of, read_formula

RNG = np.random.default_rng(16)
N = 60
TABLE = pd.DataFrame(
    {
        "hours": RNG.normal(5, 2, N),
        "loft": RNG.choice(["north", "south", "west"], N),
        "stone": RNG.choice(list("abcde"), N),
        "Grit (mm)": RNG.normal(size=N),
        "time": RNG.uniform(1, 3, N),
    }
)
ETA = 0.4 * (TABLE["hours"] - 5) - 0.6 * (TABLE["loft"] == "south")
TABLE["moisture"] = 15 - ETA + 0.5 * RNG.normal(size=N)
TABLE["cracked"] = (RNG.uniform(size=N) < expit(ETA)).astype(int)
TABLE["sacks"] = RNG.poisson(np.exp(0.5 * ETA) * TABLE["time"])
TABLE["grade"] = np.select([ETA > 0.4, ETA > -0.4], ["fine", "good"], "poor")


def study(formula, **settings):
    return mw.studies.regression(formula, settings.pop("data", TABLE), **settings)


def fitted(formula, draws=1500, **settings):
    warmup = min(draws, 1000)
    return study(formula, **settings).fit(seed=1, draws=draws, warmup=warmup, progress=False)


@functools.cache
def line():
    return fitted("moisture ~ hours + loft", rope=(-0.05, 0.05))


class Exact(unittest.TestCase):
    def assert_means(self, numbers, exact):
        for name, value in exact.items():
            draws = numbers[name]
            error = mean_error(draws[..., None])[0]
            self.assertLess(abs(draws.mean() - value), 4.5 * error + 1e-12, name)

    def test_normal_against_conjugate_algebra(self):
        found = fitted("moisture ~ hours + loft", priors={"noise": 0.5})
        design = found.study.parts["regression"].design
        x = np.column_stack([np.ones(N), design.standardised])
        unit = found.study.parts["regression"].unit
        middle = np.array([found.study.parts["regression"].centre, 0, 0, 0])
        precision = np.diag(
            [1 / float(f"{3 * unit:.3g}") ** 2, *[1 / float(f"{2 * unit:.3g}") ** 2] * 3]
        )
        whole = precision + x.T @ x / 0.25
        y = TABLE["moisture"].to_numpy()
        mean = np.linalg.solve(whole, precision @ middle + x.T @ y / 0.25)
        exact = dict(zip(design.names, mean[1:] / design.spread, strict=True))
        exact["intercept (predictors at means)"] = mean[0]
        self.assert_means(found.numbers, exact)

    def by_lattice(self, log_density, middles, widths, size=41):
        """Posterior means of two or three unknowns on a lattice."""
        axes = [m + w * np.linspace(-6, 6, size) for m, w in zip(middles, widths, strict=True)]
        grid = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, len(axes))
        log = np.concatenate([log_density(part) for part in np.array_split(grid, 40)])
        weights = np.exp(log - logsumexp(log))
        return weights @ grid

    def test_logistic_against_quadrature(self):
        found = fitted("cracked ~ hours", family="bernoulli")
        z = stats.zscore(TABLE["hours"].to_numpy(), ddof=1)
        y = TABLE["cracked"].to_numpy()

        def log_density(grid):
            eta = grid[:, :1] + grid[:, 1:] * z
            log = np.sum(y * eta - np.logaddexp(0, eta), axis=1)
            return log + stats.norm.logpdf(grid[:, 0], 0, 3) + stats.norm.logpdf(grid[:, 1], 0, 2)

        draws = found.posterior.draws
        numbers = {"0": draws.get("intercept"), "1": draws.get("slope")[..., 0]}
        middles, widths = zip(*((d.mean(), d.std()) for d in numbers.values()), strict=True)
        mean = self.by_lattice(log_density, middles, widths, 121)
        self.assert_means(numbers, dict(zip("01", mean, strict=True)))

    def test_counts_with_exposure_against_quadrature(self):
        found = fitted("sacks ~ hours", family="poisson", exposure="time")
        centre = found.study.parts["regression"].centre
        z = stats.zscore(TABLE["hours"].to_numpy(), ddof=1)
        y, time = TABLE["sacks"].to_numpy(), TABLE["time"].to_numpy()

        def log_density(grid):
            eta = grid[:, :1] + grid[:, 1:] * z + np.log(time)
            log = np.sum(y * eta - np.exp(eta), axis=1)
            priors = stats.norm.logpdf(grid[:, 0], centre, 3)
            return log + priors + stats.norm.logpdf(grid[:, 1], 0, 2)

        draws = found.posterior.draws
        numbers = {"0": draws.get("intercept"), "1": draws.get("slope")[..., 0]}
        middles, widths = zip(*((d.mean(), d.std()) for d in numbers.values()), strict=True)
        mean = self.by_lattice(log_density, middles, widths, 121)
        self.assert_means(numbers, dict(zip("01", mean, strict=True)))

    def test_ordered_grades_against_quadrature(self):
        rows = TABLE.iloc[:25]
        found = fitted(
            "grade ~ hours", data=rows, family="ordered", labels=["poor", "good", "fine"]
        )
        z = stats.zscore(rows["hours"].to_numpy(), ddof=1)
        y = rows["grade"].map({"poor": 0, "good": 1, "fine": 2}).to_numpy()

        def log_density(grid):
            slope, low, gap = grid.T[:, :, None]
            # A positive gap between the cuts, whose prior is that of two ordered normals.
            high = low + np.exp(gap)
            edges = [expit(low - slope * z), expit(high - slope * z)]
            shares = np.stack([edges[0], edges[1] - edges[0], 1 - edges[1]])
            chosen = np.take_along_axis(shares, np.broadcast_to(y, (1, len(grid), len(y))), 0)[0]
            log = np.log(np.maximum(chosen, 1e-300)).sum(axis=1)
            priors = stats.norm.logpdf(low, 0, 3) + stats.norm.logpdf(high, 0, 3) + gap
            return log + priors[:, 0] + stats.norm.logpdf(slope[:, 0], 0, 2)

        draws = found.posterior.draws
        cuts = draws.get("cuts")
        numbers = {
            "0": draws.get("slope")[..., 0],
            "1": cuts[..., 0],
            "2": np.log(cuts[..., 1] - cuts[..., 0]),
        }
        middles, widths = zip(*((d.mean(), d.std()) for d in numbers.values()), strict=True)
        mean = self.by_lattice(log_density, middles, widths, 61)
        self.assert_means(numbers, dict(zip("012", mean, strict=True)))

    def test_group_intercepts_against_nested_quadrature(self):
        found = fitted("cracked ~ 1", family="bernoulli", per={"stone": "1"}, draws=3000)
        nodes, weights = np.polynomial.hermite_e.hermegauss(40)
        log_weights = np.log(weights / weights.sum())
        counts = TABLE.groupby("stone")["cracked"].agg(["sum", "size"]).to_numpy()

        def log_density(grid):
            base, spread = grid[:, 0], np.exp(grid[:, 1])
            eta = base[:, None] + spread[:, None] * nodes
            total = stats.norm.logpdf(base, 0, 3) + stats.halfnorm.logpdf(spread) + grid[:, 1]
            for won, n in counts:
                inside = won * eta - n * np.logaddexp(0, eta)
                total = total + logsumexp(inside + log_weights, axis=1)
            return total

        draws = found.posterior.draws
        numbers = {"0": draws.get("intercept"), "1": np.log(draws.get("stone_spread"))}
        shared = found.numbers["intraclass correlation of stone"]
        square = draws.get("stone_spread") ** 2
        np.testing.assert_allclose(shared, square / (square + np.pi**2 / 3))
        middles, widths = zip(*((d.mean(), d.std()) for d in numbers.values()), strict=True)
        mean = self.by_lattice(log_density, middles, widths, 151)
        self.assert_means(numbers, dict(zip("01", mean, strict=True)))

    def test_priors_of_single_coefficients_are_on_the_scale_of_the_data(self):
        found = fitted(
            "moisture ~ hours + loft", priors={"hours": "normal(0.5, 0.001)"}, draws=500
        )
        self.assertAlmostEqual(float(found.numbers["hours"].mean()), 0.5, delta=0.005)
        self.assertIn("slope_1 ~ normal(location=0.5, scale=0.001)", found.study.model.describe())


class Designs(unittest.TestCase):
    def test_factors_interactions_and_polynomials(self):
        design = design_of(TABLE, read_formula("moisture ~ hours * loft"))
        south, west = (TABLE["loft"] == name for name in ("south", "west"))
        hours = TABLE["hours"]
        exact = np.column_stack([hours, south, west, hours * south, hours * west])
        np.testing.assert_allclose(design.values, exact.astype(float))
        self.assertEqual(design.levels, {"loft": ("north", "south", "west")})
        order = design_of(
            TABLE.assign(loft=pd.Categorical(TABLE["loft"], ["west", "north", "south"])),
            read_formula("moisture ~ loft"),
        )
        self.assertEqual(order.names, ("loft[T.north]", "loft[T.south]"))
        curve = design_of(TABLE, read_formula("moisture ~ poly(hours, 2) + log(time)"))
        np.testing.assert_allclose(
            curve.values[:, :2].T @ curve.values[:, :2], np.eye(2), atol=1e-9
        )
        np.testing.assert_allclose(curve.rows(TABLE.iloc[3:5]), curve.values[3:5])

    def test_formulas_that_would_run_code_are_refused(self):
        for text in (
            "moisture ~ np.exp(hours)",
            "moisture ~ __import__('os').getcwd()",
            "moisture ~ open('x')",
            "moisture ~ hours.__class__",
            "moisture ~ I([x for x in hours])",
            "moisture ~ (lambda: 1)()",
            "log(moisture) ~ hours",
            "~ hours",
            "moisture + hours ~ loft",
            7,
        ):
            with self.subTest(text), self.assertRaises(ArgumentError):
                study(text)

    def test_formulas_that_mean_something_else_say_how_it_is_written(self):
        for right, words in (
            ("hours + (1 | stone)", "`|` is for group effects.*per="),
            ("hours | stone", "group effects"),
            ("hours + .", "write their names"),
            ("hours + hours^2", r"Write I\(hours \*\* 2\)"),
            ("hours * hours", r"Write I\(hours \*\* 2\)"),
            ("`hours`**3", r"Write I\(hours \*\* 3\)"),
            ("`odd name`^2", r"Write I\(`odd name` \*\* 2\)"),
            ("log(hours)^2", r"Write I\(log\(hours\) \*\* 2\)"),
        ):
            with self.subTest(right), self.assertRaisesRegex(ArgumentError, words):
                study(f"moisture ~ {right}")
        with self.assertRaises(ArgumentError) as raised:
            study("moisture ~ hours +")
        self.assertTrue(str(raised.exception).endswith("misplaced."))

    def test_data_and_settings_that_must_be_refused(self):
        gappy = TABLE.assign(hours=TABLE["hours"].where(TABLE.index != 4))
        for words, error, call in (
            ("Did you mean `hours`", ArgumentError, lambda: study("moisture ~ hour")),
            (
                "one label",
                DataError,
                lambda: study("moisture ~ loft", data=TABLE.assign(loft="a")),
            ),
            (
                "same in all rows",
                DataError,
                lambda: study("moisture ~ c", data=TABLE.assign(c=1.0)),
            ),
            ("Families poisson", DataError, lambda: study("sacks ~ hours", family="beta")),
            ("Families gamma", DataError, lambda: study("time ~ loft", family="bernoulli")),
            (
                "order of the labels",
                ArgumentError,
                lambda: study("grade ~ hours", family="ordered"),
            ),
            (
                "Did you mean `poisson`",
                ArgumentError,
                lambda: study("sacks ~ hours", family="poison"),
            ),
            ("`link` of poisson", ArgumentError, lambda: counts(link="logit")),
            (
                "is flat",
                ArgumentError,
                lambda: study("moisture ~ hours", priors={"slope": "flat()"}),
            ),
            (
                "does not have",
                ArgumentError,
                lambda: study("moisture ~ hours", priors={"slop": "x"}),
            ),
            (
                "not a term",
                ArgumentError,
                lambda: study("moisture ~ hours", per={"stone": "time"}),
            ),
            ("missing in 1 of 60", DataError, lambda: study("moisture ~ hours", data=gappy)),
            (
                "`trials` goes with|trials",
                ArgumentError,
                lambda: study("sacks ~ 1", family="binomial"),
            ),
            ("one outcome", ArgumentError, lambda: study(["moisture ~ hours", "time ~ hours"])),
            ("that differ", ArgumentError, lambda: study(["moisture ~ hours"] * 2)),
            ("divide the variance", ArgumentError, lambda: counts(weights="time")),
            ("`zeros` is for", ArgumentError, lambda: study("moisture ~ hours", zeros="hurdle")),
            ("`zeros` is 'inflated'", ArgumentError, lambda: counts(zeros="many")),
            (
                "nothing to explain",
                DataError,
                lambda: study("m ~ hours", data=TABLE.assign(m=3.0)),
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(error, words):
                call()
        dropped = study("moisture ~ hours", data=gappy, missing="drop")
        self.assertIn("1 of 60 rows left out", dropped.remarks[0])

    def test_the_middle_of_a_prior_keeps_its_digits(self):
        far = TABLE.assign(moisture=TABLE["moisture"] + 123_456.0)
        text = study("moisture ~ hours", data=far).model.describe()
        self.assertIn("intercept ~ normal(location=123471.009, scale=2.72)", text)

    def test_usual_priors_are_pinned(self):
        text = study("moisture ~ hours", per={"stone": "1 + hours"}).model.describe()
        for prior in (
            "intercept ~ normal(location=15.009, scale=2.72)",
            "slope ~ normal(location=0, scale=1.81) per predictor",
            "noise ~ half_normal(scale=2.72)",
            "stone_spread ~ half_normal(scale=0.907) per stone_term",
            "stone_tie ~ lkj(shape=2) per stone_term",
        ):
            self.assertIn(prior, text)
        text = study("cracked ~ hours", family="bernoulli").model.describe()
        self.assertIn("intercept ~ normal(location=0, scale=3)", text)
        self.assertIn("slope ~ normal(location=0, scale=2) per predictor", text)


def counts(**settings):
    return study("sacks ~ hours", family="poisson", **settings)


class Cautions(unittest.TestCase):
    def test_separation_names_the_column_and_still_answers(self):
        data = {"x": np.arange(10.0), "z": np.tile([0.0, 1.0], 5), "y": [0] * 5 + [1] * 5}
        found = study("y ~ x + z", data=data, family="bernoulli").fit(
            seed=1, draws=500, progress=False
        )
        problems = [one.problem for one in found.verdict.findings]
        self.assertTrue(any("Separation: `x`" in one for one in problems), problems)
        self.assertGreater(float(found.numbers["x"].mean()), 0)
        mixed = study("cracked ~ hours", family="bernoulli")
        self.assertFalse(mixed.cautions)

    def test_aliased_columns_and_more_columns_than_rows(self):
        data = TABLE.assign(twice=2 * TABLE["hours"] + 1)
        aliased = study("moisture ~ hours + loft + twice", data=data).cautions
        self.assertIn("Aliased: `twice`", aliased[0].problem)
        wide = pd.DataFrame(RNG.normal(size=(6, 8)), columns=[f"x{k}" for k in range(8)])
        many = study(f"x0 ~ {' + '.join(f'x{k}' for k in range(1, 8))}", data=wide).cautions
        self.assertIn("7 coefficients and 6 rows", many[0].problem)


class Reading(unittest.TestCase):
    def test_effects_contrasts_and_predictions_are_those_of_the_draws(self):
        found = line()
        draws = found.posterior.draws
        hours = found.numbers["hours"]
        contrast = found.contrast({"hours": 6.0}, {"hours": 2.0})
        self.assertAlmostEqual(
            contrast.loc["difference", "mean"], 4 * float(hours.mean()), places=2
        )
        # Every second draw of each chain, which the check of convergence must tell apart.
        kept = 4 * hours[:, ::2]
        self.assertAlmostEqual(contrast.loc["difference", "mean"], kept.mean(), places=9)
        reduction = scale_reduction(kept[..., None])[0]
        self.assertAlmostEqual(contrast.loc["difference", "R-hat"], reduction)
        effect = found.effect("loft", at={"hours": float(TABLE["hours"].mean())})
        gap = effect["median"]["south"] - effect["median"]["north"]
        self.assertAlmostEqual(gap, float(np.median(found.numbers["loft[T.south]"])), places=1)
        new = TABLE.iloc[:3]
        predicted = found.predict(new)
        rows = found.study.parts["regression"].design.rows(new)
        made = found.study.parts["regression"].design
        slope = draws.get("slope").reshape(-1, 3)
        exact = (
            draws.get("intercept").reshape(-1)[:, None]
            + slope @ ((rows - made.middle) / made.spread).T
        )
        self.assertTrue(
            np.allclose(predicted.draws["moisture"].mean(axis=0), exact.mean(axis=0), atol=0.06)
        )
        with self.assertRaisesRegex(DataError, "has not seen"):
            found.predict(new.assign(loft="east"))
        with self.assertRaisesRegex(ArgumentError, "does not use `time`"):
            found.effect("time")

    def test_both_scales_region_and_explained_share(self):
        found = line()
        both = [found.coefficients(scale) for scale in ("data", "standardised")]
        spread = found.study.parts["regression"].design.spread
        ratio = both[1]["mean"] / both[0]["mean"]
        np.testing.assert_allclose(ratio, spread)
        self.assertIn("share in region (standardised)", both[0].columns)
        share = found.explained()
        fit = np.polyval(np.polyfit(TABLE["hours"], TABLE["moisture"], 1), TABLE["hours"])
        self.assertGreater(share.mean(), fit.var() / TABLE["moisture"].var() - 0.05)
        self.assertLess(share.max(), 1.0)
        self.assertEqual(found.decisions[0].outcomes["hours"], "reject")
        with self.assertRaisesRegex(ArgumentError, "Ratios are of log"):
            found.coefficients("ratio")

    def test_residuals_are_those_of_left_out_rows(self):
        found = line()
        table = found.residuals()
        np.testing.assert_allclose(table["residual"], table["observed"] - table["expected"])
        # Of a normal regression: the residual over its left-out standard error, by the hat matrix.
        design = found.study.parts["regression"].design
        x = np.column_stack([np.ones(N), design.standardised])
        hat = np.einsum("ij,ji->i", x, np.linalg.pinv(x))
        left_out = table["residual"] / (1 - hat)
        noise = found.posterior.draws.get("noise").mean()
        np.testing.assert_allclose(
            table["score"], left_out / (noise * np.sqrt(1 + hat / (1 - hat))), atol=0.25
        )
        wild = TABLE.assign(sacks=TABLE["sacks"].where(TABLE.index != 6, 40))
        counts = fitted("sacks ~ hours", data=wild, family="poisson", exposure="time", draws=500)
        scores = counts.residuals()["score"]
        self.assertEqual(scores.abs().idxmax(), 7)
        self.assertGreater(scores[7], 3)
        with self.assertRaisesRegex(ArgumentError, "labels"):
            fitted("grade ~ hours", family="categorical", draws=50).residuals()

    def test_labels_are_told_against_the_first_and_factors_in_place_of_the_reference(self):
        counts = pd.DataFrame(
            [[90, 60, 50], [30, 70, 100]], index=["dry", "wet"], columns=["good", "poor", "fine"]
        ).stack()
        data = pd.DataFrame(list(counts.index.repeat(counts)), columns=["season", "grade"])
        found = fitted(
            "grade ~ season",
            data=data,
            family="categorical",
            labels=["good", "poor", "fine"],
            priors={"slope": "normal(0, 50)", "base": "normal(0, 50)"},
            draws=500,
        )
        table = found.coefficients()
        for label in ("poor", "fine"):
            row = table.loc[f"season[T.wet] for {label} against good"]
            cells = [counts[season, one] for season in ("dry", "wet") for one in ("good", label)]
            exact = np.log(cells[0] * cells[3] / cells[1] / cells[2])
            error = np.sqrt(sum(1 / cell for cell in cells))
            self.assertLess(abs(row["mean"] - exact), 0.25 * error)
            self.assertAlmostEqual(row["sd"] / error, 1, delta=0.15)
        told = " ".join(str(found).split())
        self.assertIn("for `wet` in place of `dry`; positive with probability above 0.999", told)
        self.assertIn("base for fine against good", told)

    def test_residuals_of_censored_and_missing_outcomes_stay_empty(self):
        top = TABLE["moisture"].median()
        table = TABLE.assign(moisture=TABLE["moisture"].clip(upper=top))
        found = fitted("moisture ~ hours", data=table, censored_high=top, draws=300)
        residuals = found.residuals()
        at_limit = table["moisture"].to_numpy() == top
        np.testing.assert_array_equal(residuals["residual"].isna(), at_limit)
        self.assertLess(abs(residuals["score"].mean()), 0.4)
        table.loc[3, "moisture"] = np.nan
        gaps = fitted("moisture ~ hours", data=table, missing="predict", draws=300).residuals()
        self.assertTrue(np.isnan(gaps.loc[4, "score"]))
        self.assertEqual(gaps["score"].isna().sum(), 1)

    def test_formulas_side_by_side(self):
        found = fitted(["moisture ~ hours", "moisture ~ hours + loft"], draws=400)
        self.assertEqual(found.answer[0], found.comparison().sentence)
        self.assertIn("better than `moisture ~ hours`", found.answer[0])
        table = found.side_by_side()
        self.assertEqual(table.loc["loft[T.south]", "moisture ~ hours"], "")
        self.assertIn("moisture ~ hours + loft", str(found.evidences()))
        with tempfile.TemporaryDirectory() as folder:
            found.save(Path(folder) / "study")
            again = mw.studies.load(Path(folder) / "study")
            self.assertEqual(again.answer, found.answer)
            self.assertEqual(len(list((Path(folder) / "study" / "runs").iterdir())), 2)

    def test_double_check_agrees(self):
        table = line().double_check(draws=2000)
        self.assertLess(table["apart, in Monte Carlo errors"].abs().max(), 4.5)
        slopes = table.filter(like="slope", axis=0)
        np.testing.assert_allclose(
            slopes["mode"], slopes["posterior mean"], atol=3 * slopes["posterior sd"].max() / 10
        )
        self.assertTrue(np.isfinite(slopes["maximum likelihood"]).all())

    def test_every_family_answers_and_is_drawn(self):
        """Its means are those of its predictions; with draws that need no fit."""
        for formula, settings in EVERY_FAMILY:
            with self.subTest(formula, **settings):
                found = imagined(study(formula, data=MORE, **settings))
                effect = found.effect("hours", values=[4.0])
                made = found._draws()
                rows = MORE.iloc[[0] * 40].assign(hours=4.0, **_held(found))
                means = made.means(
                    made.predictor(made.parts.design.rows(rows[:1])), _first(made.shapes())
                )
                self.assertTrue(np.isfinite(effect.to_numpy()).all())
                if not settings.get("per"):
                    drawn = next(iter(found.predict(rows).draws.values()))
                    labels = found.study.parts["regression"].labels
                    if labels:
                        drawn = drawn[..., None] == np.arange(len(labels))
                    trials = 6 if "trials" in settings else 1
                    drawn = drawn.mean(axis=(0, 1)) / trials
                    np.testing.assert_allclose(drawn, means.mean(axis=(0, 1)), atol=0.06)
                for figure in ("coefficients", "effects"):
                    self.assertTrue(mw.plots.study(found, figure).axes)

    def test_group_effects_label_by_label(self):
        found = fitted("moisture ~ hours", per={"stone": "1 + hours"}, draws=300)
        draws = found.posterior.draws.get("stone_effect")
        table = found.group_effects("stone", "hours")
        self.assertEqual(list(table.index), list("abcde"))
        np.testing.assert_allclose(table["mean"], draws[..., 1].mean(axis=(0, 1)))
        figure = mw.plots.study(found, "groups")
        dots = [line for line in figure.axes[0].lines if line.get_marker() == "o"]
        middles = np.median(draws[..., 0], axis=(0, 1))
        np.testing.assert_allclose([line.get_xdata()[0] for line in dots], np.sort(middles)[::-1])
        for arguments, message in ((("mill",), "no groups"), (("stone", "loft"), "no term")):
            with self.assertRaisesRegex(ArgumentError, message):
                found.group_effects(*arguments)

    def test_group_effects_and_a_scale_are_sampled(self):
        found = fitted(
            "moisture ~ hours + `Grit (mm)`",
            draws=100,
            per={"stone": "hours", "loft:stone": "1"},
            scale="~ loft",
            family="student_t",
        )
        text = str(found)
        for words in ("stone_spread[hours]", "loft_stone_spread", "scale_slope", "df"):
            self.assertIn(words, text)
        again = found.predict(TABLE.iloc[:2])
        self.assertEqual(again.draws["moisture"].shape[1], 2)
        new = TABLE.iloc[:2].assign(stone="z")
        with self.assertRaises(DataError):
            found.predict(new)
        self.assertEqual(found.predict(new, new_labels="draw").draws["moisture"].shape[1], 2)


MORE = TABLE.assign(
    positive=np.exp(0.2 * ETA + 0.3 * RNG.normal(size=N)),
    part=expit(ETA + 0.5 * RNG.normal(size=N)),
    many=6,
)
MORE["won"] = RNG.binomial(6, 0.4, N)
LABELS = {"labels": ["poor", "good", "fine"]}
EVERY_FAMILY = (
    ("moisture ~ 0 + hours + loft", {}),
    ("moisture ~ hours", {"family": "student_t", "weights": "time"}),
    ("cracked ~ hours", {"family": "bernoulli", "link": "cloglog"}),
    ("cracked ~ hours", {"family": "bernoulli", "link": "probit"}),
    ("won ~ hours", {"family": "binomial", "trials": "many"}),
    ("sacks ~ hours", {"family": "poisson"}),
    ("sacks ~ hours", {"family": "negative_binomial"}),
    ("sacks ~ hours", {"family": "poisson", "zeros": "inflated"}),
    ("sacks ~ hours", {"family": "negative_binomial", "zeros": "inflated"}),
    ("sacks ~ hours", {"family": "poisson", "zeros": "hurdle"}),
    ("sacks ~ hours", {"family": "negative_binomial", "zeros": "hurdle"}),
    ("positive ~ hours", {"family": "gamma"}),
    ("positive ~ hours", {"family": "lognormal"}),
    ("part ~ hours", {"family": "beta"}),
    ("grade ~ hours + loft", {"family": "ordered", **LABELS}),
    ("grade ~ hours", {"family": "ordered", "link": "probit", **LABELS}),
    ("loft ~ hours", {"family": "categorical"}),
    ("moisture ~ hours", {"per": {"stone": "hours"}}),
)


def imagined(made):
    """Findings from draws of a prior that is narrow, without a fit."""
    priors = {"noise": 0.4, "shape": 2.0, "precision": 20.0, "zeros": 0.3, "df_above_one": 29.0}
    narrow = {"intercept": "normal(0.3, 0.1)", "slope": "normal(0.2, 0.1) per predictor"}
    known = {part.name for part in made.model.specification.parts}
    given = {name: value for name, value in priors.items() if name in known}
    if made.parts["regression"].family.name != "categorical":
        given |= {name: text for name, text in narrow.items() if name in known}
    settings = {**made.settings, "priors": given}
    made = regression_study.build(made.data, settings, ())
    binding = made.model.bind(made.data_of("regression"))
    fake = made.model.simulate(made.data_of("regression"), draws=400, seed=5)
    values = {name: value[0] for name, value in fake.draws.values.items()}
    posterior = exact_posterior(
        binding, lambda generator, n: values, method="prior draws", chains=1, draws=400
    )
    return made._found({"regression": posterior}, {})


def _held(found):
    """Values at which an effect holds other columns."""
    levels = found.study.parts["regression"].design.levels
    return {name: labels[0] for name, labels in levels.items()} | {"time": 1.0}


def _first(shapes):
    return {name: value[:, :1] if value.ndim == 2 else value for name, value in shapes.items()}


if __name__ == "__main__":
    unittest.main()
