"""What all studies share: printing, prior checks, sheets, folders, figures, the page."""

import dataclasses
import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import ArgumentError, DataError, StorageError
from millwright.studies.catalogue import PLACES, function_of, offers
from millwright.studies.expectations_study import ExpectationsStudy

LOAD = mw.demo.load


@functools.cache
def made():
    """One study of each kind, of odd names."""
    sacks = LOAD("sack_weights").frame.rename(columns={"weight": "Weight (kg)", "spout": "class"})
    days = LOAD("river_days").frame.rename(columns={"rain": "location", "level": "row"})
    return {
        "one_group": mw.studies.one_group(sacks, "Weight (kg)", against=50),
        "two_groups": mw.studies.two_groups(sacks, "Weight (kg)", "class", family="normal"),
        "paired": mw.studies.paired(LOAD("dressed_stones").frame, "before", "after"),
        "proportions": mw.studies.proportions(
            LOAD("yeasts").frame, "sank", "yeast", trials="loaves"
        ),
        "correlation": mw.studies.correlation(days, "location", "row"),
        "regression": mw.studies.regression("power ~ location + row", days, rope=(-0.1, 0.1)),
        "meta_analysis": mw.studies.meta_analysis(
            LOAD("dressing_trials").frame.rename(columns={"difference": "effect"}), "effect"
        ),
        "series": mw.studies.series(
            "level + season(4) + row", days.assign(day=range(1, 31)), "location", "day"
        ),
        "vector_autoregression": mw.studies.vector_autoregression(
            days.assign(day=range(1, 31)), ["location", "row"], "day"
        ),
        "expectations_model": mw.studies.expectations_model(
            "location = keep * expected(location) + row_ + drizzle\nrow_ = 0.5 * before(row_) + e",
            days.assign(day=range(1, 31)),
            unknowns={"keep": (0, 1)},
            shocks={"drizzle": "half_normal(9)", "e": "half_normal(9)"},
            readings={"location": "location", "row": "row_"},
        ),
        "curve": mw.studies.curve(
            "class_ * location / (9 + location)",
            days,
            x="location",
            y="row",
            unknowns={"class_": (0, 600)},
        ),
        "smooth": mw.studies.smooth(days, "location", "row"),
        "variable_selection": mw.studies.variable_selection(days, "power", ["location", "row"]),
    }


@functools.cache
def found(name):
    settings = {"draws": 200, "warmup": 200}
    if isinstance(made()[name], ExpectationsStudy):
        settings["method"] = "random_walk"
    return made()[name].fit(seed=1, progress=False, **settings)


