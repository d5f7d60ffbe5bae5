"""Many data sets: exact answers, shapes, failures, folders, and what is fitted again."""

import shutil
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import ArgumentError, DataError, StorageError
from millwright.fitting.many import _by_shape
from millwright.fitting.plan import FitPlan
from millwright.fitting.target import target_in_shape, target_of
from millwright.sampling.compiling import compilations
from millwright.sampling.methods import FixedLength
from tests.fits import assert_mean_near

KNOWN = mw.Model(priors={"level": "normal(0, 2)"}, likelihood={"moisture": "normal(level, 1)"})
LINE = mw.Model(
    priors={"start": "normal(20, 5)", "slope": "normal(0, 1)", "noise": "half_normal(2)"},
    likelihood={"moisture": "normal(start + slope * hours, noise)"},
)
GROUPS = mw.Model(
    priors={
        "middle": "normal(20, 5)",
        "spread": "half_normal(2)",
        "effect": "normal(middle, spread) per stone",
        "noise": "half_normal(2)",
    },
    likelihood={"moisture": "normal(effect[stone], noise)"},
)

FUNNEL = mw.Model(
    priors={"width": "normal(0, 3)", "level": "normal(0, exp(width / 2)) per stone"},
    likelihood={"seen": "normal(level[stone], 50)"},
)
FUNNEL_DATA = {"stone": list("ABCDEFGH"), "seen": np.zeros(8)}


def line_data(rows, seed=0):
    random = np.random.default_rng([seed, rows])
    hours = random.uniform(0, 10, rows)
    return {"hours": hours, "moisture": 20 - 0.5 * hours + random.normal(0, 1, rows)}


class Answers(unittest.TestCase):
    def test_every_data_set_gets_its_exact_posterior(self):
        random = np.random.default_rng(3)
        sets = {f"loft {n}": {"moisture": random.normal(1.0, 1.0, n)} for n in (1, 4, 9, 30)}
        fits = KNOWN.fit_each(sets, seed=2, draws=500, warmup=300, progress=False)
        self.assertTrue(fits.good)
        self.assertEqual(list(fits), list(sets))
        for name, data in sets.items():
            y = data["moisture"]
            precision = len(y) + 0.25
            level = fits[name].draws.get("level")
            assert_mean_near(self, level, y.sum() / precision)
            assert_mean_near(self, (level - y.sum() / precision) ** 2, 1 / precision)
        seeds = {fits[name].record.seed for name in fits}
        self.assertEqual(len(seeds), len(sets))
        # Another run, and one with other workers, give the same table to the last rounding.
        again = KNOWN.fit_each(sets, seed=2, draws=500, warmup=300, workers=1, progress=False)
        np.testing.assert_allclose(
            again.table("level")["mean"], fits.table("level")["mean"], atol=1e-9
        )

    def test_groups_agree_with_single_fits(self):
        frame = pd.DataFrame(line_data(120)).assign(
            stone=np.tile(list("ABCDEF"), 20), site=np.repeat(["Upper", "Weir, old", "3"], 40)
        )
        fits = GROUPS.fit_each(frame, by="site", seed=1, progress=False)
        self.assertEqual(list(fits), ["Upper", "Weir, old", "3"])
        one = GROUPS.fit(frame[frame.site == "Upper"], seed=5, progress=False)
        for name in ("middle", "spread", "effect[C]", "noise"):
            a, b = fits["Upper"].draws.single()[name], one.draws.single()[name]
            error = np.hypot(*(mw_error(x) for x in (a, b)))
            self.assertLess(abs(a.mean() - b.mean()), 4.5 * error, name)
        table = fits.table("effect")
        self.assertEqual(table.index.names, ["site", "quantity"])
        self.assertEqual(len(table), 18)
        self.assertIn("Upper  effect[A]", fits.summary("effect"))

    def test_filled_up_rows_leave_the_density_as_it_is(self):
        binomial = mw.Model(
            priors={"base": "normal(0, 2)", "by_mill": "normal(0, 1) per mill"},
            likelihood={
                "cracked": "binomial(trials=stones, probability=expit(base + by_mill[mill]))"
            },
        )
        random = np.random.default_rng(4)
        counts = [
            {
                "mill": list("AB") * n,
                "stones": [9] * 2 * n,
                "cracked": random.integers(0, 9, 2 * n),
            }
            for n in (1, 3, 7)
        ]
        cases = [(LINE, [line_data(n) for n in (3, 8, 20)]), (binomial, counts)]
        for model, sets in cases:
            plan = FitPlan()
            jobs = {n: plan.job_of(model.bind(d), FixedLength()) for n, d in enumerate(sets)}
            ((group, places),) = _by_shape(jobs)
            self.assertEqual(len(group), 3)
            for job in group.values():
                q = random.normal(0, 1, (40, job.binding.dimension))
                plain = target_of(job.binding).plain(q)
                filled = target_in_shape(job.binding, places).plain(q)
                np.testing.assert_allclose(filled, plain, rtol=1e-13)

    def test_other_labels_and_rows_compile_nothing(self):
        def sets(names, seed):
            return [
                {**line_data(n, seed), "stone": np.array(names)[np.arange(n) % 4]}
                for n in (21, 22, 24)
            ]

        GROUPS.fit_each(sets(["A", "B", "C", "D"], 1), draws=150, warmup=150, progress=False)
        before = compilations()
        other = sets(["Old one", "2", "x y", "Z"], 2)
        GROUPS.fit_each(other, draws=150, warmup=150, progress=False, method="fixed_length")
        self.assertEqual(compilations(), before)


