"""Equations with expectations as a study: right answers, odd data, refusals, store, shell."""

import functools
import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

import millwright as mw
from millwright.draws.labelled_draws import thinned
from millwright.errors import ArgumentError, DataError, ModelError
from millwright.studies.autoregression_paths import drawn_given
from millwright.studies.expectations_paths import covariance_of, forecast_draws
from tests.cli.here import run_here
from tests.fits import assert_mean_near

STORE = mw.demo.load("grain_store")
EQUATIONS = {
    "prices": "price = ahead * expected(price) + demand",
    "demand": "demand = keep * before(demand) + mood",
    "stocks": "stock = 0.5 * before(stock) + price + rain",
}
SHOCKS = {"mood": 0.5, "rain": "half_normal(1)"}
READ = {"Price (d)": "price", "class": "stock"}


def study(data, equations=EQUATIONS, unknowns=None, shocks=SHOCKS, readings=READ, **more):
    known = {"ahead": (0, 1), "keep": 0.8} if unknowns is None else unknowns
    return mw.studies.expectations_model(
        equations, data, unknowns=known, shocks=shocks, readings=readings, **more
    )


@functools.cache
def made():
    """Forty times from a known truth, with gaps."""
    noise = np.random.default_rng(1).normal(size=(40, 2))
    first = study({"Price (d)": noise[:, 0], "class": noise[:, 1]})
    truth = {"ahead": 0.9, "rain_sd": 0.7, "price_level": 2, "stock_level": -3}
    table = first.simulate(draws=1, given=truth, seed=2)["equations"].data(0)
    table.loc[4:6, "Price (d)"] = None
    table.loc[39, "class"] = None
    return table


@functools.cache
def found():
    return study(made()).fit(seed=3, chains=2, draws=800, warmup=300, progress=False)


