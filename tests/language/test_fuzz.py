"""Random and mutated sheets give a model or one of our errors; 20,000 in the benchmark."""

import importlib.util
import unittest
from pathlib import Path

FUZZ = Path(__file__).parents[2] / "benchmarks" / "fuzz_language.py"


class Fuzz(unittest.TestCase):
    def test_nothing_but_models_and_our_errors(self):
        spec = importlib.util.spec_from_file_location("fuzz_language", FUZZ)
        fuzz = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(fuzz)
        found = fuzz.run(2000, seed=5)
        self.assertGreater(found["model"], 20)
        self.assertGreater(found["LanguageError"], 200)


if __name__ == "__main__":
    unittest.main()
