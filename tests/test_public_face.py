"""The public names: complete, documented, and those of the language's vocabulary."""

import ast
import inspect
import os
import pkgutil
import re
import subprocess
import sys
import unittest
from pathlib import Path

import millwright as mw
from millwright import _DISTRIBUTIONS, _FUNCTIONS, _KERNELS, _MODIFIERS
from millwright.distributions.kernels import KERNELS
from millwright.distributions.registry import DISTRIBUTIONS, MODIFIERS
from millwright.language.vocabulary import FUNCTIONS
from millwright.studies import (
    correlation_findings,
    group_findings,
    proportion_findings,
    regression_findings,
)
from tests.fits import straight

FINDINGS = (
    group_findings.GroupFindings,
    proportion_findings.ProportionFindings,
    correlation_findings.CorrelationFindings,
    regression_findings.RegressionFindings,
)
SOURCE = Path(mw.__file__).parent
CONSTRUCTORS = (*_DISTRIBUTIONS, *_MODIFIERS, *_KERNELS, *_FUNCTIONS)


class PublicFace(unittest.TestCase):
    def test_every_public_name_can_be_had(self):
        for name in mw.__all__:
            self.assertIsNotNone(getattr(mw, name))
        with self.assertRaises(AttributeError):
            mw.nothing  # noqa: B018

    def test_loops_are_compiled_as_a_whole_unless_the_user_says_otherwise(self):
        said = "--xla_backend_extra_options=xla_cpu_small_while_loop_byte_threshold=1"
        other = "--xla_cpu_use_fusion_emitters=false"
        shown = "import os, millwright; print(os.environ['XLA_FLAGS'])"
        for given, begins in (("", "--xla_backend"), (other, other), (said, said)):
            run = subprocess.run(
                [sys.executable, "-c", shown],
                env={**os.environ, "XLA_FLAGS": given},
                capture_output=True,
                text=True,
                check=True,
            )
            self.assertTrue(run.stdout.startswith(begins), run.stdout)
            self.assertEqual(run.stdout.count("xla_cpu_small_while_loop_byte_threshold"), 1)

    def test_functions_are_those_of_the_language(self):
        self.assertEqual(set(_DISTRIBUTIONS), set(DISTRIBUTIONS))
        self.assertEqual(set(_MODIFIERS), set(MODIFIERS))
        self.assertEqual(set(_FUNCTIONS), set(FUNCTIONS))
        self.assertEqual(set(_KERNELS), set(KERNELS))

    def test_it_runs_as_a_module(self):
        run = [sys.executable, "-m", "millwright"]
        done = subprocess.run([*run, "--version"], capture_output=True, text=True)
        self.assertEqual(done.stdout.strip(), f"millwright {mw.__version__}")
        wrong = subprocess.run([*run, "summary", "nothing here"], capture_output=True, text=True)
        self.assertEqual(wrong.returncode, 2, wrong.stderr)

    def test_public_classes_and_their_methods_are_documented(self):
        for owner in (mw.Model, mw.Posterior, mw.plots):
            for name, member in inspect.getmembers(owner):
                if not name.startswith("_") and callable(member):
                    self.assertTrue(inspect.getdoc(member), f"{owner.__name__}.{name}")

    def test_functions_of_three_arguments_explain_them(self):
        faces = (mw.Model, mw.Posterior, mw.plots, type(straight().sampling))
        faces += (mw.studies.Study, *FINDINGS)
        calls = [getattr(mw, name) for name in mw.__all__ if name not in CONSTRUCTORS]
        calls += [member for face in faces for _, member in inspect.getmembers(face)]
        calls += [getattr(mw.studies, name) for name in mw.studies.__all__]
        looked = 0
        for call in filter(inspect.isfunction, calls):
            signature = inspect.signature(call)
            names = [n for n in signature.parameters if n not in ("self", "cls")]
            if call.__name__.startswith("_") or len(names) < 3:
                continue
            looked += 1
            text = inspect.getdoc(call)
            sections = ["Parameters", "Raises"]
            sections += ["Returns"] * (signature.return_annotation not in (None, "None"))
            for section in sections:
                self.assertRegex(text, rf"{section}\n-+\n", call.__qualname__)
            stated = re.findall(r"^\w+(?:, \w+)*$", text, re.MULTILINE)
            named = {name for line in stated for name in line.split(", ")}
            if not any(word in text for word in ("as for", "As for")):
                self.assertLessEqual(
                    set(names) - {"models", "posteriors"}, named, call.__qualname__
                )
        self.assertGreater(looked, 40)

    def test_constructors_have_signatures_and_help(self):
        for name in CONSTRUCTORS:
            call = getattr(mw, name)
            self.assertTrue(inspect.signature(call) and call.__doc__, name)
        self.assertEqual(
            list(inspect.signature(mw.normal).parameters), ["location", "scale", "low", "high"]
        )
        self.assertIn("log_odds", inspect.signature(mw.bernoulli).parameters)

    def test_type_checkers_see_every_public_name(self):
        tree = ast.parse((SOURCE / "__init__.py").read_text("utf-8"))
        block = next(
            node
            for node in tree.body
            if isinstance(node, ast.If) and getattr(node.test, "id", "") == "TYPE_CHECKING"
        )
        seen = {
            alias.asname
            for node in block.body
            if isinstance(node, ast.ImportFrom)
            for alias in node.names
        } | {node.target.id for node in block.body if isinstance(node, ast.AnnAssign)}
        self.assertLessEqual(set(mw.__all__), seen)

    def test_every_module_says_what_it_is_for(self):
        for path in SOURCE.rglob("*.py"):
            self.assertTrue(ast.get_docstring(ast.parse(path.read_text("utf-8"))), path)

    def test_every_name_a_module_exports_is_there(self):
        for path in SOURCE.rglob("*.py"):
            tree = ast.parse(path.read_text("utf-8"))
            defined = (
                {n.name for n in tree.body if isinstance(n, (ast.FunctionDef, ast.ClassDef))}
                | {
                    target.id
                    for n in tree.body
                    if isinstance(n, (ast.Assign, ast.AnnAssign))
                    for target in (n.targets if isinstance(n, ast.Assign) else [n.target])
                    if isinstance(target, ast.Name)
                }
                | {
                    alias.asname or alias.name
                    for n in tree.body
                    if isinstance(n, (ast.Import, ast.ImportFrom))
                    for alias in n.names
                }
            )
            for n in tree.body:
                if (
                    isinstance(n, ast.Assign)
                    and getattr(n.targets[0], "id", "") == "__all__"
                    and isinstance(n.value, ast.List)
                ):
                    for item in n.value.elts:
                        self.assertIn(item.value, defined, path)


