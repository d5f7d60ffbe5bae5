"""Latent functions and states from the posterior, at old rows and new."""

import functools
import unittest

import numpy as np
import pandas as pd

import millwright as mw
from millwright.draws.labelled_draws import label_texts
from millwright.errors import ArgumentError, DataError, ModelError

WIND = np.linspace(0, 6, 25)


@functools.cache
def wheel():
    """A smooth curve with known hyperparameters: everything is normal and known exactly."""
    power = np.sin(WIND) + 0.2 * np.random.default_rng(1).standard_normal(WIND.size)
    model = mw.Model(
        priors={"noise": "half_normal(1)"},
        likelihood={
            "power": "gaussian_process(0, noise=noise, "
            "kernel=squared_exponential(wind, scale=1, length=1.2))"
        },
    )
    return model.fit({"wind": WIND, "power": power}, seed=2, progress=False), power


@functools.cache
def river():
    generator = np.random.default_rng(4)
    level = 5 + np.cumsum(0.3 * generator.standard_normal(30))
    data = pd.DataFrame({"day": np.arange(1, 31), "gauge": level})
    data["gauge"] += 0.3 * generator.standard_normal(30)
    model = mw.Model(
        priors={"step": "half_normal(1)", "level": "random_walk(start=5, scale=step) per day"},
        likelihood={"gauge": "normal(level[day], 0.3)"},
    )
    return model.fit(data, seed=3, progress=False), level


class Names(unittest.TestCase):
    def test_labels_that_are_long_numbers_are_shortened_unless_they_clash(self):
        self.assertEqual(label_texts([1 / 3, 2.0, "a"]), ["0.333333", "2", "a"])
        close = [1.0, 1.0 + 1e-9]
        self.assertEqual(label_texts(close), [str(x) for x in close])


class Curve(unittest.TestCase):
    def exact(self, posterior, power, new):
        """Mean at new places for each draw of the noise, averaged."""

        def k(a, b):
            return np.exp(-0.5 * ((a[:, None] - b[None, :]) / 1.2) ** 2)

        noises = posterior["noise"].values[:, ::4].ravel()
        means = [
            k(new, WIND) @ np.linalg.solve(k(WIND, WIND) + s * s * np.eye(WIND.size), power)
            for s in noises
        ]
        return np.mean(means, axis=0)

    def test_function_at_new_places(self):
        posterior, power = wheel()
        new = np.array([0.5, 3.3, 7.0])
        predicted = posterior.predict({"wind": new})
        np.testing.assert_allclose(
            predicted.expected["power"], self.exact(posterior, power, new), atol=1e-3
        )
        drawn = predicted.latent["power"]
        error = drawn.std(axis=0) / np.sqrt(len(drawn))
        gap = np.abs(drawn.mean(axis=0) - predicted.expected["power"])
        self.assertTrue((gap < 5 * error).all())
        # Beyond the data the function is known less well, and noise comes on top.
        spread = predicted.draws["power"].std(axis=0)
        self.assertGreater(spread[2], spread[1])
        score = predicted.score({"power": np.sin(new)})
        self.assertTrue(np.isfinite(score.frame["log score"].iloc[0]))

    def test_function_at_the_fitted_rows(self):
        posterior, _ = wheel()
        found = posterior.latent("power")
        self.assertEqual(found.dims, ("chain", "iteration", "row"))
        self.assertLess(
            float(np.abs(found.mean(["chain", "iteration"]) - np.sin(WIND)).max()), 0.4
        )

    def test_leave_one_out_is_that_of_quadrature(self):
        """Each row's density given the others, integrated over the noise given the others."""
        posterior, power = wheel()
        kernel = np.exp(-0.5 * ((WIND[:, None] - WIND[None, :]) / 1.2) ** 2)
        grid = np.linspace(0.05, 0.8, 300)
        joint = np.empty((grid.size, WIND.size))
        conditional = np.empty_like(joint)
        for row, noise in enumerate(grid):
            precision = np.linalg.inv(kernel + noise**2 * np.eye(WIND.size))
            variance = 1 / np.diag(precision)
            gap = variance * (precision @ power)
            whole = 0.5 * (np.linalg.slogdet(precision)[1] - power @ precision @ power)
            conditional[row] = -0.5 * (gap**2 / variance + np.log(2 * np.pi * variance))
            joint[row] = whole - 0.5 * noise**2 - conditional[row]
        weights = np.exp(joint - joint.max(axis=0))
        weights /= weights.sum(axis=0)
        want = np.log((weights * np.exp(conditional)).sum(axis=0))
        # One row is an outlier, whose importance weights ask for many draws.
        found = posterior.extend(5000, progress=False).leave_one_out()
        np.testing.assert_allclose(found.elpd_by_row, want, atol=0.05)

    def test_replications_stay_near_the_function(self):
        posterior, power = wheel()
        copies = posterior.predictive_check(500).replicated["power"]
        self.assertLess(np.abs(copies.mean(axis=0) - power).max(), 0.8)

    def test_figure(self):
        figure = mw.plots.fitted_line(wheel()[0], "wind")
        self.assertIn("power along wind", figure._suptitle.get_text())


