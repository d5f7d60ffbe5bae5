"""Curves: the point fit against SciPy, unknowns against quadrature, black boxes, smearing."""

import functools
import json
import tempfile
import unittest
from pathlib import Path

import jax.numpy as jnp
import numpy as np
from scipy import integrate, optimize

import millwright as mw
from millwright.errors import ArgumentError, DataError, ModelError
from tests.cli.here import run_here

QUIET = {"progress": False}
WHEELS = mw.demo.load("two_wheels").frame
UPPER = WHEELS[WHEELS["wheel"] == "upper"].reset_index(drop=True)
UNKNOWNS = {"capacity": (0, 25), "middle": "normal(2, 1, low=0)", "steepness": (0.5, 5)}
TEXT = "capacity * (1 - exp(-log(2) * (flow / middle) ** steepness))"


def rising(flow, capacity, middle, steepness):
    return capacity * (1 - np.exp(-np.log(2) * (flow / middle) ** steepness))


def traced(flow, capacity, middle, steepness):
    return capacity * (1 - jnp.exp(-jnp.log(2.0) * (flow / middle) ** steepness))


def study_of(function=TEXT, data=UPPER, unknowns=None, **more):
    given = {"x": "flow", "y": "power", "error": "error", **more}
    return mw.studies.curve(function, data, unknowns=unknowns or UNKNOWNS, **given)


@functools.cache
def found():
    return study_of(derived={"half": "capacity / 2"}).fit(seed=1, **QUIET)


class Points(unittest.TestCase):
    def test_all_ways_of_writing_agree_with_scipy(self):
        x, y, error = (UPPER[name].to_numpy() for name in ("flow", "power", "error"))
        value, cov = optimize.curve_fit(
            rising, x, y, p0=(10, 2, 2), sigma=error, absolute_sigma=True, ftol=1e-12, xtol=1e-12
        )
        for function in (TEXT, rising, traced):
            points = study_of(function).points["curve"]
            np.testing.assert_allclose(points.estimates, value, rtol=1e-5)
            np.testing.assert_allclose(points.errors, np.sqrt(np.diag(cov)), rtol=1e-3)
        correlation = cov[0, 1] / np.sqrt(cov[0, 0] * cov[1, 1])
        self.assertAlmostEqual(points.correlations[0][1], correlation, places=3)
        chi_square = float(np.sum(((y - rising(x, *value)) / error) ** 2))
        self.assertAlmostEqual(points.chi_square, chi_square, places=6)
        self.assertIn("fits within the errors", str(points))

    def test_unknown_noise_scales_the_errors(self):
        points = study_of(error=None).points["curve"]
        x, y = UPPER["flow"].to_numpy(), UPPER["power"].to_numpy()
        _, cov = optimize.curve_fit(rising, x, y, p0=(10, 2, 2))
        np.testing.assert_allclose(points.errors, np.sqrt(np.diag(cov)), rtol=1e-3)
        self.assertIn("says nothing of the fit", points.fit_words)

    def test_what_the_points_do_not_say_is_named(self):
        tight = {**UNKNOWNS, "capacity": (0, 9)}
        self.assertIn("`capacity` is pressed against 9", str(study_of(unknowns=tight)))
        idle = study_of(f"{TEXT} + 0 * loose", unknowns={**UNKNOWNS, "loose": (0, 1)})
        self.assertIn("The data hardly move `loose`", str(idle))
        self.assertEqual(idle.points["curve"].errors[-1], np.inf)
        bad = study_of(
            "capacity * log(flow - middle)", unknowns={"capacity": (0, 9), "middle": (-1, 1)}
        )
        self.assertIn("not a finite number", str(bad))

    def test_several_solutions_ask_for_tempering(self):
        x = np.linspace(0.5, 3, 20)
        y = 4 * x + 0.05 * np.random.default_rng(2).normal(size=20)
        study = mw.studies.curve(
            "shift ** 2 * x", {"x": x, "y": y}, "x", "y", 0.05, {"shift": (-5, 5)}
        )
        self.assertIn("several solutions", str(study))
        shares = study.fit(seed=1, **QUIET).posterior["shift"]
        self.assertAlmostEqual(float((shares > 0).mean()), 0.5, delta=0.1)


