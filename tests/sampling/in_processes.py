"""Chains in threads, processes and other executors: the same draws, and workers that fail.

These tests start processes of their own, so they do not run within the parallel ones.
"""

import multiprocessing
import os
import subprocess
import sys
import tempfile
import threading
import unittest
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path

import jax.numpy as jnp
import loky
import numpy as np

import millwright as mw
from millwright.errors import ArgumentError, WorkerError

TARGET = mw.Target(lambda x, y: -0.5 * (x**2 + (y - x) ** 2), {"x": "real", "y": "real"})
SETTINGS = {"draws": 60, "warmup": 100, "seed": 2, "progress": False}


def spawned(workers=2):
    return ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("spawn"))


def dies_once(marker):
    """A black box whose first caller in another process dies."""
    home = os.getpid()

    def density(x):
        if os.getpid() != home and not Path(marker).exists():
            Path(marker).touch()
            os._exit(1)
        return -0.5 * float(x) ** 2

    return density


# Factorises batches of matrices in as many threads as the machine has cores, over and over.
BATCHES = """
import os
from concurrent.futures import ThreadPoolExecutor
import jax, jax.numpy as jnp, numpy as np
from millwright.sampling.compiling import compiled
jax.config.update("jax_enable_x64", True)

def factors(rounds, x, data):
    again = lambda _, y: jnp.linalg.cholesky(data + y @ y.swapaxes(-1, -2))
    return jax.lax.fori_loop(0, rounds, again, x)

arguments = np.zeros((32, 40, 40)), np.tile(np.eye(40), (32, 1, 1))
run = compiled(factors, 10, arguments)
one = np.asarray(run(*arguments))
with ThreadPoolExecutor(os.cpu_count()) as threads:
    for _ in range(5):
        for found in threads.map(lambda _: np.asarray(run(*arguments)), range(os.cpu_count())):
            np.testing.assert_array_equal(found, one)
"""


class Batches(unittest.TestCase):
    def test_programs_that_share_their_matrices_out_do_not_wait_for_each_other(self):
        done = subprocess.run([sys.executable, "-c", BATCHES], timeout=90, capture_output=True)
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_many_processes_are_fitted_side_by_side(self):
        kernel = "squared_exponential(day, scale=1, length=length)"
        model = mw.Model(
            priors={"length": "inverse_gamma(shape=4, scale=8)", "noise": "half_normal(1)"},
            likelihood={"level": f"gaussian_process(0, noise=noise, kernel={kernel})"},
        )
        make, day = np.random.default_rng(3), np.arange(40.0)
        sets = {
            at: {"day": day, "level": np.sin(day / at) + make.normal(0, 0.5, 40)}
            for at in (3, 4, 5, 6)
        }
        found = model.fit_each(sets, workers=2, **SETTINGS)
        self.assertEqual(len(found.table("length")), 4)


class Same(unittest.TestCase):
    def test_threads_processes_and_any_executor_give_the_same_draws(self):
        here = TARGET.fit(**SETTINGS)
        with ThreadPoolExecutor(2) as threads, spawned() as processes:
            self.assertGreaterEqual(TARGET.check_workers(processes), 1)
            for executor in (threads, processes):
                there = TARGET.fit(workers=executor, **SETTINGS)
                np.testing.assert_array_equal(there["y"], here["y"])

    def test_many_data_sets_in_other_processes(self):
        model = mw.Model(priors={"m": "normal(0, 2)"}, likelihood={"y": "normal(m, 1)"})
        sets = {name: {"y": np.arange(float(name))} for name in (3, 4, 5)}
        with spawned(1) as workers:
            far = model.fit_each(sets, workers=workers, **SETTINGS)
        near = model.fit_each(sets, **SETTINGS)
        np.testing.assert_allclose(far.table("m")["mean"], near.table("m")["mean"])

    def test_a_worker_that_dies_is_replaced_and_its_work_done_again(self):
        with tempfile.TemporaryDirectory() as folder:
            target = mw.Target(dies_once(f"{folder}/died"), {"x": "real"}, black_box=True)
            settings = {**SETTINGS, "draws": 20, "warmup": 20}
            there = target.fit(workers=2, **settings)
            self.assertTrue(Path(f"{folder}/died").exists())
        np.testing.assert_array_equal(there["x"], target.fit(**settings)["x"])


