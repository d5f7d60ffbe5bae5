"""Every public call with what makes no sense: refused in words of the library, never a crash."""

import inspect
import unittest
from functools import cache, partial

import numpy as np
import pandas as pd

import millwright as mw
from millwright.errors import MillwrightError

NONSENSE = (object(), float("nan"), {3: "x"}, [["a"]], -7, b"x", "no such thing")
NEEDED = {
    "name": "lift",
    "quantity": "middle",
    "names": ["middle"],
    "expression": "middle > 0",
    "statement": "middle > 0",
    "hypothesis": "middle > 0",
    "column": "hours",
    "observed": {"Upper": 1.0, "Lower": 0.0},
    "rope": (-1, 1),
    "within": 0.1,
    "priors": {"wide": {"middle": "normal(0, 2)"}},
    "path": "run",
}
LEFT_OUT = {"extend", "report", "save", "calibration", "recovery", "fit", "check_workers"}
"""What runs for long with values that do make sense, and takes settings tested elsewhere."""


@cache
def data():
    rng = np.random.default_rng(0)
    return pd.DataFrame(
        {
            "moisture": rng.normal(size=24).round(2),
            "hours": rng.normal(size=24).round(2),
            "stone": ["Upper", "Lower"] * 12,
            "sank": rng.integers(0, 5, 24),
            "loaves": 8,
            "error": 0.3,
        }
    )


@cache
def model():
    return mw.Model(
        priors={
            "middle": "normal(0, 1)",
            "drying": "normal(0, 1)",
            "lift": "normal(0, 1) per stone",
        },
        likelihood={"moisture": "normal(middle + drying * hours + lift[stone], 1)"},
    )


@cache
def fitted():
    return model().fit(data(), seed=1, draws=100, warmup=200, progress=False)


def public(thing):
    """Public methods by name."""
    names = (name for name in dir(thing) if not name.startswith("_") and name not in LEFT_OUT)
    return {n: getattr(thing, n) for n in names if inspect.ismethod(getattr(thing, n))}


STUDIES = {
    "one_group": {"outcome": "moisture"},
    "two_groups": {"outcome": "moisture", "group": "stone"},
    "paired": {"first": "moisture", "second": "hours"},
    "proportions": {"outcome": "sank", "group": "stone", "trials": "loaves"},
    "correlation": {"first": "moisture", "second": "hours"},
    "regression": {"formula": "moisture ~ hours"},
    "meta_analysis": {"estimate": "moisture", "standard_error": "error"},
    "variable_selection": {"outcome": "moisture", "candidates": ["hours", "sank"]},
    "vector_autoregression": {"series": ["moisture", "hours"]},
    "smooth": {"x": "hours", "y": "moisture"},
    "series": {"parts": "level + hours", "outcome": "moisture"},
    "curve": {
        "function": "a + b * hours",
        "x": "hours",
        "y": "moisture",
        "unknowns": {"a": (-5, 5), "b": (-5, 5)},
    },
}


class Nonsense(unittest.TestCase):
    def calls(self, name, function, given=None):
        """Call with every argument in turn replaced by nonsense; a value may happen to fit."""
        parameters = inspect.signature(function).parameters.values()
        own = {p.name: p for p in parameters if p.kind not in (p.VAR_POSITIONAL, p.VAR_KEYWORD)}
        base = given or {
            key: NEEDED.get(key, "middle") for key, p in own.items() if p.default is p.empty
        }
        # Of a switch everything is true or false.
        for key in (key for key, p in own.items() if not isinstance(p.default, bool)):
            for value in NONSENSE:
                with self.subTest(call=name, argument=key, value=value):
                    try:
                        function(**base | {key: value})
                    except MillwrightError as error:
                        self.assertTrue(str(error))

    def test_questions_to_a_posterior(self):
        for name, method in public(fitted()).items():
            self.calls(name, method)

    def test_what_a_model_can_do(self):
        for name, method in public(model()).items():
            self.calls(name, method)
        simulated = model().simulate(data(), draws=20, seed=1)
        for name, method in public(simulated).items():
            self.calls(name, method)

    def test_figures(self):
        simulated = model().simulate(data(), draws=20, seed=1)
        first = {"posterior": fitted(), "simulated": simulated, "model": model()}
        for name in mw.plots.__all__:
            figure = getattr(mw.plots, name)
            kinds = inspect.signature(figure).parameters
            rest = {k: NEEDED.get(k) for k, p in kinds.items() if p.default is p.empty}
            of = next(iter(kinds))
            rest.pop(of)
            with self.subTest(figure=name), self.assertRaises(MillwrightError):
                figure(object(), **rest)
            if of in first:
                self.calls(name, partial(figure, first[of]))

    def test_studies(self):
        for name, given in STUDIES.items():
            study = getattr(mw.studies, name)
            self.assertIsNotNone(study(data=data(), **given))
            self.calls(name, study, {"data": data(), **given})

    def test_questions_to_the_answers_of_studies(self):
        for name in ("proportions", "correlation", "variable_selection"):
            study = getattr(mw.studies, name)(data=data(), **STUDIES[name])
            found = study.fit(seed=1, draws=200, progress=False)
            for method, function in public(found).items():
                parameters = inspect.signature(function).parameters.values()
                if all(p.default is not p.empty for p in parameters):
                    self.calls(f"{name}.{method}", function)
