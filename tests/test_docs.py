"""Pages that are made from the code are current; links and code in pages work."""

import importlib.util
import json
import re
import tomllib
import unittest
from pathlib import Path

import jsonschema

from millwright.distributions.family import Family
from millwright.distributions.registry import DISTRIBUTIONS

ROOT = Path(__file__).parent.parent


class Docs(unittest.TestCase):
    def script(self, name):
        spec = importlib.util.spec_from_file_location(name, ROOT / "docs" / f"{name}.py")
        module = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(module)
        return module

    def test_every_distribution_of_numbers_is_on_the_sheet_of_shapes(self):
        numbers = {name for name, family in DISTRIBUTIONS.items() if isinstance(family, Family)}
        self.assertEqual(set(self.script("shapes").SHAPES), numbers)

    def test_language_page_is_what_the_code_gives(self):
        generate = self.script("generate")
        self.assertEqual(generate.PAGE.read_text("utf-8"), generate.page())

    def test_command_page_and_schema_are_what_the_code_gives(self):
        commands = self.script("commands")
        self.assertEqual(commands.PAGE.read_text("utf-8"), commands.page())
        self.assertEqual(commands.SCHEMA.read_text("utf-8"), commands.schema())

    def test_schema_takes_good_sheets_and_refuses_others(self):
        schema = json.loads(self.script("commands").schema())
        jsonschema.Draft202012Validator.check_schema(schema)
        sheets = list((ROOT / "src/millwright/demo/sheets").glob("*.toml"))
        self.assertGreaterEqual(len(sheets), 3)
        good = tomllib.loads(sheets[0].read_text("utf-8"))
        for sheet in sheets:
            jsonschema.validate(tomllib.loads(sheet.read_text("utf-8")), schema)
        jsonschema.validate({**good, "fit": {"draws": 10, "method": "tempering"}}, schema)
        bad = ({"prior": {}}, {"fit": {"drawz": 1}}, {"fit": {"seed": -1}}, {"title": 3})
        for part in bad:
            with self.subTest(part=part), self.assertRaises(jsonschema.ValidationError):
                jsonschema.validate({**good, **part}, schema)

    def test_links_lead_somewhere(self):
        for page in [
            *ROOT.glob("*.md"),
            *ROOT.glob("docs/**/*.md"),
            *ROOT.glob("benchmarks/*.md"),
        ]:
            for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text("utf-8")):
                self.assertTrue((page.parent / link).exists(), f"{page.name}: {link}")


if __name__ == "__main__":
    unittest.main()
