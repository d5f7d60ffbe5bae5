"""Model sheets and stored runs: equal after a round trip, clear when damaged."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq

import millwright as mw
from millwright.errors import ArgumentError, MillwrightError, ModelError, StorageError
from tests.fits import straight, yeasts


class InFolder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class Sheets(InFolder):
    def test_round_trip_gives_an_equal_model(self):
        model = mw.Model(
            title='A "title" with signs: \\ ü',
            notes="Two\nlines",
            priors={
                "base": lambda: mw.normal(-3, 1 / 3, low=-10),
                "spread": "half_student_t(2, df=3)",
                "held": 0.1,
                "effect": lambda spread: mw.normal(0, spread).per("stone"),
            },
            likelihood={
                "y": lambda base, effect, stone, held: mw.normal(
                    base + effect[stone] - effect["Upper"], held
                )
            },
            derived={"gap": "effect['Upper'] - effect['Lower']"},
            columns={"y": "Yield (kg)", "X": ["a", "b"]},
            log_density_terms={"soft": "-base ** 2"},
            labels={"mill": "sender, receiver", "grade": [3, 1, 2]},
        )
        path = self.folder / "sheet.toml"
        model.write(path)
        self.assertEqual(mw.Model.read(path), model)
        with self.assertRaisesRegex(StorageError, "exists already"):
            model.write(path)
        model.write(path, replace=True)

    def test_bad_sheets_are_refused_with_the_place(self):
        cases = {
            "priors = 3": ("must be a table", ModelError),
            "[priors\n": ("not TOML", ModelError),
            "[prior]\na = 'normal(0, 1)'": ("Did you mean `priors`", ModelError),
            "[priors]\na = 'normal(0, 1'\n[likelihood]\ny = 'normal(a, 1)'": (
                "^",
                MillwrightError,
            ),
            "[priors]\na = true\n[likelihood]\ny = 'normal(a, 1)'": ("text", MillwrightError),
            '[priors]\na = \'__import__("os").system("x")\'': ("", MillwrightError),
            "a" + "[" * 5000: ("", MillwrightError),
        }
        for text, (words, error) in cases.items():
            path = self.folder / "bad.toml"
            path.write_text(text)
            with self.subTest(text=text[:30]), self.assertRaises(error) as caught:
                mw.Model.read(path)
            self.assertIn(words, str(caught.exception))

    def test_missing_sheet(self):
        with self.assertRaisesRegex(StorageError, "no model sheet"):
            mw.Model.read(self.folder / "none.toml")


class Runs(InFolder):
    def test_round_trip_keeps_draws_record_and_answers(self):
        for posterior in (straight(), yeasts()):
            path = self.folder / posterior.draws.binding.program.outcomes[0].name
            posterior.save(path)
            again = mw.load(path)
            for name in posterior.draws.names():
                np.testing.assert_array_equal(again[name].values, posterior[name].values)
            self.assertEqual(str(again), str(posterior))
            self.assertEqual(again.record, posterior.record)
            np.testing.assert_array_equal(again.leave_one_out().k, posterior.leave_one_out().k)
            # Going on with what is complete changes nothing, its search for modes included.
            gone_on = mw.resume(path, progress=False)
            self.assertEqual(str(gone_on.verdict), str(posterior.verdict))

    def test_files_are_open_formats(self):
        yeasts().save(self.folder / "run")
        table = pq.read_table(self.folder / "run" / "draws" / "chain-01-000001.parquet")
        self.assertEqual(table.column_names[:2], ["chain", "iteration"])
        labels = json.loads(table.schema.metadata[b"labels"])
        self.assertEqual(labels, {"yeast": ["brewer", "wild"]})
        self.assertTrue((self.folder / "run" / "sheet.toml").read_text().startswith("# Do more"))

    def test_existing_places_are_not_overwritten_unasked(self):
        straight().save(self.folder / "run")
        with self.assertRaisesRegex(StorageError, "replace=True"):
            straight().save(self.folder / "run")
        straight().save(self.folder / "run", replace=True)
        (self.folder / "other").mkdir()
        with self.assertRaisesRegex(StorageError, "not a run"):
            straight().save(self.folder / "other", replace=True)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["other", "run"])

    def test_fit_refuses_a_taken_place_before_sampling(self):
        (self.folder / "run").mkdir()
        model = mw.Model.read(mw.demo.sheet_path("drying.toml"))
        with self.assertRaises(StorageError):
            model.fit(mw.demo.load("drying_loft").frame, draws=10**9, save=self.folder / "run")

    def test_damaged_runs_say_which_part(self):
        for part in (
            "run.json",
            "model.toml",
            "draws/chain-01-000001.parquet",
            "statistics/chain-01-000001.parquet",
            "state/coordinates.npz",
            "data/tables.json",
            "data/1.parquet",
        ):
            for damage in ("cut", "removed", "scrambled"):
                path = self.folder / part.replace("/", "-") / damage
                straight().save(path)
                file = path / part
                whole = file.read_bytes()
                if damage == "removed":
                    file.unlink()
                else:
                    file.write_bytes(whole[:20] if damage == "cut" else whole[::-1])
                with self.subTest(part=part, damage=damage), self.assertRaises(MillwrightError):
                    mw.load(path)

    def test_entries_that_are_gone_are_named(self):
        for part, entry in (("run.json", "settings"), ("data/tables.json", "levels")):
            path = self.folder / entry
            straight().save(path)
            content = json.loads((path / part).read_text())
            del content[entry]
            (path / part).write_text(json.dumps(content))
            with self.subTest(part=part), self.assertRaisesRegex(StorageError, f"lacks .*{entry}"):
                mw.load(path)

    def test_one_changed_bit_is_noticed(self):
        for part in ("draws/chain-02-000001.parquet", "data/1.parquet"):
            path = self.folder / part.replace("/", "-")
            straight().save(path)
            whole = bytearray((path / part).read_bytes())
            whole[len(whole) // 3] ^= 1
            (path / part).write_bytes(whole)
            with self.subTest(part=part), self.assertRaisesRegex(StorageError, "is damaged"):
                mw.load(path)

    def test_the_data_of_another_fit_are_noticed(self):
        straight().save(self.folder / "run")
        place = self.folder / "run" / "data" / "1.parquet"
        table = pq.read_table(place).to_pandas()
        table.loc[4, "moisture"] += 0.5
        table.to_parquet(place)
        with self.assertRaisesRegex(StorageError, "goes with other data than the fit's"):
            mw.load(self.folder / "run")

    def test_without_its_states_a_run_loads_but_does_not_go_on(self):
        path = self.folder / "run"
        straight().save(path)
        for file in (path / "state").glob("unit-*"):
            file.unlink()
        found = mw.load(path)
        np.testing.assert_array_equal(found["drying"], straight()["drying"])
        with self.assertRaisesRegex(ArgumentError, "cannot be extended"):
            found.extend(10)

    def test_not_a_run(self):
        with self.assertRaisesRegex(StorageError, "not a stored run"):
            mw.load(self.folder)


if __name__ == "__main__":
    unittest.main()
