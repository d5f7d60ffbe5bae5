"""Fits that are stopped, killed, extended or moved elsewhere give the draws of one long fit."""

import errno
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import jax.numpy as jnp
import numpy as np

import millwright as mw
from millwright.errors import ArgumentError, Interrupted, StorageError
from millwright.storage import parts
from millwright.storage.lock import locked

METHODS = ("no_u_turn", "fixed_length", "random_walk", "ensemble", "tempering", "rejection")
MODEL = mw.Model(
    priors={
        "level": "normal(0, 3)",
        "spread": "half_normal(2)",
        "e": "normal(0, spread) per mill",
    },
    likelihood={"load": "normal(level + e[mill], 1)"},
)
DATA = {"mill": ["a", "b", "c", "a", "b", "c"], "load": [1.0, 2.0, 0.5, 1.5, 2.5, 0.1]}
TARGET = mw.Target(
    lambda x, y: -0.5 * (x**2 + (y - x) ** 2) + 0.1 * jnp.cos(x), {"x": "real", "y": (-9, 9)}
)

SCRIPT = """
import sys
import tests.models.test_runs as here
import millwright as mw
here.MODEL.fit(here.DATA, seed=5, draws=8_000, warmup=200, save=sys.argv[1], progress=False)
"""


def stop_after(share):
    """Stop once every chain, which take turns, is beyond a share of its draws."""

    def listen(progress):
        if progress.stage == "sampling" and all(
            chain.done > share * chain.total for chain in progress.chains
        ):
            raise KeyboardInterrupt

    return listen