class Doubts(unittest.TestCase):
    def test_what_the_quick_way_does_badly_is_fitted_again_and_said(self):
        fits = FUNNEL.fit_each(
            [FUNNEL_DATA] * 3, seed=3, parameterisation="centred", draws=300, progress=False
        )
        self.assertTrue(fits.again)
        for name in fits.again:
            self.assertEqual(fits[name].record.method["method"], "no_u_turn")
        self.assertIn("fitted again by the no-U-turn sampler", str(fits))

    def test_divergences_of_the_second_sampler_are_judged(self):
        fit = FUNNEL.fit(
            FUNNEL_DATA, seed=1, method="fixed_length", parameterisation="centred", progress=False
        )
        self.assertFalse(fit.verdict.good)
        self.assertIn("Acceptance", str(fit.verdict))

    def test_several_modes_send_all_to_the_usual_sampler(self):
        two = mw.Model(
            priors={"level": "normal(0, 3)"}, likelihood={"moisture": "normal(level ** 2, 0.5)"}
        )
        sets = [{"moisture": np.full(5, value)} for value in (4.0, 5.0, 6.0)]
        fits = two.fit_each(sets, seed=1, draws=200, warmup=200, progress=False)
        for fit in fits.values():
            self.assertEqual(fit.record.method["method"], "no_u_turn")
            self.assertFalse(fit.verdict.good)


