"""Draws of another program: checked and summarised, and refused where they are none."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import DataError, MillwrightError, StorageError
from tests.fits import straight


class DrawnElsewhere(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.frame = straight().to_dataframe().rename(columns={"drying": "slope[1]"})

    def test_one_file_or_one_a_chain_are_the_same_posterior(self):
        self.frame.to_csv(self.folder / "all.csv", index=False)
        whole = mw.read_draws(self.folder / "all.csv")
        paths = []
        for chain, part in self.frame.groupby("chain"):
            paths.append(self.folder / f"{chain}.csv")
            part.drop(columns="chain").to_csv(paths[-1], index=False)
        parts = mw.read_draws(paths)
        for found in (whole, parts):
            # Only the model would say that `noise` cannot be negative.
            known, wanted = found.table(), straight().table()
            wanted.loc["noise", "probability above 0"] = 1.0
            np.testing.assert_allclose(known.to_numpy(float), wanted.to_numpy(float), rtol=1e-9)
            np.testing.assert_array_equal(
                found["slope_1"].values.reshape(4, 1000), straight().draws.get("drying")
            )
        self.assertTrue(whole.verdict.good)
        self.assertIn("Made by another program", str(whole))

    def test_what_is_not_known_is_refused(self):
        self.frame.to_csv(self.folder / "all.csv", index=False)
        found = mw.read_draws(self.folder / "all.csv")
        for call in (
            found.predictive_check,
            found.prior,
            found.leave_one_out,
            found.sampling.adaptation,
        ):
            with self.assertRaises(MillwrightError):
                call()
        found.save(self.folder / "run")
        self.assertEqual(str(mw.load(self.folder / "run")), str(found))

    def test_chains_that_disagree_are_named(self):
        self.frame.loc[self.frame["chain"] == 2, "noise"] += 5
        self.frame.to_csv(self.folder / "all.csv", index=False)
        text = str(mw.read_draws(self.folder / "all.csv").verdict)
        self.assertIn("`noise`", text)
        self.assertNotIn("flat", text)

    def test_files_that_hold_no_draws(self):
        def write(name, frame):
            frame.to_csv(self.folder / name, index=False)
            return self.folder / name

        short = self.frame[(self.frame["chain"] > 1) | (self.frame["iteration"] < 50)]
        twice = self.frame.rename(columns={"noise": "slope 1"})
        cases = {
            "equally long": write("short.csv", short),
            "not hold numbers": write("text.csv", self.frame.assign(noise="x")),
            "would be called": write("twice.csv", twice),
            "no draws": write("empty.csv", pd.DataFrame({"chain": [], "iteration": []})),
        }
        for words, path in cases.items():
            with self.subTest(words=words), self.assertRaisesRegex(DataError, words):
                mw.read_draws(path)
        with self.assertRaises(StorageError):
            mw.read_draws(self.folder / "none.csv")


if __name__ == "__main__":
    unittest.main()
