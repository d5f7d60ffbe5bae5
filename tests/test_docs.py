"""Pages that are made from the code are current; links and code in pages work."""

import importlib.util
import re
import unittest
from pathlib import Path

import millwright as mw
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

    def test_links_lead_somewhere(self):
        for page in [*ROOT.glob("*.md"), *ROOT.glob("docs/*.md"), *ROOT.glob("benchmarks/*.md")]:
            for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text("utf-8")):
                self.assertTrue((page.parent / link).exists(), f"{page.name}: {link}")

    def test_code_of_the_readme_runs(self):
        code = re.search(r"```python\n(.*?)```", (ROOT / "README.md").read_text("utf-8"), re.S)[1]
        names = {}
        exec(compile(code.replace("seed=7", "seed=7, progress=False"), "README", "exec"), names)
        self.assertIsInstance(names["posterior"], mw.Posterior)


if __name__ == "__main__":
    unittest.main()