class Failures(unittest.TestCase):
    def test_one_bad_data_set_is_named_and_stops_nothing(self):
        bad = {**line_data(5), "moisture": [1.0, np.nan, 2.0, 3.0, 4.0]}
        sets = {"a": line_data(9), "bad $x$\n": bad, "b": line_data(12), "c": line_data(10)}
        fits = LINE.fit_each(sets, seed=1, draws=200, warmup=200, progress=False)
        self.assertEqual(list(fits), ["a", "b", "c"])
        self.assertIn("row 2", fits.failures["bad $x$\n"])
        self.assertIn("1 FAILED", str(fits))
        self.assertTrue(fits.table("slope")["verdict"].iloc[-1].startswith("FAILED"))
        with self.assertRaisesRegex(ArgumentError, "could not be fitted"):
            fits["bad $x$\n"]
        figure = mw.plots.intervals(fits, "slope", reference={"a": -0.5})
        labels = [t.get_text() for t in figure.axes[0].get_yticklabels()]
        self.assertEqual([label.split(" ")[0] for label in labels], ["a", "b", "c"])
        self.assertIn("Not fitted: bad", figure._supxlabel.get_text())

    def test_no_data_set_with_a_starting_point(self):
        model = mw.Model(
            priors={"rate": "normal(0, 1)"}, likelihood={"stops": "poisson(rate=-exp(rate))"}
        )
        sets = [{"stops": [1.0, 2.0]}] * 3
        fits = model.fit_each(sets, draws=100, warmup=100, progress=False)
        self.assertEqual(len(fits), 0)
        self.assertIn("3 FAILED", str(fits))
        self.assertIn("No starting point", fits.failures[1])
        with self.assertRaisesRegex(ArgumentError, "None of the data sets"):
            fits.table("rate")

    def test_bad_calls(self):
        frame = pd.DataFrame(line_data(8)).assign(site=["x", None] * 4)
        calls = {
            lambda: LINE.fit_each(frame): "one table with `by`",
            lambda: LINE.fit_each([]): "no data sets",
            lambda: LINE.fit_each([frame, 3]): "data set 2",
            lambda: LINE.fit_each(frame, by=3): "name of a column",
            lambda: LINE.fit_each([frame], by="site"): "one table",
            lambda: LINE.fit_each({"t": frame}, by="site"): "several tables",
            lambda: LINE.fit_each([frame], workers=0): "workers",
            lambda: LINE.fit_each([frame], chains=0): "chains",
            lambda: LINE.fit_each([{}, {}]): "None of the 2 data sets",
        }
        for call, words in calls.items():
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                call()
        for by, words in (("sit", "Did you mean `site`"), ("site", "no value in 4 rows")):
            with self.assertRaisesRegex(DataError, words):
                LINE.fit_each(frame, by=by)


class Folders(unittest.TestCase):
    def setUp(self):
        temporary = tempfile.TemporaryDirectory()
        self.addCleanup(temporary.cleanup)
        self.path = Path(temporary.name) / "runs"
        self.sets = {"Upper": line_data(9), "a/b\\c": line_data(12), "ü": line_data(11)}
        self.settings = {"seed": 4, "draws": 200, "warmup": 200, "progress": False}

    def test_finished_fits_are_kept_and_others_made(self):
        first = LINE.fit_each(self.sets, save=self.path, **self.settings)
        shutil.rmtree(next(self.path.glob("002*")))
        again = LINE.fit_each(self.sets, save=self.path, resume=True, **self.settings)
        for name in ("Upper", "ü"):
            np.testing.assert_array_equal(
                again[name].draws.get("slope"), first[name].draws.get("slope")
            )
        longer = mw.resume(self.path / "001-Upper", draws=250, progress=False)
        self.assertEqual(longer.draws.shape, (4, 250))
        np.testing.assert_array_equal(
            longer.draws.get("slope")[:, :200], first["Upper"].draws.get("slope")
        )
        shutil.rmtree(self.path / "001-Upper")
        LINE.fit_each(self.sets, save=self.path, resume=True, **self.settings)
        stored = mw.load_each(self.path)
        self.assertEqual(list(stored), list(self.sets))
        self.assertEqual(
            stored["a/b\\c"].draws.get("slope").mean(), again["a/b\\c"].draws.get("slope").mean()
        )
        del self.settings["seed"]
        with self.assertRaisesRegex(StorageError, "the seeds differ"):
            LINE.fit_each(self.sets, save=self.path, resume=True, seed=5, **self.settings)
        with self.assertRaisesRegex(StorageError, "exists already"):
            LINE.fit_each(self.sets, save=self.path, **self.settings)
        with self.assertRaisesRegex(StorageError, "does not hold runs"):
            mw.load_each(self.path / "001-Upper")


def mw_error(draws):
    from millwright.diagnostics.convergence import mean_error

    return mean_error(draws[..., None])[0]