class Right(unittest.TestCase):
    def test_unknowns_against_quadrature(self):
        # Four unknowns of a logistic rise; two are integrated out in closed form by linearity.
        rng = np.random.default_rng(8)
        x = np.linspace(0, 10, 25)
        y = 1 + 4 / (1 + np.exp(-1.5 * (x - 5))) + 0.3 * rng.normal(size=25)
        study = mw.studies.curve(
            "low + rise / (1 + exp(-rate * (x - middle)))",
            {"x": x, "y": y},
            "x",
            "y",
            0.3,
            {"low": "normal(0, 3)", "rise": "normal(0, 5)", "rate": (0.2, 6), "middle": (2, 8)},
        )
        fit = study.fit(seed=4, draws=2000, **QUIET)
        prior = np.diag([9.0, 25.0])

        def density(rate, middle):
            z = np.column_stack([np.ones(25), 1 / (1 + np.exp(-rate * (x - middle)))])
            cov = 0.09 * np.eye(25) + z @ prior @ z.T
            _, size = np.linalg.slogdet(cov)
            return -0.5 * (size + y @ np.linalg.solve(cov, y))

        rates, middles = np.linspace(0.2, 6, 240), np.linspace(4.2, 5.8, 120)
        logs = np.array([[density(a, b) for b in middles] for a in rates])
        weights = np.exp(logs - logs.max())
        weights /= weights.sum()
        for name, grid, axis in (("rate", rates, 1), ("middle", middles, 0)):
            share = weights.sum(axis=axis)
            mean = float(share @ grid)
            sd = float(np.sqrt(share @ (grid - mean) ** 2))
            draws = fit.posterior[name].values
            error = sd / np.sqrt(fit.posterior.table().loc[name, "effective draws"])
            self.assertAlmostEqual(float(draws.mean()), mean, delta=4 * error)
            self.assertAlmostEqual(float(draws.std()) / sd, 1, delta=0.1)

    def test_black_box_agrees_with_the_gradient_sampler(self):
        study = study_of(rising)
        self.assertIn("walkers", study.choices[0])
        box = study.fit(seed=2, draws=150, **QUIET)
        self.assertTrue(box.verdict.good, str(box.verdict))
        one, other = box.values(), found().values()
        for name in UNKNOWNS:
            delta = 0.2 * other.loc[name, "uncertainty"]
            self.assertAlmostEqual(one.loc[name, "value"], other.loc[name, "value"], delta=delta)

    def test_thinning_is_suggested_where_draws_repeat_each_other(self):
        study = study_of(rising)
        fit = study.fit(seed=2, draws=1000, method=mw.RandomWalk(steps=1), **QUIET)
        smallest = fit.posterior.table()["effective draws"].min()
        self.assertAlmostEqual(fit.thinning, 2000 / smallest, delta=0.5)
        self.assertIn(f"Thinned to every {fit.thinning} steps", " ".join(str(fit).split()))
        self.assertLess(found().thinning, 4)
        self.assertNotIn("repeat each other", str(found()))

    def test_smeared_curves_against_direct_integration(self):
        x = np.linspace(0.8, 5, 5)
        width = np.linspace(0.1, 0.4, 5)
        data = {"flow": x, "power": rising(x, 10, 2, 2), "error": np.full(5, 0.2), "w": width}
        at = {
            "capacity": np.array([10.0]),
            "middle": np.array([2.0]),
            "steepness": np.array([2.0]),
        }
        for kernel in ("normal", "uniform"):
            for function in (TEXT, rising, traced):
                parts = study_of(function, data, smear="w", kernel=kernel).parts["curve"]
                made = parts.formula.values(parts.data.columns(), at)[0]
                for place, wide, value in zip(x, width, made, strict=True):
                    reach = 8 * wide if kernel == "normal" else wide

                    def weighed(t, place=place, wide=wide, kernel=kernel):
                        height = np.exp(-0.5 * (t / wide) ** 2) if kernel == "normal" else 1.0
                        return height * rising(place + t, 10, 2, 2), height

                    # Even powers here, so that places below 0 have a value too.
                    whole = integrate.quad(lambda t: weighed(t)[0], -reach, reach, epsabs=1e-12)[0]
                    part = integrate.quad(lambda t: weighed(t)[1], -reach, reach, epsabs=1e-12)[0]
                    self.assertAlmostEqual(value, whole / part, places=7)

    def test_one_width_for_all_rows_is_a_column_of_it(self):
        data = UPPER.assign(w=0.3)
        for function in (TEXT, rising, traced):
            with self.subTest(function):
                own = study_of(function, data, smear="w")
                study = study_of(function, data, smear=0.3)
                np.testing.assert_allclose(
                    study.points["curve"].estimates, own.points["curve"].estimates
                )
                values = [
                    one.model.simulate(one.data_of("curve"), draws=5, seed=1).outcomes["power"]
                    for one in (study, own)
                ]
                np.testing.assert_allclose(*values)

    def test_a_table_of_places_along_two_columns(self):
        data = {"flow": [1.0, 2, 3, 4], "grain": [1.0, 0, 2, 1], "y": [1.0, 2, 3, 5]}
        study = mw.studies.curve(
            "a * flow + b * grain", data, ["flow", "grain"], "y", 0.3, {"a": (0, 5), "b": (-5, 5)}
        )
        answer = study.fit(seed=1, chains=2, draws=100, warmup=100, **QUIET)
        a, b = (answer.posterior.draws.get(name).reshape(-1) for name in "ab")
        places = {"grain": [5.0, 0.0], "flow": [2.0, 7.0]}
        curves = answer.curves(x=places)
        np.testing.assert_allclose(curves.draws, np.stack([2 * a + 5 * b, 7 * a], axis=1))
        self.assertEqual(list(curves.to_dataframe().columns[:3]), ["flow", "grain", "median"])
        with self.assertRaisesRegex(ArgumentError, "an array of shape"):
            answer.curves(x=[[2.0, 5.0], [7.0, 0.0]])

    def test_curves_and_residuals(self):
        draws = found().posterior
        at = 3.0
        every = {name: draws[name].values.reshape(-1) for name in UNKNOWNS}
        curves = found().curves(x=[at], draws=100_000)
        np.testing.assert_allclose(curves.draws[:, 0], rising(at, **every), rtol=1e-10)
        half = found().curves("capacity / 2 + 0 * flow", x=[at], draws=100_000)
        np.testing.assert_allclose(half.draws[:, 0], every["capacity"] / 2)
        own = found().curves(lambda flow, middle: middle * flow, x=[2.0], draws=100_000)
        np.testing.assert_allclose(own.draws[:, 0], 2 * every["middle"])
        left = found().residuals()
        np.testing.assert_allclose(left["power"] - left["fitted"], left["residual"])
        np.testing.assert_allclose(left["residual"] / UPPER["error"], left["residual / error"])
        value = found().values().loc["half"]
        self.assertAlmostEqual(value["value"], float(np.median(every["capacity"])) / 2)
        self.assertRegex(value["text"], r"^5\.\d+ \+- 0\.\d\d$")

    def test_data_sets_share_some_unknowns(self):
        tables = {
            name: WHEELS[WHEELS["wheel"] == name].drop(columns="wheel")
            for name in ("upper", "lower")
        }
        own = ["capacity", "error_factor"]
        study = study_of(data=tables, each=own, error_factor=True)
        self.assertEqual(study.table.labels, ("lower", "upper"))
        draws = study.fit(seed=3, draws=400, warmup=400, **QUIET)
        truth = mw.demo.load("two_wheels").truth
        table = draws.table()
        for name in ("capacity[lower]", "capacity[upper]", "middle", "steepness"):
            off = (table.loc[name, "median"] - truth[name]) / table.loc[name, "sd"]
            self.assertLess(abs(off), 3.5, name)
        self.assertIn("error_factor[lower]", table.index)

        # Of its own for each, and called draw by draw: arrays, one value a row.
        def slow(flow, capacity, middle, steepness):
            return rising(flow, capacity, middle, steepness if steepness > 0 else np.nan)

        box = study_of(slow, tables, each=own, error_factor=True)
        self.assertFalse(box.parts["curve"].formula.together)
        other = box.fit(seed=3, draws=15, warmup=40, **QUIET).table()
        self.assertLess(abs(other["median"] - table["median"]).max(), 0.1)
        with self.assertRaisesRegex(ArgumentError, "curves of the data sets differ"):
            draws.curves()
        low, high = (draws.curves(x=[5], label=one).median[0] for one in ("lower", "upper"))
        self.assertLess(low, high)