class Right(unittest.TestCase):
    def test_one_unknown_against_quadrature(self):
        held = {"price_level": 2.0, "stock_level": -3.0}
        one = study(made(), shocks={"mood": 0.5, "rain": 0.7}, priors=held)
        posterior = one.fit(seed=1, chains=2, draws=500, warmup=300, progress=False).posterior
        read = ~np.isnan(made().to_numpy().reshape(-1))
        values = (made().to_numpy() - [2.0, -3.0]).reshape(-1)[read]
        grid = np.linspace(0.6, 0.9999, 400)
        kept = posterior.draws.values["ahead"]
        draws = posterior.draws
        trial = type(draws)(draws.binding, {"ahead": grid[None]})
        worlds = one.parts.worlds(trial)
        logs = []
        for at in range(len(grid)):
            whole = covariance_of(worlds, one.parts, at, 40)[np.ix_(read, read)]
            half = np.linalg.solve(np.linalg.cholesky(whole), values)
            logs.append(-0.5 * half @ half - 0.5 * np.linalg.slogdet(whole)[1])
        weights = np.exp(np.array(logs) - max(logs))
        assert_mean_near(self, kept, float(grid @ weights / weights.sum()))

    def test_forecasts_are_the_conditional_normal(self):
        parts = found().study.parts
        one = type(found().posterior.draws)(
            found().posterior.draws.binding,
            {name: values[:1, :1] for name, values in found().posterior.draws.values.items()},
        )
        worlds = parts.worlds(one)
        ahead = forecast_draws(worlds, parts, np.full((4, 2), np.nan), np.random.default_rng(0))
        whole = covariance_of(worlds, parts, 0, 44)
        values = (made().to_numpy() - worlds.levels).reshape(-1)
        read = np.flatnonzero(~np.isnan(values))
        later = np.arange(80, 88)
        tie = np.linalg.solve(whole[np.ix_(read, read)], whole[np.ix_(read, later)])
        mean = (tie.T @ values[read]).reshape(4, 2) + worlds.levels
        spread = whole[np.ix_(later, later)] - whole[np.ix_(later, read)] @ tie
        np.testing.assert_allclose(ahead.means[0], mean, rtol=1e-8)
        root = ahead.spreads[0]
        np.testing.assert_allclose(root @ root.T, spread, rtol=1e-7, atol=1e-9)
        # Readings that are stated pull all others, earlier ones too.
        stated = np.full((4, 2), np.nan)
        stated[2, 0] = mean[2, 0] + 1.0
        again = drawn_given(
            np.repeat(ahead.means, 20_000, axis=0),
            np.repeat(ahead.spreads, 20_000, axis=0),
            stated,
            np.random.default_rng(1),
        ).draws.reshape(20_000, 8)
        want = mean.reshape(-1) + spread[:, 4] / spread[4, 4]
        left = np.sqrt(np.diag(spread) - spread[:, 4] ** 2 / spread[4, 4])
        off = np.abs(again.mean(axis=0) - want)
        self.assertTrue((off < 4.5 * left / 20_000**0.5 + 1e-9).all())
        np.testing.assert_allclose(again.std(axis=0), left, rtol=0.03, atol=1e-6)
        given = found().forecast(4, given={"class": [None, None, 3.0]}, seed=1)
        self.assertTrue((given.draws[:, 2, list(given.series).index("class")] == 3.0).all())
        self.assertIn("stated readings of class", str(given))
        held = np.array([[[1.0, 0.0], [1.0, 0.0]]])
        with self.assertRaisesRegex(ArgumentError, "cannot be together"):
            drawn_given(
                np.zeros((1, 1, 2)), held, np.array([[1.0, 2.0]]), np.random.default_rng(1)
            )
        drawn = found().forecast(4, seed=3)
        self.assertEqual(drawn.draws.shape, (1600, 4, 2))
        self.assertEqual(drawn.labels, ("41", "42", "43", "44"))

    def test_paths_and_shocks_given_all_readings(self):
        paths, shocks = found().paths(draws=100, seed=1), found().shocks(draws=100, seed=1)
        self.assertEqual(paths.names, ("price", "demand", "stock"))
        self.assertEqual(shocks.names, ("mood", "rain"))
        draws = found().posterior.draws
        worlds = found().study.parts.worlds(draws, thinned(draws, 100))
        # A variable that is read without error is where it was read, in every draw.
        values = made().to_numpy()
        middle = np.median(paths.draws, axis=0)
        for at, column in ((0, 0), (2, 1)):
            off = paths.draws[:, :, at] + worlds.levels[:, [column]] - values[:, column]
            # Up to the little that is added to the covariance for rounding.
            self.assertLess(np.nanmax(np.abs(off)), 1e-3)
        price = paths.draws[:, :, 0] + worlds.levels[:, [0]]
        self.assertTrue((price.std(axis=0)[4:7] > 0.05).all())
        # Shocks move the variables as the equations say: demand = 0.8 before + 0.5 mood.
        demand = middle[1:, 1] - 0.8 * middle[:-1, 1]
        mood = np.median(shocks.draws, axis=0)[1:, 0]
        np.testing.assert_allclose(demand, 0.5 * mood, atol=0.15)
        self.assertEqual(len(paths.table()), 3 * 40)
        with self.assertRaises(ArgumentError):
            found().paths(draws=1)

    def test_responses_are_powers_and_shares_add_up(self):
        table = found().responses(horizon=3, shock="unit").table()["median"]
        ahead = np.median(found().posterior.draws.get("ahead").reshape(-1))
        for step in range(4):
            exact = 0.8**step / (1 - 0.8 * ahead)
            self.assertAlmostEqual(table["all", "mood", "price", step], exact, delta=2e-3 * exact)
            self.assertAlmostEqual(table["all", "rain", "stock", step], 0.5**step, places=9)
            self.assertEqual(table["all", "rain", "price", step], 0.0)
        shares = found().shares(horizon=5).draws.sum(axis=-1)
        np.testing.assert_allclose(shares, 1.0)
        summed = found().responses(horizon=3, shock="unit", cumulated=True).table()["median"]
        self.assertAlmostEqual(summed["all", "rain", "stock", 3], 1.875, places=9)

    def test_a_random_walk_from_the_mode_agrees(self):
        walk = mw.RandomWalk(proposal="student_t", start="mode", covariance="mode")
        other = found().study.fit(
            seed=2, chains=2, draws=500, warmup=300, method=walk, progress=False
        )
        self.assertTrue(other.verdict.good)
        for name in ("ahead", "rain_sd"):
            pair = [one.posterior.table().loc[name] for one in (found(), other)]
            self.assertLess(abs(pair[0]["mean"] - pair[1]["mean"]), 0.25 * pair[0]["sd"])

    def test_constants_take_the_place_of_levels(self):
        texts = {"prices": "price = 0.5 * before(price) + base + mood"}
        one = study(made(), texts, {"base": "normal(0, 2)"}, {"mood": "half_normal(2)"}, READ_ONE)
        self.assertEqual(list(one.parts.own_names), ["mood_sd"])
        simulated = one.simulate(draws=400, seed=1, given={"base": 3, "mood_sd": 0.01})
        self.assertAlmostEqual(simulated["equations"].outcomes["Price (d)"].mean(), 6, places=2)


