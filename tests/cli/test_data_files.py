"""Tables of users, as spreadsheets and other programs write them."""

import io
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

import millwright as mw
from millwright.cli.data_files import read_data
from millwright.errors import DataError


class Texts(unittest.TestCase):
    def setUp(self):
        temporary = tempfile.TemporaryDirectory()
        self.addCleanup(temporary.cleanup)
        self.folder = Path(temporary.name)

    def read(self, text, name="loft.csv", encoding="utf-8"):
        place = self.folder / name
        place.write_bytes(text.encode(encoding))
        return read_data(place)

    def test_what_is_read(self):
        for text, name in (
            ("hours,moisture\n1,2.5\n3,4.5\n", "plain.csv"),
            ("hours,moisture\r\n1,2.5\r\n3,4.5\r\n", "lines.csv"),
            ("hours,moisture\n1,2.5,\n3,4.5,\n", "commas.csv"),
            ("\ufeffhours,moisture\n1,2.5\n3,4.5\n", "mark.csv"),
            ("hours\tmoisture\n1\t2.5\n3\t4.5\n", "tabs.tsv"),
            (",hours,moisture\n0,1,2.5\n1,3,4.5\n", "numbered.csv"),
        ):
            with self.subTest(name):
                table = self.read(text, name)
                np.testing.assert_array_equal(table["hours"], [1, 3])
                np.testing.assert_array_equal(table["moisture"], [2.5, 4.5])

    def test_columns_are_never_taken_for_others(self):
        for text, words in (
            ("hours,moisture\n1,2,3\n2,3,4\n", "more fields in a row than names"),
            ("hours,hours,moisture\n1,2,3\n", "two columns `hours`"),
            ("hours;moisture\n1;2,5\n", "separated by a semicolon"),
            ("hours\tmoisture\n1\t2.5\n", "separated by a tab"),
            ("", "not a table"),
            ("hours,moisture\n1,2\n2,3,4\n", r"line 3, saw 3\.$"),
            (",,\n1,2,3\n", None),
        ):
            with self.subTest(text):
                if words is None:
                    self.assertEqual(len(self.read(text)), 1)
                    continue
                with self.assertRaisesRegex(DataError, words):
                    self.read(text)
        with self.assertRaisesRegex(DataError, "not UTF-8"):
            self.read("Größe\n1\n", encoding="latin-1")
        given = mock.patch("sys.stdin", io.StringIO("a,a\n1,2\n"))
        with given, self.assertRaisesRegex(DataError, "Standard input has two columns `a`"):
            read_data(Path("-"))

    def test_nor_are_those_of_draws(self):
        place = self.folder / "draws.csv"
        place.write_text("# made elsewhere\nchain,wear\n1,0.5\n1,0.7\n2,0.6\n2,0.8\n")
        np.testing.assert_array_equal(
            mw.read_draws(place).draws.get("wear"), [[0.5, 0.7], [0.6, 0.8]]
        )
        place.write_text("chain,wear\n1,0.5,9\n1,0.7,9\n2,0.6,9\n2,0.8,9\n")
        with self.assertRaisesRegex(DataError, "more fields in a row than names"):
            mw.read_draws(place)

    def test_a_sign_among_numbers_is_named_with_its_row(self):
        table = self.read("hours,moisture\n1,2.5\n2,-\n3,4\n4,\n")
        model = mw.Model(priors={"slope": "flat()"}, likelihood={"moisture": "normal(slope, 1)"})
        with self.assertRaisesRegex(DataError, r"holds text \('-' in row 2\)"):
            model.bind(table)


if __name__ == "__main__":
    unittest.main()