class Copies(unittest.TestCase):
    def test_one_function_for_each_wheel_goes_to_new_places(self):
        generator = np.random.default_rng(6)
        flow = np.tile(np.linspace(0, 4, 7), 2)
        wheel = np.repeat(["old", "new"], 7)
        power = np.where(wheel == "old", np.sin(flow), 3 + 0 * flow)
        model = mw.Model(
            priors={
                "height": "half_normal(2) per wheel",
                "curve": "gaussian_process(1, kernel=squared_exponential(flow, scale=height, "
                "length=1)) per wheel, flow",
            },
            likelihood={"power": "normal(curve[wheel, flow], 0.1)"},
        )
        data = {"flow": flow, "wheel": wheel, "power": power + 0.1 * generator.normal(size=14)}
        posterior = model.fit(data, seed=1, draws=100, warmup=300, progress=False)
        found = posterior.predict({"flow": [1.25, 1.25], "wheel": ["old", "new"]})
        np.testing.assert_allclose(found.expected["power"], [np.sin(1.25), 3.0], atol=0.25)


class Walk(unittest.TestCase):
    def test_follows_the_level_and_goes_on_after_it(self):
        posterior, level = river()
        drawn = posterior["level"].values.reshape(4 * 1000, -1)
        self.assertLess(np.abs(drawn.mean(axis=0) - level).max(), 0.6)
        ahead = posterior.predict({"day": [30, 31, 40]})
        spread = ahead.draws["gauge"].std(axis=0)
        self.assertTrue((np.diff(spread) > 0).all())
        last = drawn[:, -1].mean()
        error = spread[2] / np.sqrt(len(ahead.draws["gauge"]))
        self.assertLess(abs(ahead.draws["gauge"][:, 2].mean() - last), 5 * error)

    def test_figure_goes_from_label_to_label(self):
        figure = mw.plots.fitted_line(river()[0], "day")
        line = max(figure.axes[0].lines, key=lambda one: len(one.get_xdata()))
        self.assertEqual(list(line.get_xdata()), list(range(1, 31)))

    def test_days_before_the_first_are_refused(self):
        with self.assertRaisesRegex(DataError, "must come after"):
            river()[0].predict({"day": [0]})


class States(unittest.TestCase):
    def test_states_by_name_and_what_is_refused(self):
        _, level = river()
        model = mw.Model(
            priors={"step": "half_normal(1)", "noise": "half_normal(1)"},
            likelihood={
                "gauge": "state_space(transition=[[1]], loading=[1], scale=[step], noise=noise, "
                "start=[5], start_scale=[1])"
            },
        )
        gauge = level + 0.3 * np.random.default_rng(5).standard_normal(30)
        posterior = model.fit({"gauge": gauge}, seed=1, progress=False)
        states = posterior.latent("gauge")
        self.assertEqual(states.dims, ("chain", "iteration", "row", "state"))
        self.assertLess(
            float(np.abs(states.mean(["chain", "iteration"])[:, 0] - level).mean()), 0.25
        )
        self.assertIn("reproduces", str(posterior.predictive_check(300)))
        with self.assertRaisesRegex(ModelError, "depend on each other"):
            posterior.leave_one_out()
        self.assertEqual(posterior.predict(rows=3).draws["gauge"].shape, (1000, 3))
        with self.assertRaisesRegex(ArgumentError, "There are: gauge"):
            posterior.latent("step")


if __name__ == "__main__":
    unittest.main()
