"""Parts of a run: written whole or not at all, read by column, cut where asked."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from millwright.draws.columns import Columns
from millwright.errors import StorageError
from millwright.sampling.chain_buffer import ChainBuffer, rows_per_part
from millwright.sampling.piece import Piece
from millwright.storage.lock import locked
from millwright.storage.parts import columns_of, part_lists, part_name, write_part


class Parts(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def write(self, chain, number, first, rows):
        values = {"a": np.arange(first, first + rows, dtype=float), "b": np.ones((rows, 2, 3))}
        write_part(self.folder / part_name(chain, number), chain, first, values)

    def test_chains_are_read_by_column_and_cut_to_the_draws_asked_for(self):
        for chain, last in ((0, 4), (1, 2)):
            self.write(chain, 1, 1, 5)
            self.write(chain, 2, 6, last)
        lists = part_lists(self.folder, 2)
        self.assertEqual([found.rows for found in lists], [9, 7])
        columns = columns_of(lists, {"a": (), "b": (2, 3)}, 7)
        self.assertEqual(columns.shape, (2, 7))
        np.testing.assert_array_equal(columns["a"][1], np.arange(1.0, 8.0))
        self.assertEqual(columns["b"].shape, (2, 7, 2, 3))

    def test_a_part_that_cannot_be_written_leaves_nothing_behind(self):
        class Broken:
            shape = (2,)

            def __len__(self):
                return 2

            def __array__(self, *arguments, **named):
                raise OSError("no space")

        with self.assertRaises(OSError):
            write_part(self.folder / "x.parquet", 0, 1, {"a": Broken()})
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_part_that_is_no_parquet_is_named(self):
        (self.folder / part_name(0, 1)).write_text("flour")
        with self.assertRaisesRegex(StorageError, "chain-01-000001"):
            part_lists(self.folder, 1)

    def test_the_lock_is_for_one(self):
        with locked(self.folder), self.assertRaisesRegex(StorageError, "in use"):
            locked(self.folder)
        locked(self.folder).release()


class Lazily(unittest.TestCase):
    def test_columns_are_fetched_when_asked_for_and_kept_if_so_wished(self):
        asked = []

        def read(name):
            asked.append(name)
            return np.zeros((2, 3))

        for keep, times in ((True, 1), (False, 2)):
            asked.clear()
            columns = Columns(["a", "b"], (2, 3), read, keep)
            self.assertEqual((len(columns), list(columns), asked), (2, ["a", "b"], []))
            _ = columns["a"], columns["a"]
            self.assertEqual(len(asked), times)
            with self.assertRaises(KeyError):
                columns["c"]

    def test_parts_are_about_eight_megabytes(self):
        self.assertEqual([rows_per_part(n) for n in (1, 1000, 10**6)], [5000, 1000, 8])

    def test_files_take_pieces_in_order(self):
        files = ChainBuffer(2)
        ones = np.ones((2, 2))
        rows = np.ones((2, 7))
        files.add(Piece(ones, rows, rows[:1], ones[:1], np.array([2.0]), ones[:1]))
        files.add(Piece.empty(2))
        shapes = [len(part) for part in (files.positions, files.rows, files.warmup, files.failed)]
        self.assertEqual(shapes, [2, 2, 1, 1])


if __name__ == "__main__":
    unittest.main()