class Told(unittest.TestCase):
    def test_limits_are_told_after_sampling_too(self):
        tight = study_of(unknowns={**UNKNOWNS, "capacity": (0, 9)})
        words = str(tight.fit(seed=1, draws=400, warmup=400, **QUIET).verdict)
        self.assertIn("`capacity` is pressed against 9, the upper end", words)
        self.assertIn("does not fit within the errors", words)

    def test_formulas_are_compared(self):
        both = study_of({"rising": TEXT, "line": "capacity * flow / 5"})
        fits = both.fit(seed=1, draws=400, warmup=400, **QUIET)
        self.assertIn("`rising` predicts better", str(fits.compare()))
        self.assertIn("strong evidence for `rising`", str(fits.evidences()))
        self.assertEqual(list(fits.values("line").index), ["capacity"])
        with self.assertRaisesRegex(ArgumentError, "no formula"):
            fits.curves(name="lime")

    def test_a_stored_function_is_named_and_can_be_given_back(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "study"
            made = study_of(traced).fit(seed=1, draws=100, warmup=100, save=place, **QUIET)
            again = mw.studies.load(place)
            self.assertEqual(str(again), str(made))
            with self.assertRaisesRegex(ModelError, "function `traced`, which is not known here"):
                again.curves()
            mw.register("traced", traced)
            np.testing.assert_array_equal(
                mw.studies.load(place).curves(x=[1, 2]).draws, made.curves(x=[1, 2]).draws
            )

    def test_a_stored_black_box_is_told_where_its_function_is_not(self):
        def gone(flow, capacity):
            return rising(flow, capacity, 2.2, 2.0)

        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "study"
            some = {"capacity": (0, 25)}
            made = study_of(gone, unknowns=some).fit(seed=1, draws=100, save=place, **QUIET)
            again = mw.studies.load(place)
            self.assertEqual(str(again), str(made))
            with self.assertRaisesRegex(ModelError, "needs the function `gone_curve`"):
                again.posterior.extend(10, progress=False)

    def test_a_function_that_is_wrong_for_many_draws_is_found(self):
        def odd(flow, capacity, middle, steepness):
            # On the draws that it is tried with this never matters; near the answer it does.
            if np.ndim(capacity) and np.ptp(capacity) < 8:
                return rising(flow, capacity, middle, steepness) + 0.1
            return rising(flow, capacity, middle, steepness)

        study = study_of(odd)
        self.assertTrue(study.parts["curve"].formula.together)
        fit = study.fit(seed=2, draws=50, warmup=100, **QUIET)
        self.assertIn("gives other values for many draws", str(fit.verdict))
        self.assertIn("No answer", str(fit))


class Odd(unittest.TestCase):
    def test_columns_called_like_what_the_study_adds(self):
        odd = UPPER.rename(columns={"flow": "fitted", "power": "residual", "error": "noise"})
        study = study_of(rising, odd, x="fitted", y="residual", error="noise")
        fit = study.fit(seed=1, draws=50, warmup=50, **QUIET)
        left = fit.residuals()
        np.testing.assert_array_equal(left["fitted"], UPPER["flow"])
        np.testing.assert_allclose(
            left["residual"] - left["fitted of the fit"], left["residual of the fit"]
        )
        above, below = mw.plots.study(fit).axes
        for axes, values in ((below, left["residual / error"]), (above, UPPER["power"])):
            points = next(line for line in axes.lines if len(line.get_xdata()) == len(UPPER))
            np.testing.assert_array_equal(points.get_xdata(), UPPER["flow"])
            np.testing.assert_array_equal(points.get_ydata(), values)
        own = UPPER.rename(columns={"flow": "noise"})
        named = study_of(rising, own, x="noise", error=None).model
        self.assertIn("rising_curve(noise_, capacity", str(named))
        with self.assertRaisesRegex(ArgumentError, "another name"):
            study_of(TEXT, own, x={"noise": "noise"})

    def test_walkers_begin_where_the_curve_is_a_number(self):
        def edge(flow, capacity, middle, steepness):
            if capacity < 10.7:
                return np.nan * flow
            return rising(flow, capacity, middle, steepness)

        study = study_of(edge)
        self.assertIn("many in one call fail (ValueError)", study.choices[0])
        fit = study.fit(seed=1, draws=100, **QUIET)
        self.assertGreater(float(fit.posterior["capacity"].min()), 10.7)

    def test_formulas_and_bands_of_any_name_and_level(self):
        line = "capacity * flow / 5"
        both = study_of(
            {"prior": line, "second": f"{line} + middle"},
            unknowns={"capacity": (0, 25), "middle": (-5, 5)},
        ).fit(seed=1, draws=300, warmup=300, **QUIET)
        self.assertIn("`second`", str(both.evidences()))
        bands = both.with_interval(0.68, "hdi").curves(x=[1.0]).to_dataframe()
        self.assertEqual(
            list(bands)[2:],
            ["68 % central from", "68 % central to", "68 % hdi from", "68 % hdi to"],
        )


class Refused(unittest.TestCase):
    def test_what_does_not_fit(self):
        def short(flow, capacity, middle, steepness):
            return flow[:3]

        def broken(flow, capacity, middle, steepness):
            raise ValueError("out of water")

        def nothing(flow, capacity, middle, steepness):
            return np.nan * flow

        zero = UPPER.assign(error=[0.0, *UPPER["error"][1:]])
        cases = (
            (ModelError, "shape", {"function": short}),
            (ModelError, "out of water", {"function": broken}),
            (ModelError, "no finite value", {"function": nothing}),
            (ArgumentError, "wrong way round", {"unknowns": {**UNKNOWNS, "capacity": (25, 0)}}),
            (ArgumentError, "must be finite", {"unknowns": {**UNKNOWNS, "capacity": (0, np.inf)}}),
            (DataError, "`error` is 0 in row 1", {"data": zero}),
            (ModelError, "Did you mean `capacity`", {"function": "capacty * flow"}),
            (ArgumentError, "stands in no formula", {"function": "capacity * flow"}),
            (ArgumentError, "Did you mean `power`", {"y": "powr"}),
            (ArgumentError, "above 0", {"error": -1.0}),
            (ArgumentError, "data sets apart", {"each": ["capacity"]}),
            (ArgumentError, "no unknown", {"sets": "wheel", "each": ["capactiy"]}),
            (ArgumentError, "takes 1 column first", {"function": lambda: 1}),
            (ArgumentError, "not among", {"function": lambda flow, capacity, b: 1}),
            (ArgumentError, "numbers from the data", {"function": f"mean(flow) * {TEXT}"}),
            (ArgumentError, "call the unknown something else", {"unknowns": {"flow": (0, 1)}}),
            (ArgumentError, "`axes` is", {"axes": "logs"}),
        )
        for error, words, given in cases:
            with self.subTest(words), self.assertRaisesRegex(error, words):
                study_of(**{"function": TEXT, **given})
        with self.assertRaisesRegex(ArgumentError, "one formula"):
            found().compare()


SHEET = """[curve]
x = "flow"
y = "power"
error = "error"

[unknowns]
capacity = [0, 25]
middle = "normal(2, 1, low=0)"
steepness = [0.5, 5]
"""
CODE = """import numpy as np
def rising(flow, capacity, middle, steepness):
    return capacity * (1 - np.exp(-np.log(2) * (flow / middle) ** steepness))
"""


class Shell(unittest.TestCase):
    def test_a_file_and_a_function(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder)
            UPPER.to_csv(place / "upper.csv", index=False)
            whole = SHEET.replace("[unknowns]", f'formula = "{TEXT}"\n[unknowns]')
            (place / "curve.toml").write_text(whole)
            (place / "bare.toml").write_text(SHEET)
            (place / "wheel.py").write_text(CODE)
            call = ("study", "curve", "upper.csv", "--curve")
            done = run_here(*call, "curve.toml", "--seed", 1, "--figure", "a.png", "-q", cwd=place)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("Point fit, before anything is sampled", done.stdout)
            self.assertIn(f"`capacity` = {found().values().loc['capacity', 'text']}", done.stdout)
            self.assertTrue((place / "a.png").is_file())
            how = ("--code", "wheel.py:rising", "--walkers", 20, "--steps", 60, "--thin", 2)
            done = run_here(*call, "bare.toml", *how, "--json", "-q", cwd=place)
            self.assertIn(done.returncode, (0, 1), done.stderr)
            self.assertIn("capacity", json.loads(done.stdout)["table"])
            for text, options, words in (
                (SHEET, (), "give one of `formula`"),
                (SHEET, ("--code", "wheel.py:risen"), "Did you mean `rising`"),
                (SHEET, ("--code", "wheels.py:rising"), "There is no file"),
                (SHEET + "[unknown]\na = 1\n", (), "Did you mean `unknowns`"),
                (SHEET.replace("error =", "errors ="), (), "Did you mean `error`"),
                (SHEET, (*how, "--chains", 4), "give one of them"),
                (whole, ("--group", "x"), "takes no --group. It takes: --curve, --code"),
            ):
                with self.subTest(words):
                    (place / "bad.toml").write_text(text)
                    done = run_here(*call, "bad.toml", *options, cwd=place)
                    self.assertEqual(done.returncode, 2)
                    self.assertIn(words, done.stderr)


if __name__ == "__main__":
    unittest.main()
