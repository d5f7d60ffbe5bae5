"""Series in coordinates that their readings inform: exact maps, exact posteriors."""

import itertools
import unittest

import jax
import numpy as np
from scipy import stats

import millwright as mw
from millwright.distributions import on_numpy
from millwright.fitting.coordinates import prepared
from millwright.fitting.target import target_of
from millwright.modelling.density import log_density_terms, place_unknowns
from millwright.modelling.parameterisations import chosen_forms
from millwright.modelling.simulate import draw_unknowns, positions_from
from millwright.modelling.space import places
from tests.fits import assert_mean_near

WALK = "random_walk(start=2, scale=step{}) per {}day"
SERIES = "autoregressive(1, step, coefficients={}, start_scale=1.3) per day"
PRIORS = {"step": "half_normal(0.5)", "error": "half_normal(1)", "level": WALK.format("", "")}
DATA = {
    "day": np.array([1, 2, 2, 3, 5, 6]),
    "y": np.array([2.1, 2.6, 2.2, 3.0, 2.4, 1.7]),
    "tilt": np.array([0.3, -1.0, 0.0, 0.7, 1.5, -0.2]),
    "site": np.array(["b", "a", "b", "b", "a", "a"]),
}
LABELS = {"day": [1, 2, 3, 4, 5, 6, 7]}


def model_of(location="level[day]", y="normal({}, error)", labels=None, more=None, **priors):
    likelihood = {"y": y.format(location), **(more or {})}
    return mw.Model(
        priors={**PRIORS, **priors}, likelihood=likelihood, labels={**LABELS, **(labels or {})}
    )


def bound_of(model, form="informed", **columns):
    return prepared(model.bind({**DATA, **columns}), form, 1)


def form_of(model, form="informed", **columns):
    return dict(bound_of(model, form, **columns).program.forms)["level"]


def plain_models():
    """Yield models whose readings inform their series exactly."""
    yield "walk", model_of()
    yield "drift", model_of(level=WALK.format(", drift=0.2", ""))
    sloped = "3 + a * level[day] / 2 - b * tilt"
    yield "slope", model_of(sloped, a="normal(1, 1)", b="normal(0, 1)")
    # Readings that are next to nothing must not stand for values beyond all others.
    yield "nearly unread", model_of("3 + level[day] * sin(3.141592653589793 * tilt * 10)")
    yield "autoregressive", model_of(level=SERIES.format("[0.7]"))
    lean = {"lean": "uniform(low=-1, high=1) per lag", "level": SERIES.format("lean")}
    yield "unknown lean", model_of(labels={"lag": [1]}, **lean)
    kernel = "squared_exponential(day, scale=step, length=1.5)"
    smooth = f"gaussian_process(2, kernel={kernel}) per day"
    yield "function", model_of(level=smooth, labels={"day": [1, 2, 3, 5, 6]})
    yield "two label sets", model_of("level[site, day]", level=WALK.format("", "site, "))
    yield "noise a row", model_of(y="normal({}, error * exp(tilt))")
    yield "two outcomes", model_of(more={"tilt": "normal(1 - level[day], 0.5)"})
    sizes = WALK.format("", "").replace("step)", "sizes)")
    yield "steps by label", model_of(level=sizes, sizes="half_normal(1) per day")


def drawn(bound, seed=3):
    """Return a position at unknowns from the prior, and where in it the series stands."""
    evaluation = draw_unknowns(bound, 1, np.random.default_rng(seed))
    place = next(one for one in places(bound.program) if one.name == "level")
    where = slice(place.start, place.start + place.size)
    return positions_from(bound, evaluation)[0], where, evaluation


def log_density(bound, position):
    found = log_density_terms(on_numpy, bound.program, bound.arguments, position)
    return float(sum(found.values()))