READ_ONE = {"Price (d)": "price"}


class Told(unittest.TestCase):
    def test_the_answer_and_what_was_read(self):
        text = str(found())
        for words in (
            "A shock of one sd of `mood` moves `price` most at once",
            "The slowest root of the stable path is 0.8 at every draw",
            "4 missing readings passed over",
            "Converged",
        ):
            self.assertIn(words, " ".join(text.split()))
        self.assertIn("Price (d) (reads price)", str(found().study))
        self.assertIn("0.", str(found().study.simulate(draws=20)))
        record = json.loads(json.dumps(found().record))
        self.assertEqual(record["responses"][0]["shock"], "mood")

    def test_priors_that_reach_beyond_stable_paths_are_said_and_never_weighed(self):
        wide = study(made(), unknowns={"ahead": (0, 2), "keep": 0.8})
        self.assertIn("have one stable path", " ".join(wide.choices))
        self.assertIn("several; the posterior keeps to those with one", " ".join(wide.choices))
        answer = wide.fit(seed=1, method="random_walk", draws=200, warmup=200, progress=False)
        self.assertLess(answer.posterior.draws.get("ahead").max(), 1)
        with self.assertRaisesRegex(ModelError, "cuts the priors"):
            answer.posterior.bayes_factor("ahead < 0.9")
        whole = found().posterior.bayes_factor("ahead < 0.9")
        self.assertEqual(whole.prior_probability, 0.9)
        mode = wide.model.mode(wide.data_of("equations"))
        self.assertAlmostEqual(float(mode["ahead"]), 0.93, delta=0.05)

    def test_idle_unknowns_are_said(self):
        idle = study(made(), unknowns={"ahead": 0.9, "keep": 0.8, "spare": "normal(0, 1)"})
        self.assertIn("`spare` stands in no equation", " ".join(idle.remarks))

    def test_it_is_stored_and_a_plot_of_prior_series_is_drawn(self):
        with tempfile.TemporaryDirectory() as folder:
            found().save(Path(folder) / "store")
            again = mw.studies.load(Path(folder) / "store")
            self.assertEqual(again.answer, found().answer)
            longer = [one.posterior.extend(10, progress=False) for one in (again, found())]
            np.testing.assert_array_equal(longer[0]["ahead"], longer[1]["ahead"])
            # By itself a run knows the name of its function only: its draws load, no more.
            alone = mw.load(Path(folder) / "store/runs/equations")
            np.testing.assert_array_equal(alone["ahead"], found().posterior["ahead"])
            for ask in (lambda: alone.extend(10), lambda: alone.evidence(unnormalised=True)):
                with self.assertRaisesRegex(ModelError, "needs the function `stable_path`"):
                    ask()
            np.testing.assert_array_equal(
                again.forecast(3, seed=1).draws, found().forecast(3, seed=1).draws
            )
        simulated = found().study.simulate(draws=30, seed=1)["equations"]
        self.assertTrue(mw.plots.prior_data(simulated, "class").axes)
        with self.assertRaises(ArgumentError):
            simulated.data(400)