class Folder(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.path = Path(place.name) / "run"


class Extending(Folder):
    def test_every_method_goes_on_to_the_draws_of_one_longer_fit(self):
        for method in METHODS:
            with self.subTest(method=method):
                settings = {"method": method, "warmup": 150, "seed": 3, "progress": False}
                whole = TARGET.fit(draws=120, **settings)
                part = TARGET.fit(draws=70, **settings)
                longer = part.extend(50, progress=False)
                np.testing.assert_array_equal(longer["y"], whole["y"])
                self.assertEqual(part.draws.shape[1], 70)
                self.assertTrue(longer.record.extended)
                steps = [fit.fit.statistics["evaluations"].sum() for fit in (longer, whole)]
                self.assertEqual(*steps)

    def test_a_dense_metric_and_groups_go_on_too(self):
        settings = {"metric": "dense", "seed": 2, "warmup": 200, "progress": False}
        whole = MODEL.fit(DATA, draws=150, **settings)
        MODEL.fit(DATA, draws=100, save=self.path, **settings)
        loaded = mw.load(self.path).extend(50, progress=False)
        stored = mw.resume(self.path, draws=150, progress=False)
        for fit in (loaded, stored):
            np.testing.assert_array_equal(fit["e"], whole["e"])
            self.assertEqual({c["metric"] for c in fit.record.chains}, {"dense"})

    def test_parts_that_fill_up_hold_the_same_draws(self):
        with (
            mock.patch("millwright.storage.writing.rows_per_part", return_value=32),
            mock.patch("millwright.fitting.in_memory.rows_per_part", return_value=32),
            mock.patch("millwright.fitting.in_folder.rows_per_part", return_value=32),
        ):
            settings = {"seed": 2, "warmup": 100, "progress": False}
            whole = MODEL.fit(DATA, draws=150, **settings)
            short = MODEL.fit(DATA, draws=70, **settings)
            short.save(self.path)
            found = mw.resume(self.path, draws=150, progress=False)
            self.assertEqual(len(list((self.path / "draws").glob("chain-01-*"))), 5)
            np.testing.assert_array_equal(found["e"], whole["e"])
            np.testing.assert_array_equal(short.extend(80, progress=False)["e"], whole["e"])

    def test_a_longer_run_has_a_place_of_its_own(self):
        part = TARGET.fit(draws=30, warmup=100, progress=False)
        longer = part.extend(20, save=self.path, progress=False)
        np.testing.assert_array_equal(mw.load(self.path)["x"], longer["x"])

    def test_arguments_that_make_no_sense(self):
        part = TARGET.fit(draws=30, warmup=100, save=self.path, progress=False)
        for call, words in (
            (lambda: part.extend(0), "from 1"),
            (lambda: TARGET.check_workers(3), "Executor"),
            (lambda: part.extend(2.5), "from 1"),
            (lambda: mw.resume(self.path, draws=10, model=TARGET), "can only be more"),
            (lambda: MODEL.normal_approximation(DATA).extend(5), "do not come from chains"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                call()


class Thinning(unittest.TestCase):
    def test_every_kth_draw_is_kept(self):
        for method in METHODS[:5]:
            with self.subTest(method=method):
                settings = {"method": method, "warmup": 100, "seed": 1, "progress": False}
                every = TARGET.fit(draws=60, **settings)
                third = TARGET.fit(draws=20, thin=3, **settings)
                kept = every.draws.get("x")[:, 2::3]
                np.testing.assert_array_equal(third.draws.get("x"), kept)
                self.assertEqual(
                    third.fit.statistics["evaluations"].sum(),
                    every.fit.statistics["evaluations"].sum(),
                )


class Stopping(Folder):
    def test_ctrl_c_keeps_what_is_done_and_the_run_goes_on(self):
        settings = {"seed": 5, "draws": 24_000, "warmup": 200}
        for share in (-1.0, 0.05):
            path = self.path.with_name(f"run-{share}")
            with self.assertRaisesRegex(Interrupted, "mw.resume"):
                MODEL.fit(DATA, save=path, progress=stop_after(share), **settings)
        kept = mw.load(path)
        self.assertFalse(kept.record.complete)
        self.assertIn("mw.resume", str(kept.verdict))
        self.assertLess(kept.draws.shape[1], 24_000)
        found = mw.resume(path, progress=False)
        whole = MODEL.fit(DATA, progress=False, **settings)
        np.testing.assert_array_equal(found["level"], whole["level"])
        self.assertTrue(found.record.complete)

    def test_a_stopped_fit_in_memory_goes_on(self):
        settings = {"seed": 5, "draws": 24_000, "warmup": 200}
        with self.assertRaisesRegex(Interrupted, "extend") as caught:
            MODEL.fit(DATA, progress=stop_after(0.05), **settings)
        kept = caught.exception.posterior
        n = kept.draws.shape[1]
        longer = kept.extend(100, progress=False)
        np.testing.assert_array_equal(longer.draws.get("level")[:, :n], kept.draws.get("level"))
        self.assertEqual(longer.draws.shape[1], n + 100)

    def test_chains_of_unequal_length_go_on_in_their_folder_only(self):
        part = TARGET.fit(draws=30, warmup=50, progress=False)
        ahead = replace(part.fit.warmup_record.chains[0], full=1)
        record = replace(
            part.fit.warmup_record, chains=(ahead, *part.fit.warmup_record.chains[1:])
        )
        uneven = mw.Posterior(replace(part.fit, warmup_record=record))
        with self.assertRaisesRegex(ArgumentError, "mw.resume"):
            uneven.extend(10, progress=False)
        uneven.save(self.path)
        np.testing.assert_array_equal(mw.load(self.path)["x"], part["x"])

    def test_a_killed_run_goes_on_to_the_same_draws(self):
        process = subprocess.Popen([sys.executable, "-c", SCRIPT, str(self.path)])
        there = self.path / "statistics"
        until = time.monotonic() + 120
        while len(list(there.glob("chain-*-000001.parquet"))) < 4 and time.monotonic() < until:
            time.sleep(0.02)
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
        self.assertFalse(mw.load(self.path).record.complete)
        found = mw.resume(self.path, progress=False)
        whole = MODEL.fit(DATA, seed=5, draws=8_000, warmup=200, progress=False)
        np.testing.assert_array_equal(found["level"], whole["level"])

    def test_a_full_disk_loses_nothing_that_was_stored(self):
        settings = {"seed": 5, "draws": 5000, "warmup": 100, "progress": False}
        written = []

        def fill_up(*arguments, **named):
            written.append(1)
            if len(written) > 10:
                raise OSError(errno.ENOSPC, "No space left on device")
            parts.write_part(*arguments, **named)

        full = self.assertRaisesRegex(StorageError, "No space left.*make room")
        with mock.patch("millwright.storage.writing.write_part", fill_up), full:
            MODEL.fit(DATA, save=self.path, **settings)
        found = mw.resume(self.path, progress=False)
        np.testing.assert_array_equal(found["e"], MODEL.fit(DATA, **settings)["e"])


class Places(Folder):
    def test_the_folder_is_locked_while_in_use(self):
        TARGET.fit(draws=20, warmup=50, save=self.path, progress=False)
        with locked(self.path):
            for call in (
                lambda: mw.resume(self.path, draws=40, model=TARGET),
                lambda: TARGET.fit(draws=20, save=self.path, replace=True, progress=False),
            ):
                with self.assertRaisesRegex(StorageError, "in use"):
                    call()

    def test_going_on_where_the_fit_is_the_same(self):
        settings = {"seed": 3, "warmup": 100, "save": self.path, "progress": False}
        MODEL.fit(DATA, draws=40, resume=True, **settings)
        again = MODEL.fit(DATA, draws=40, resume=True, **settings)
        self.assertEqual(again.draws.shape[1], 40)
        more = MODEL.fit(DATA, draws=60, resume=True, **settings)
        self.assertEqual(more.draws.shape[1], 60)
        for change, words in (
            ({"seed": 4}, "the seeds differ"),
            ({"warmup": 50}, "the warm-ups differ"),
            ({"method": "random_walk"}, "the methods differ"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(StorageError, words):
                MODEL.fit(DATA, draws=60, resume=True, **{**settings, **change})
        other = {**DATA, "load": [9.0, *DATA["load"][1:]]}
        with self.assertRaisesRegex(StorageError, "the data differ"):
            MODEL.fit(other, draws=60, resume=True, **settings)


class WarmUps(Folder):
    def test_the_path_of_the_warm_up_is_kept_with_a_run(self):
        settings = {"draws": 50, "warmup": 80, "seed": 2, "progress": False}
        for method in ("no_u_turn", "random_walk"):
            with self.subTest(method=method):
                place = self.path.with_name(method)
                fit = TARGET.fit(method=method, save=place, **settings)
                memory = TARGET.fit(method=method, **settings)
                path = memory.fit.warmup_record.warmup_values(memory.draws).values["x"]
                self.assertEqual(path.shape, (4, 80))
                again = mw.load(place, model=TARGET)
                for one in (fit, again):
                    found = one.fit.warmup_record.warmup_values(one.draws).values["x"]
                    np.testing.assert_array_equal(found, path)
        walkers = TARGET.fit(method="ensemble", **settings)
        self.assertIsNone(walkers.fit.warmup_record.warmup_values(walkers.draws))


class Trials(unittest.TestCase):
    def test_a_trial_is_short_and_says_so(self):
        fit = MODEL.fit(DATA, trial=True, progress=False)
        self.assertEqual(fit.draws.shape, (4, 200))
        self.assertIn("This was a trial", str(fit.verdict))
        self.assertFalse(fit.verdict.good)


class HowItWasSampled(unittest.TestCase):
    def test_statistics_and_adaptation_are_labelled(self):
        fit = MODEL.fit(DATA, draws=50, warmup=150, progress=False)
        warm = fit.sampling.statistics(warmup=True)
        self.assertEqual(dict(warm.sizes), {"chain": 4, "iteration": 150})
        self.assertEqual(dict(fit.sampling.statistics().sizes), {"chain": 4, "iteration": 50})
        found = fit.sampling.adaptation()
        self.assertEqual(
            list(found["coordinate"].values), ["level", "spread", "e[a]", "e[b]", "e[c]"]
        )
        self.assertTrue((found["scale"] > 0).all())
        last = warm["step_size"].isel(iteration=-1).values
        self.assertTrue(np.all(found["step_size"].values / last > 0.2))

    def test_divergences_are_kept_with_their_place(self):
        funnel = mw.Target(
            lambda v, x: -0.5 * (v / 3) ** 2 - 0.5 * (x * jnp.exp(-v / 2)) ** 2 - v / 2,
            {"v": "real", "x": "real"},
        )
        fit = funnel.fit(draws=300, warmup=300, seed=1, progress=False)
        places = fit.sampling.divergences()
        self.assertEqual(len(places), fit.fit.statistics["diverged"].sum())
        self.assertLess(places["v"].median(), np.quantile(fit["v"], 0.3))
        self.assertIn("`v` is small", " ".join(str(fit.verdict).split()))
        self.assertEqual(
            list(TARGET.fit(draws=20, progress=False).sampling.divergences()),
            ["chain", "iteration", "x", "y"],
        )


if __name__ == "__main__":
    unittest.main()