class Places(unittest.TestCase):
    def test_no_module_is_called_like_what_is_loaded_late(self):
        # Importing such a module would put it in the place of the function.
        for package, themselves in (
            (mw, {"demo", "errors", "plots", "studies"}),
            (mw.studies, set()),
        ):
            modules = {one.name for one in pkgutil.iter_modules(package.__path__)}
            self.assertEqual(modules & set(package.__all__), themselves, package.__name__)


class StartUp(unittest.TestCase):
    def printed(self, code):
        """Lines that a fresh process prints."""
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout.splitlines()

    def test_what_is_heavy_waits_until_it_is_used(self):
        code = (
            "import sys, millwright as mw; mw.Model, mw.Target, mw.load; "
            "heavy = ('jax', 'pandas', 'xarray', 'pyarrow', 'matplotlib', 'scipy.stats'); "
            "print([m for m in heavy if m in sys.modules]); mw.studies.two_groups; "
            "print([m for m in ('jax', 'formulaic', 'matplotlib') if m in sys.modules])"
        )
        self.assertEqual(self.printed(code), ["[]", "[]"])

    def test_a_fit_of_numbers_is_told_without_loading_tables_of_data(self):
        code = (
            "import sys, millwright as mw; "
            "model = mw.Model(priors={'a': 'normal(0, 1)'}, likelihood={'y': 'normal(a, 1)'}); "
            "print(model.fit({'y': [0.5, 1.25, 0.75]}, draws=200, progress=False)); "
            "print([m for m in ('pandas', 'xarray', 'scipy.stats') if m in sys.modules])"
        )
        self.assertEqual(self.printed(code)[-1:], ["[]"])

    def test_constants_made_after_importing_are_in_double_precision(self):
        for code in (
            "import millwright, jax.numpy as jnp; print(jnp.asarray([0.1]).dtype)",
            "import jax.numpy as jnp, millwright; print(jnp.asarray([0.1]).dtype)",
        ):
            with self.subTest(code):
                done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
                self.assertEqual(done.stdout.strip(), "float64", done.stderr)


if __name__ == "__main__":
    unittest.main()
