"""The public model: bad arguments, starting points, interruption."""

import tempfile
import unittest
from pathlib import Path

import millwright as mw
from millwright.errors import ArgumentError, Interrupted, StartError, StorageError

FRAME = mw.demo.load("drying_loft").frame


class Fit(unittest.TestCase):
    def setUp(self):
        self.model = mw.Model.read(mw.demo.sheet_path("drying.toml"))

    def test_bad_arguments_name_the_argument(self):
        cases = [
            {"chains": 0},
            {"draws": 0},
            {"draws": 2.5},
            {"warmup": -1},
            {"seed": -1},
            {"seed": "x"},
            {"workers": 0},
            {"max_depth": 0},
            {"max_depth": 40},
            {"target_acceptance": 1.5},
            {"save": "x", "replace": True, "resume": True},
        ]
        for bad in cases:
            with self.subTest(bad=bad), self.assertRaises(ArgumentError) as caught:
                self.model.fit(FRAME, progress=False, **bad)
            self.assertIn(list(bad)[-1], str(caught.exception))

    def test_no_finite_start_names_the_definition_and_values_tried(self):
        model = mw.Model(
            priors={"level": "normal(0, 1, high=-1)"},
            likelihood={"moisture": "normal(18, sqrt(level))"},
        )
        with self.assertRaises(StartError) as caught:
            model.fit(FRAME, progress=False)
        for words in ("`moisture`", "sqrt(level)", "level = -"):
            self.assertIn(words, str(caught.exception))

    def test_interruption_carries_the_posterior_so_far(self):
        def stop(progress):
            if progress.stage == "sampling" and all(c.done > 1500 for c in progress.chains):
                raise KeyboardInterrupt

        with self.assertRaises(Interrupted) as caught:
            self.model.fit(FRAME, draws=40_000, progress=stop, seed=1)
        kept = caught.exception.posterior
        self.assertFalse(kept.record.complete)
        self.assertGreater(kept.draws.shape[1], 100)

    def test_interruption_in_the_warm_up_keeps_nothing(self):
        def stop(progress):
            if progress.stage == "sampling":
                raise KeyboardInterrupt

        with tempfile.TemporaryDirectory() as folder:
            run = Path(folder) / "run"
            with self.assertRaisesRegex(Interrupted, "the warm-up so far") as caught:
                self.model.fit(FRAME, warmup=10**6, draws=10, progress=stop, save=run)
            self.assertIsNone(caught.exception.posterior)
            with self.assertRaisesRegex(StorageError, "stopped in its warm-up"):
                mw.load(run)
        with self.assertRaisesRegex(Interrupted, "before every chain"):
            self.model.fit(FRAME, warmup=10**6, draws=10, progress=stop)

    def test_short_fits_and_one_chain_work(self):
        for settings in ({"chains": 1}, {"warmup": 0}, {"draws": 1}, {"warmup": 7, "draws": 9}):
            with self.subTest(settings=settings):
                settings = {"draws": 30, "warmup": 30, "chains": 2, **settings}
                posterior = self.model.fit(FRAME, progress=False, **settings)
                self.assertIn("Verdict", str(posterior))

    def test_data_are_not_changed(self):
        before = FRAME.copy()
        self.model.fit(FRAME, draws=10, warmup=10, progress=False)
        self.assertTrue(FRAME.equals(before))

    def test_representation_names_the_parts(self):
        self.assertIn("start", repr(self.model))


if __name__ == "__main__":
    unittest.main()
