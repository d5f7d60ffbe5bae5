"""Settings of a fit from a sheet and from options."""

import tempfile
import unittest
from pathlib import Path

import millwright as mw
from millwright.cli.fit_options import fit_options
from millwright.errors import ArgumentError, ModelError

SHEET = """
[priors]
middle = "normal(18, 3)"

[likelihood]
moisture = "normal(middle, 1)"

[fit]
"""


def model_of(lines):
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "sheet.toml"
        place.write_text(SHEET + lines)
        return mw.Model.read(place)


def settings(lines):
    return model_of(lines).fit_settings


class OfTheSheet(unittest.TestCase):
    def test_a_method_with_its_choices(self):
        found = settings(
            'method = "tempering"\nmethod_settings = { temperatures = 12 }\ndraws = 300'
        )
        self.assertEqual(found, {"method": mw.Tempering(temperatures=12), "draws": 300})

        found = settings("target_acceptance = 0.9\nmethod_settings = { max_depth = 6 }")
        self.assertEqual(found, {"target_acceptance": 0.9, "max_depth": 6})

    def test_forms_of_group_effects(self):
        self.assertEqual(settings('parameterisation = "centred"'), {"parameterisation": "centred"})
        self.assertEqual(
            settings('parameterisation = { e = "centred" }'),
            {"parameterisation": {"e": "centred"}},
        )

    def test_starting_values(self):
        found = settings("[fit.start]\nmiddle = 17.5")
        self.assertEqual(found, {"start": {"middle": 17.5}})
        found = settings("[[fit.start]]\nmiddle = 17\n[[fit.start]]\nmiddle = 19")
        self.assertEqual(found, {"start": [{"middle": 17}, {"middle": 19}]})

    def test_what_makes_no_sense(self):
        for lines, words in (
            ("start = 3", r"\[fit.start\]"),
            (
                'method = "ensemble"\nmethod_settings = { temperatures = 3 }',
                "no setting `temperatures`",
            ),
            ("method_settings = 3", "must be a table"),
            ("parameterisation = 3", "a text or a table"),
        ):
            with (
                self.subTest(lines=lines),
                self.assertRaisesRegex((ArgumentError, ModelError), words),
            ):
                settings(lines)


class Starts(unittest.TestCase):
    def test_numbers_and_labels(self):
        starts = ["slope=-0.3", "effect[Up per]=0.2", "effect['2']=0"]
        found = fit_options({"start": {"slope": 1.0}}, {}, (), (), starts)
        self.assertEqual(found["start"], {"slope": -0.3, "effect": {"Up per": 0.2, "2": 0}})

    def test_those_of_a_sheet_do_not_go_with_a_method_that_spreads_its_own(self):
        of_sheet = {"start": {"slope": 1.0}, "draws": 20}
        found = fit_options(of_sheet, {"method": "ensemble"}, (), ())
        self.assertEqual(found, {"method": "ensemble", "draws": 20})
        found = fit_options(of_sheet, {"method": "random_walk"}, (), ())
        self.assertEqual(found["start"], {"slope": 1.0})

    def test_what_makes_no_sense(self):
        for starts, words in (
            (["slope"], "NAME=VALUE"),
            (["slope=steep"], "NAME=NUMBER"),
            (["slope=true"], "NAME=NUMBER"),
            (["effect[A=1"], "NAME=NUMBER"),
            (["effect=1", "effect[A]=1"], "labels of its own"),
            (["effect[A]=1", "effect=1"], "labels of its own"),
        ):
            with self.subTest(starts=starts), self.assertRaisesRegex(ArgumentError, words):
                fit_options({}, {}, (), (), starts)


class Options(unittest.TestCase):
    def test_options_win(self):
        found = fit_options({"draws": 300, "seed": 1}, {"draws": 50, "seed": None}, (), ())
        self.assertEqual(found, {"draws": 50, "seed": 1})

    def test_choices_add_to_those_of_the_sheet_and_to_usual_ones(self):
        sheet = {"method": mw.Tempering(temperatures=12)}
        found = fit_options(sheet, {}, ("smallest_power=0.1",), ())
        self.assertEqual(found["method"], mw.Tempering(temperatures=12, smallest_power=0.1))
        found = fit_options({}, {"method": "random_walk"}, ("proposal=student_t", "df=5"), ())
        self.assertEqual((found["method"].proposal, found["method"].df), ("student_t", 5))
        found = fit_options({"target_acceptance": 0.95}, {}, ("max_depth=5",), ())
        self.assertEqual(found, {"target_acceptance": 0.95, "max_depth": 5})

    def test_another_method_leaves_settings_of_the_first_behind(self):
        sheet = {"target_acceptance": 0.95, "draws": 10}
        self.assertEqual(
            fit_options(sheet, {"method": "ensemble"}, (), ()),
            {"draws": 10, "method": "ensemble"},
        )

    def test_forms(self):
        self.assertEqual(fit_options({}, {}, (), ("centred",)), {"parameterisation": "centred"})
        self.assertEqual(
            fit_options({}, {}, (), ("e=centred", "f=non-centred")),
            {"parameterisation": {"e": "centred", "f": "non-centred"}},
        )

    def test_what_makes_no_sense(self):
        for method_settings, forms, words in (
            (("temperatures",), (), "NAME=VALUE"),
            (("=3",), (), "NAME=VALUE"),
            (("temperatures=3",), (), "no setting `temperatures`"),
            ((), ("centred", "e=centred"), "NAME=VALUE"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(ArgumentError, words):
                fit_options({}, {}, method_settings, forms)

    def test_settings_of_another_sampler_are_refused_in_a_fit(self):
        model = model_of("")
        with self.assertRaisesRegex(ArgumentError, "are of the no-U-turn sampler"):
            model.fit({"moisture": [17.0, 18.0]}, method=mw.Tempering(), max_depth=5)


if __name__ == "__main__":
    unittest.main()
