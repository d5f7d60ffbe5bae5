"""Random and mutated sheets: each gives a model or one of our errors, never anything else.

    python benchmarks/fuzz_language.py [CASES]

20,000 cases by default; a smaller number runs among the tests.
"""

from __future__ import annotations

import random
import sys
import time
from collections import Counter

import millwright as mw
from millwright.errors import MillwrightError
from millwright.storage.sheet import specification_from

SHEETS = [mw.demo.sheet_path(f"{name}.toml").read_text("utf-8") for name in ("drying", "yeasts")]
SHEETS.append(
    """
title = "Everything at once"
[priors]
base = "normal(0, 1.5, low=-3)"
spread = "half_student_t(1, df=3)"
effect = "normal(base, spread) per stone"
held = 2.5
[likelihood]
torn = "zero_inflated(poisson(rate=exp(effect[stone] + held * log(hours))), share=0.1)"
dust = "mixture(normal(base, spread), cauchy(0, 1), share=expit(base))"
[derived]
gap = "effect['Upper'] - effect['Lower'] ** 2"
sure = "where(gap > 0 and not base < 1, 1, -1)"
[columns]
torn = "Torn sacks"
"""
)
SHEETS.append(
    """
[priors]
base = "normal(0, 1)"
effect = "multivariate_normal(base, scales=spread, correlation=tie) per stone"
spread = "half_normal(1) per stone"
tie = "lkj(shape=2) per stone"
share = "dirichlet(concentration=[1, 2]) per stone"
cuts = "ordered(normal(0, 3)) per cut"
[likelihood]
torn = "cumulative_logit(effect[stone] * hours, cuts=cuts)"
carrier = "categorical(log_odds=[base, 1])"
pair = "multivariate_normal(base, covariance=[[1, 0.5], [0.5, 1]])"
[derived]
both = "tie['Upper', 'Lower'] + sum(share)"
[labels]
cut = "between torn"
[columns]
pair = ["moisture", "dust"]
"""
)
SHEETS.append(
    """
[priors]
scale = "half_normal(1)"
curve = "gaussian_process(0, kernel=matern32(hours, scale=scale, length=2)) per hours"
level = "random_walk(start=0, scale=scale, df=4) per hours"
slow = "autoregressive(1, scale, coefficients=[0.5], start_scale=1) per hours"
angle = "von_mises(0, concentration=scale)"
centre = "ordered(skew_normal(0, 1, shape=2)) per stone"
[likelihood]
y = "gaussian_process(curve[hours], noise=1, kernel=periodic(hours, scale=1, length=1, period=3))"
torn = "state_space(transition=[[1]], loading=[1], scale=[1], noise=1, start=[0], start_scale=[1])"
dust = "mixture(normal(centre, scale), weights=[1, 2])"
moisture = "normal(level[hours] + slow[hours], exp(angle))"
"""
)
PIECES = [
    "(",
    ")",
    "[",
    "]",
    ",",
    "'",
    '"',
    "+",
    "-",
    "*",
    "**",
    "/",
    "@",
    "<",
    "<=",
    "==",
    "=",
    ".",
    ":",
    " per ",
    " and ",
    " or ",
    " not ",
    "lambda",
    "if",
    "else",
    "for",
    "import",
    "__import__('os')",
    "normal(",
    "beta(alpha=",
    "mixture(",
    "censored(",
    "exp(",
    "where(",
    "sum(",
    "dirichlet(concentration=",
    "lkj(shape=",
    "ordered(",
    "matern52(hours, scale=",
    "random_walk(start=",
    "gaussian_process(0, kernel=",
    "noise=",
    "weights=",
    "[1, 2]",
    "multivariate_normal(",
    "categorical(log_odds=",
    "base",
    "effect",
    "stone",
    "é",
    "ﬁ",
    "\u202e",
    "\0",
    "\n",
    "\t",
    "#",
    "9" * 40,
    "1e999",
    "0x1f",
    "1_000",
    "1j",
    "nan",
    "inf",
    "None",
    "True",
    "{",
    "}",
    "\\",
    ";",
    "~",
    "%",
    "^",
    "&",
    "|",
    "!",
    "?",
    "$",
    "f'{1}'",
    "b'x'",
    "...",
    "*x",
    "**x",
    ":=",
    "->",
    "[[",
    "]]",
    "[terms]",
    "[priors.x]",
    "low=",
]


def mutated(generator: random.Random) -> str:
    """Return a sheet with a few places deleted, doubled, swapped or replaced."""
    text = generator.choice(SHEETS)
    for _ in range(generator.randint(1, 6)):
        start = generator.randrange(len(text) + 1)
        stop = min(len(text), start + generator.choice((0, 0, 1, 2, 5, 20)))
        kind = generator.random()
        if kind < 0.6:
            text = text[:start] + generator.choice(PIECES) + text[stop:]
        elif kind < 0.8:
            text = text[:start] + text[stop:]
        elif kind < 0.95:
            text = text[:stop] + text[start:stop] * generator.randint(1, 30) + text[stop:]
        else:
            text = text[:start] + chr(generator.randrange(0x11000)) + text[stop:]
    return text


def random_definition(generator: random.Random) -> str:
    """Return a sheet with one definition of random pieces."""
    pieces = "".join(generator.choice(PIECES) for _ in range(generator.randint(1, 25)))
    quoted = pieces.replace("\\", "\\\\").replace('"', '\\"').replace("\n", " ").replace("\0", "")
    return f'[priors]\nbase = "{quoted}"\n[likelihood]\ny = "normal(base, 1)"\n'


def attempt(text: str) -> str:
    """Read a sheet, then bind and describe it; return what came of it."""
    try:
        specification = specification_from(text, "sheet.toml")
        model = mw.Model._of(specification)
        model.describe()
        model.bind(
            {
                "stone": ["Upper", "Lower", "Upper"],
                "carrier": ["wild", "brewer", "wild"],
                "hours": [1.0, 2.0, 3.0],
                "sacks": [10, 10, 10],
                "moisture": [18.0, 17.0, 16.0],
                "Torn sacks": [0, 1, 2],
                "torn": [0, 1, 2],
                "dust": [0.1, 0.2, 0.3],
                "y": [1.0, 2.0, 3.0],
            }
        )
    except MillwrightError as error:
        return type(error).__name__
    return "model"


def run(cases: int, seed: int = 1) -> Counter[str]:
    """Try `cases` sheets; anything but a model or one of our errors is raised."""
    generator = random.Random(seed)
    found: Counter[str] = Counter()
    for number in range(cases):
        text = (mutated if number % 3 else random_definition)(generator)
        began = time.perf_counter()
        try:
            found[attempt(text)] += 1
        except BaseException:
            print(repr(text))
            raise
        if time.perf_counter() - began > 5:
            raise TimeoutError(repr(text))
    return found


if __name__ == "__main__":
    print(dict(run(int(sys.argv[1]) if len(sys.argv) > 1 else 20_000)))
