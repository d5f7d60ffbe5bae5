"""What is left of damaged runs."""

import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

import millwright as mw
from millwright.errors import StorageError
from millwright.storage.rescue import rescued
from tests.cli.here import run_here


class Rescue(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        cls.whole = Path(cls.temporary.name) / "whole"
        model = mw.Model(
            priors={"effect": "normal(0, 1) per mill", "spread": "half_normal(1)"},
            likelihood={"load": "normal(effect[mill], spread)"},
        )
        data = {"mill": ["Upper mill", "Lower mill"] * 5, "load": np.arange(10.0)}
        with mock.patch("millwright.storage.writing.rows_per_part", return_value=50):
            model.fit(data, draws=120, seed=5, progress=False, save=cls.whole)
        cls.draws = mw.load(cls.whole)

    def setUp(self):
        self.run_folder = Path(self.temporary.name) / self.id().rpartition(".")[2]
        shutil.copytree(self.whole, self.run_folder)

    def part(self, chain, number):
        return self.run_folder / "draws" / f"chain-{chain:02d}-{number:06d}.parquet"

    def test_all_of_a_whole_run(self):
        found = rescued(self.run_folder)
        self.assertEqual(found.names, ("effect[Lower mill]", "effect[Upper mill]", "spread"))
        np.testing.assert_array_equal(found.values[:, :, 2], self.draws["spread"])
        self.assertEqual(found.lost, ())

    def test_a_lost_chain_and_a_chain_that_ends_early(self):
        for number in (1, 2, 3):
            self.part(2, number).unlink()
        self.part(4, 2).write_bytes(b"PAR1 cut off")
        found = rescued(self.run_folder)
        self.assertEqual(found.values.shape, (2, 120, 3))
        words = "; ".join(found.lost)
        for lost in ("all draws of chain 2", "chain-04-000002.parquet", "only 50 draws are whole"):
            self.assertIn(lost, words)
        spread = self.draws["spread"].values.reshape(4, 120)
        np.testing.assert_array_equal(found.values[:, :, 2], spread[[0, 2]])

    def test_the_last_chain_is_missed_too(self):
        for number in (1, 2, 3):
            self.part(4, number).unlink()
        found = rescued(self.run_folder)
        self.assertEqual(found.values.shape, (3, 120, 3))
        self.assertEqual(found.lost, ("all draws of chain 4",))

    def test_chains_are_cut_where_that_keeps_more(self):
        for chain in (1, 2, 3, 4):
            self.part(chain, 2 if chain > 1 else 3).unlink()
        found = rescued(self.run_folder)
        self.assertEqual(found.values.shape, (4, 50, 3))

    def test_as_a_posterior_that_says_what_it_lacks(self):
        (self.run_folder / "model.toml").unlink()
        self.part(3, 1).unlink()
        with self.assertRaisesRegex(StorageError, r"mw\.read_draws\(.*--rescue"):
            mw.load(self.run_folder)
        posterior = mw.read_draws(self.run_folder)
        self.assertEqual(posterior.draws.shape, (3, 120))
        for words in ("Rescued from", "Lost: all draws of chain 3", "divergences"):
            self.assertIn(words, str(posterior))
        done = run_here("export", self.run_folder, self.run_folder / "d.csv", "--rescue")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("Lost: all draws of chain 3", done.stderr)

    def test_nothing_left(self):
        shutil.rmtree(self.run_folder / "draws")
        (self.run_folder / "draws").mkdir()
        with self.assertRaisesRegex(StorageError, "No file of draws"):
            mw.read_draws(self.run_folder)
        with self.assertRaisesRegex(StorageError, r"damaged: .*000001.parquet is missing\.$"):
            mw.load(self.run_folder)


if __name__ == "__main__":
    unittest.main()