SCRIPT = """
import pathlib
import millwright as mw
with open({seen!r}, "a") as log:
    log.write("run\\n")
target = mw.Target(lambda x, y: -0.5 * (x * x + y * y), {{"x": "real", "y": "real"}},
                   black_box=True)
for method in ("random_walk", "ensemble"):
    posterior = target.fit(seed=1, draws=50, warmup=50, workers=2, method=method, progress=False)
    print(posterior["x"].shape)
"""


class PlainScripts(unittest.TestCase):
    def test_a_script_without_a_guard_runs_once(self):
        with tempfile.TemporaryDirectory() as folder:
            seen, script = Path(folder, "seen"), Path(folder, "script.py")
            script.write_text(SCRIPT.format(seen=str(seen)))
            done = subprocess.run(
                [sys.executable, str(script)], capture_output=True, text=True, timeout=240
            )
            self.assertEqual((done.returncode, done.stderr), (0, ""))
            self.assertEqual(seen.read_text().split(), ["run"])


class Trouble(unittest.TestCase):
    def test_a_pool_of_the_users_that_breaks(self):
        with tempfile.TemporaryDirectory() as folder, spawned(1) as executor:
            target = mw.Target(dies_once(f"{folder}/died"), {"x": "real"}, black_box=True)
            with self.assertRaisesRegex(WorkerError, "mw.resume"):
                target.fit(workers=executor, **SETTINGS)

    def test_processes_that_fork_are_refused(self):
        context = multiprocessing.get_context("fork")
        executor = ProcessPoolExecutor(1, mp_context=context)
        with self.assertRaisesRegex(ArgumentError, "spawned, not forked"):
            TARGET.fit(workers=executor, **SETTINGS)
        executor.shutdown()

    def test_what_cannot_be_sent_is_refused_before_a_long_fit(self):
        lock = threading.Lock()

        def density(x):
            with lock:
                return -0.5 * x**2

        target = mw.Target(density, {"x": "real"})
        refused = self.assertRaisesRegex(WorkerError, "cannot be sent")
        with ThreadPoolExecutor(1) as executor, refused:
            target.check_workers(executor)

    def test_errors_in_workers_are_the_models_own(self):
        target = mw.Target(lambda x: jnp.nan * x, {"x": "real"})
        refused = self.assertRaisesRegex(mw.errors.StartError, "`target`")
        with ThreadPoolExecutor(1) as executor, refused:
            target.fit(workers=executor, **SETTINGS)

    def test_a_walk_on_equations_with_expectations(self):
        noise = np.random.default_rng(1).normal(size=(2, 20))
        study = mw.studies.expectations_model(
            "price = b * expected(price) + demand + e\ndemand = 0.8 * before(demand) + f",
            {"price": noise[0], "demand": noise[1]},
            unknowns={"b": (0, 1)},
            shocks={"e": "half_normal(1)", "f": "half_normal(1)"},
            readings=["price", "demand"],
        )
        walk = mw.RandomWalk(proposal="student_t", start="mode", covariance="mode")
        model, data = study.model, study.data_of("equations")
        with loky.ProcessPoolExecutor(2) as executor:
            self.assertGreater(model.check_workers(executor, data, method=walk), 0)
            there = study.fit(method=walk, workers=executor, **SETTINGS).posterior
        here = study.fit(method=walk, **SETTINGS).posterior
        np.testing.assert_array_equal(there["b"], here["b"])

    def test_numbers_of_workers_that_make_no_sense(self):
        for workers in (0, -1, 1.5, "two"):
            with self.subTest(workers=workers), self.assertRaises(ArgumentError):
                TARGET.fit(workers=workers, **SETTINGS)


if __name__ == "__main__":
    unittest.main()