class Refused(unittest.TestCase):
    def test_what_cannot_be_asked(self):
        stocks = EQUATIONS["stocks"]
        for words, arguments in (
            ("3 equations and 4 variables", {"unknowns": {"keep": 0.8}}),
            ("stands in no equation", {"shocks": {**SHOCKS, "frost": 1}}),
            ("both an unknown and a shock", {"unknowns": {"mood": 1.0, "keep": 0.8, "ahead": 0}}),
            ("which is no variable", {"readings": {"class": "stocks"}}),
            ("There is no column", {"readings": {"Klasse": "stock"}}),
            ("`errors`= names|errors= names", {"errors": {"stock": 1}}),
            ("is a standard deviation", {"shocks": {**SHOCKS, "rain": "normal(0, 1)"}}),
            ("a pair of ends", {"unknowns": {"ahead": (1, 0), "keep": 0.8}}),
            ("Did you mean `price_level`", {"priors": {"prise_level": 1}}),
            ("several stable paths", {"unknowns": {"ahead": (1.1, 2), "keep": 0.8}}),
            (
                "those outside, nearest to the circle first",
                {"unknowns": {"ahead": 0.5, "keep": 1.5}},
            ),
            (
                "not every shock reaches",
                {"equations": {**EQUATIONS, "stocks": "stock = price", "wild": "wild = rain"}},
            ),
            (
                "name a further shock",
                {
                    "equations": {**EQUATIONS, "stocks": stocks.replace("rain", "mood")},
                    "shocks": {"mood": 0.5},
                },
            ),
            ("a word of equations", {"unknowns": {"before": 1.0, "ahead": 0.5, "keep": 0.8}}),
        ):
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words):
                study(made(), **arguments)
        with self.assertRaisesRegex(DataError, "at least 5 times"):
            study(made().head(3))
        with self.assertRaises(ArgumentError):
            found().responses(shock="two")
        with self.assertRaises(ArgumentError):
            found().forecast(0)


class Shell(unittest.TestCase):
    def test_equations_in_a_file(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder)
            STORE.frame.tail(40).to_csv(place / "store.csv", index=False)
            (place / "store.toml").write_text(SHEET)
            call = ("study", "expectations-model", "store.csv", "--equations", "store.toml")
            how = ("--time", "month", "--draws", 60, "--warmup", 100, "--method", "random_walk")
            walk = (
                "--setting",
                "proposal=student_t",
                "--workers",
                1,
                "--ahead",
                2,
                "--json",
                "-q",
            )
            done = run_here(*call, *how, *walk, cwd=place)
            self.assertIn(done.returncode, (0, 1), done.stderr)
            machine = json.loads(done.stdout)
            self.assertEqual(machine["forecast"][0]["time"], "1945-01")
            self.assertIn("cost", machine["table"])
            plan = run_here(*call, "--time", "month", "--plan", cwd=place)
            self.assertIn("have one stable path", plan.stdout)
            (place / "more.toml").write_text(f"{SHEET}[priors]\nstock_level = 140\n")
            stated = ("more.toml", "--prior", "cost=half_normal(0.3)", "--plan")
            plan = run_here(*call[:-1], *stated, cwd=place)
            for words in ("stock_level = 140", "cost ~ half_normal(scale=0.3)"):
                self.assertIn(words, plan.stdout)
            wrong = run_here(*call, "--group", "x", cwd=place).stderr
            self.assertIn("takes no --group. It takes: --equations, --time.", wrong)
            for text, words in (
                (SHEET + "[shock]\nrain = 1\n", "there is no part `shock`. Did you mean `shocks`"),
                ("equations = 'x = e'\n", "lacks the part `unknowns`"),
                ("equations = \n", "no TOML file"),
            ):
                (place / "bad.toml").write_text(text)
                done = run_here(*call[:-1], "bad.toml", cwd=place)
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)
            self.assertIn("--equations FILE", run_here(*call[:-2], cwd=place).stderr)


SHEET = '''equations = """
price = 0.98 * expected(price) - cost * stock
stock = before(stock) + rain - sales
sales = appetite - elasticity * price
appetite = 0.8 * before(appetite) + mood
"""
readings = ["price", "stock"]
[unknowns]
cost = "half_normal(0.2)"
elasticity = "half_normal(2)"
[shocks]
mood = "half_normal(5)"
rain = "half_normal(10)"
'''


if __name__ == "__main__":
    unittest.main()