class EveryStudy(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_prints_every_prior_and_says_what_comes_next(self):
        self.assertEqual(set(made()), set(PLACES))
        for name, study in made().items():
            with self.subTest(name):
                text = str(study)
                for model in study.models.values():
                    self.assertIn(model.describe(), text)
                self.assertIn("Nothing is sampled yet", text)
                self.assertIn("Model `", str(study.simulate(draws=20, seed=1)))

    def test_sheets_give_the_same_models(self):
        for name, study in made().items():
            with self.subTest(name):
                place = study.write(self.folder / name)
                sheets = sorted(place.glob("*.toml"))
                self.assertEqual(len(sheets), len(study.models))
                written = [mw.Model.read(sheet) for sheet in sheets]
                for model in study.models.values():
                    self.assertIn(model, written)
                tables = {".csv": pd.read_csv, ".parquet": pd.read_parquet}
                data = next(
                    tables[one.suffix](one) for one in place.iterdir() if one.suffix in tables
                )
                for model in written:
                    model.bind(data)
                with self.assertRaises(StorageError):
                    study.write(place)

    def test_labels_of_digits_come_back_from_the_written_data(self):
        numbered = {"x": [1.0, 2.0, 4.0, 3.0], "g": [1, 2, 1, 2]}
        place = mw.studies.two_groups(numbered, "x", "g").write(self.folder / "numbers")
        data = pd.read_parquet(place / "data.parquet")
        binding = mw.Model.read(place / "robust.toml").bind(data)
        self.assertEqual(binding.labels["g"], ("1", "2"))

    def test_a_study_that_cannot_be_stored_leaves_the_old_one(self):
        place = self.folder / "kept"
        found("proportions").save(place)
        broken = dataclasses.replace(found("proportions"), fit_settings={"start": object()})
        with self.assertRaisesRegex(ArgumentError, "plain settings"):
            broken.save(place, replace=True)
        self.assertEqual(str(mw.studies.load(place)), str(found("proportions")))
        self.assertEqual([one.name for one in self.folder.iterdir()], ["kept"])
        with self.assertRaisesRegex(StorageError, "not a stored study"):
            found("proportions").save(self.folder, replace=True)

    def test_stored_studies_come_back(self):
        for name in made():
            with self.subTest(name):
                before = found(name)
                place = self.folder / name
                before.save(place)
                after = mw.studies.load(place)
                self.assertEqual(str(after), str(before))
                name = next(iter(before.posterior.draws.values))
                np.testing.assert_array_equal(
                    mw.load(place).draws.get(name), before.posterior.draws.get(name)
                )
                with self.assertRaises(StorageError):
                    before.save(place)
                after.save(place, replace=True)
                self.assertEqual(str(mw.studies.resume(place, progress=False)), str(before))

    def test_fits_that_are_saved_as_they_run_resume(self):
        study = made()["paired"]
        place = self.folder / "study"
        whole = study.fit(seed=1, draws=300, save=place, progress=False)
        runs = list((place / "runs").iterdir())
        self.assertEqual([one.name for one in runs], ["robust"])
        again = mw.studies.resume(place, progress=False)
        np.testing.assert_array_equal(
            again.posterior.draws.get("location"), whole.posterior.draws.get("location")
        )
        (place / "study.json").write_text("{}")
        with self.assertRaisesRegex(StorageError, "damaged"):
            mw.studies.load(place)
        with self.assertRaisesRegex(StorageError, "not a stored study"):
            mw.studies.load(self.folder)

    def test_every_figure_is_drawn(self):
        from millwright.plots.study import study_figures

        for name in made():
            for figure in study_figures(found(name)):
                with self.subTest(name, figure=figure):
                    self.assertTrue(mw.plots.study(found(name), figure).axes)
        with self.assertRaisesRegex(ArgumentError, "It has: groups"):
            mw.plots.study(found("paired"), "scatter")
        with self.assertRaisesRegex(ArgumentError, "study.fit"):
            mw.plots.study(made()["paired"])

    def test_the_page_shows_question_and_answer_first(self):
        place = found("correlation").report(self.folder / "page.html")
        page = place.read_text("utf-8")
        head, _ = page.split('id="part-1"', 1)
        self.assertIn("How strongly do", head)
        self.assertIn("it is positive with probability", head)
        self.assertIn("Centres and logarithms of spreads have flat priors", head)
        with self.assertRaises(StorageError):
            found("correlation").report(place)

    def test_draws_that_must_not_be_used_give_no_answer(self):
        study = made()["two_groups"]
        poor = study.fit(seed=1, draws=10, warmup=3, chains=2, progress=False)
        self.assertTrue(any(one.weight == "stop" for one in poor.verdict.findings))
        self.assertEqual(len(poor.answer), 1)
        self.assertIn("No answer", str(poor))
        self.assertNotIn("times as probable", str(poor))
        self.assertFalse(poor.record["bayes_factors"] or poor.record["decisions"])
        page = poor.report(self.folder / "poor.html").read_text("utf-8")
        self.assertNotIn("Given these priors, the data are", page)

    def test_signs_that_cannot_be_seen_are_written_out(self):
        name = "weight\x1b[31m\nVerdict: good\u202e"
        data = {name: [1.0, 2.0, 4.0, 3.0], "g": ["a\x07", "b", "a\x07", "b"]}
        study = mw.studies.two_groups(data, name, "g")
        findings = study.fit(seed=1, draws=200, warmup=200, progress=False)
        for text in (str(study), str(findings), str(study.simulate(draws=5))):
            for sign in ("\x1b", "\x07", "\u202e", "\nVerdict: good"):
                self.assertNotIn(sign, text)

    def test_settings_that_no_fit_has_are_refused(self):
        for name in ("two_groups", "proportions", "correlation"):
            place = self.folder / name
            with self.subTest(name), self.assertRaisesRegex(ArgumentError, "Did you mean `draws`"):
                made()[name].fit(drawz=3, save=place)
            self.assertFalse(place.exists())
        with self.assertRaises(ArgumentError):
            made()["proportions"].fit(draws=0)
        with self.assertRaises(DataError):
            mw.studies.proportions({}, "x")


class Offers(unittest.TestCase):
    def test_columns_are_offered_what_fits_them(self):
        for name, kinds in (
            ("sack_weights", ["two_groups"]),
            ("yeasts", ["proportions"]),
            ("dressed_stones", ["regression", "correlation", "one_group"]),
            ("river_days", ["regression", "correlation", "one_group"]),
        ):
            frame = LOAD(name).frame
            made = offers(frame)
            self.assertEqual([one.name for one in made], kinds, name)
            for one in made:
                self.assertTrue(str(function_of(one.name)(data=frame, **one.columns)))


if __name__ == "__main__":
    unittest.main()