class Map(unittest.TestCase):
    def test_coordinates_are_standard_normal_given_all_else(self):
        for name, model in plain_models():
            with self.subTest(name):
                bound = bound_of(model)
                self.assertEqual(dict(bound.program.forms)["level"], "informed")
                position, where, _ = drawn(bound)
                middle = position.copy()
                middle[where] = 0.0
                lower = log_density(bound, middle) - log_density(bound, position)
                eta = position[where]
                self.assertAlmostEqual(lower / (0.5 * eta @ eta), 1.0, places=9)

    def test_density_is_that_of_the_series_times_the_derivative(self):
        heavy = model_of(level=WALK.format(", df=4", ""))
        noise = model_of(y="normal(0, exp({}))")
        for name, model in (*plain_models(), ("heavy steps", heavy), ("log sd", noise)):
            with self.subTest(name):
                bound, plain = bound_of(model), bound_of(model, "centred")
                position, where, evaluation = drawn(bound)
                straight = positions_from(plain, evaluation)[0]

                # Given all else the map is a matrix times the coordinates, plus its values at 0.
                size = where.stop - where.start
                whole = np.tile(position, (size + 1, 1))
                whole[:, where] = np.concatenate([np.zeros((1, size)), np.eye(size)])
                placed, _ = place_unknowns(on_numpy, bound.program, bound.arguments, whole)
                series = placed.values["level"].values.reshape(size + 1, size)
                slopes = (series[1:] - series[0]).T
                want = log_density(plain, straight) + np.linalg.slogdet(slopes)[1]
                self.assertAlmostEqual(log_density(bound, position), want, places=8)
                found = series[0] + slopes @ position[where]
                np.testing.assert_allclose(found, straight[where], rtol=1e-9)

    def test_compiled_it_is_the_same_and_without_a_false_peak(self):
        bound = bound_of(model_of())
        target = target_of(bound)
        position, where, _ = drawn(bound)
        value = jax.jit(jax.value_and_grad(target.log_density))
        found, slopes = value(position, target.arguments)
        self.assertAlmostEqual(float(found), log_density(bound, position), places=9)
        self.assertTrue(np.isfinite(slopes).all())
        # Steps or errors too small for rounding to show must not look like a perfect fit, neither
        # at the middle of the series' coordinates nor elsewhere.
        middle = position.copy()
        middle[where] = 0.0
        for name in ("step", "error"):
            place = next(one for one in places(bound.program) if one.name == name)
            for size, start in itertools.product((1e-17, 1e-13, 1e-10), (position, middle)):
                tiny = start.copy()
                tiny[place.start] = np.log(size)
                far, _ = value(tiny, target.arguments)
                self.assertLess(float(far), log_density(bound, start) - 5)
                self.assertEqual(np.isfinite(far), size > 1e-14)


class Forms(unittest.TestCase):
    def test_other_readings_are_weighed_in_a_short_run(self):
        far = np.array([90.0, -40, 60, 10, -80, 30])
        student = "student_t({}, error, df=5)"
        self.assertEqual(form_of(model_of(y=student, error="half_normal(0.02)")), "centred")
        wide = model_of(y=student, error="half_normal(60)")
        self.assertEqual(form_of(wide, y=far), "non-centred")
        self.assertEqual(form_of(wide, "centred", y=far), "centred")

    def test_only_plain_readings_inform(self):
        for name, model in (
            ("bent", model_of("level[day] ** 2")),
            ("twice", model_of("level[day] * level[day]")),
            ("below", model_of("1 / level[day]")),
            ("cut", model_of(y="normal({}, error, low=-9)")),
            ("by hand", model_of("level[3]")),
            ("in a prior", model_of(peak="normal(sum(level), 1)")),
        ):
            with self.subTest(name):
                forms = chosen_forms(model.bind(DATA).program, "informed")
                self.assertEqual(dict(forms)["level"], "centred")

    def test_a_black_box_leaves_no_pilot(self):
        mw.register("gauge_of_steps", float, black_box=True)
        for y, form in (
            ("poisson(log_rate={})", "non-centred"),
            ("normal({}, error)", "informed"),
        ):
            model = model_of("level[day] + gauge_of_steps(k)", y=y, k="normal(0, 1)")
            bound = bound_of(model, y=np.array([2, 0, 1, 3, 1, 2]))
            self.assertEqual(dict(bound.program.forms)["level"], form)

    def test_each_outcome_informs_one_series(self):
        other = {"other": WALK.format("", "")}
        bound = bound_of(model_of("level[day] + other[day]", **other))
        forms = dict(bound.program.forms)
        self.assertEqual(list(forms.values()).count("informed"), 1)


class Posterior(unittest.TestCase):
    def test_a_walk_against_quadrature(self):
        """Sizes of steps and errors, and the levels, with the levels summed out exactly."""
        days, y = DATA["day"], DATA["y"]
        fit = model_of().fit(DATA, seed=2, draws=2500, progress=False, target_acceptance=0.9)
        self.assertTrue(fit.verdict.good)
        self.assertEqual(fit.record.groups["level"]["form"], "informed")
        sizes = np.linspace(0.005, 2.395, 240)
        step, error = sizes[:, None, None], sizes[:, None]
        shared, ahead = np.minimum.outer(days, days), np.minimum.outer(LABELS["day"], days)
        eigenvalues, vectors = np.linalg.eigh(shared)
        variances, rest = step**2 * eigenvalues + error**2, vectors.T @ (y - 2)
        weights = stats.norm.logpdf(rest, 0, np.sqrt(variances)).sum(axis=-1)
        weights = weights - 0.5 * (sizes[:, None] / 0.5) ** 2 - 0.5 * sizes**2
        weights = np.exp(weights - weights.max())
        weights /= weights.sum()
        levels = 2 + step**2 * (rest / variances @ (ahead @ vectors).T)
        assert_mean_near(self, values(fit["step"]), weights.sum(axis=1) @ sizes)
        assert_mean_near(self, values(fit["error"]), weights.sum(axis=0) @ sizes)
        for at in range(7):
            mean = (weights * levels[..., at]).sum()
            assert_mean_near(self, values(fit["level"])[..., at], mean)


def values(draws):
    return draws.transpose("chain", "iteration", ...).values
