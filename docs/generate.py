"""Writes docs/language.md from the code: `python docs/generate.py`.

A test compares the file with what this gives, so that the page cannot go stale.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from millwright.distributions.family import DOMAIN_WORDS, Distribution, Family, Parameter
from millwright.distributions.flat import Flat
from millwright.distributions.kernels import KERNELS
from millwright.distributions.modified import Modified
from millwright.distributions.ordered import Ordered
from millwright.distributions.registry import DISTRIBUTIONS, MODIFIERS, VARIANTS
from millwright.distributions.vector import VectorFamily
from millwright.language.vocabulary import FUNCTIONS, RESERVED
from millwright.modelling.arguments import kernel_usage, modifier_usage

PAGE = Path(__file__).parent / "language.md"

HEAD = """# The model language

A model is a set of named definitions. Each is a line of text, a Python function whose argument
names are the quantities it needs, or a number. All mean the same and mix freely:

```python
import millwright as mw

likelihood = {"moisture": "normal(middle, spread)"}
as_text = mw.Model(
    priors={"middle": "normal(18, 3)", "spread": "half_normal(1)"}, likelihood=likelihood
)
as_function = mw.Model(
    priors={"middle": "normal(18, 3)", "spread": lambda: mw.half_normal(1)},
    likelihood=likelihood,
)
held_fixed = mw.Model(priors={"middle": "normal(18, 3)", "spread": 0.5}, likelihood=likelihood)

print(as_text.describe() == as_function.describe())      # True
```

**Text** is `expression` or `expression per label set`. Expressions are arithmetic (`+ - * / **
@`), comparisons, `and`, `or`, `not`, calls of the functions below, and brackets. Nothing else is
accepted, and nothing in a text is ever executed. In a Python function write `mw.exp(...)` for
`exp(...)`, `&`, `|`, `~` for `and`, `or`, `not`, and `mw.normal(0, spread).per("stone")` for
`normal(0, spread) per stone`. A definition with a bracket still open goes on in the next line, so
that long ones can be written over several.

**Names.** A name is an unknown, a derived quantity, or a data column; a definition and a column
that the data have may not share one. Names compare after Unicode NFKC normalisation. Columns
whose names cannot be written get another: `columns={"moisture": "Moisture (%)"}`, and
`columns={"X": ["age", "hours"]}` makes a matrix of several. Reserved: RESERVED.

**Labels.** `per stone` makes one unknown for each label of the column `stone`.
`effect[stone]` looks each row's label up, `effect["Upper"]` picks one. Brackets hold labels,
never positions, also where labels are whole numbers. The order of labels is that of a
categorical column, else sorted. Inside a `per stone` definition a column must have one value for
each stone. A label can be compared with a text: `mill == "Upper"` is 1 in the rows of that label
and 0 in the others.

**Combining.** Quantities combine by label set, never by length. Two different label sets meet
only through brackets. `X @ weights`, the same as `dot(X, weights)`, sums over the label set that
both share. The rows of a table are a set too: what has one value a row of one table never
meets rows of another.

**Values taken from data.** `mean(hours)`, `sd(hours)` and `standardise(hours)` of data columns are
taken once, from the rows that the model is fitted to, and kept with the run. Predictions,
forecasts and lines along a column use those values, not the mean of the new rows; `describe()` of
a fit says what they were.

**Many rows.** From 1000 rows on a fit looks for a shorter way that is exact. A normal outcome
whose location is linear in what is unknown (a sum of unknowns times columns or labels) and whose
scale is the same for all rows goes through one small matrix instead of its rows. Rows of other
outcomes that repeat each other, as counts and yes/no with few predictors do, are taken once with
their number. `describe()` and `millwright check` say which outcomes are gathered; predictions and
scores still have every row.

**Arguments** of distributions are given by name; only location and scale may go without. An
argument that takes a vector or a matrix may be written as a list, `[1, 2]` or
`[[1, 0.5], [0.5, 1]]`, in the order of the labels; what a list holds may differ from row to
row, `categorical(probabilities=[x, 1 - x])`.

**Units** of quantities and columns are stated with `units={"drying": "per cent an hour"}`
(`[units]` in a sheet). Tables, axes and predictions show them; nothing is converted.

**Label sets** that are not one column are stated with `labels=` (`[labels]` in a sheet): a list of
labels; `"sender, receiver"` for all labels of several columns; `"between grade"` for one label
between each pair of neighbours, as cut points need. A list under a column's own name states the
order of its labels, lowest first.

**Vectors.** A distribution of vectors runs over the last label set after `per`; those before it
make independent copies. `correlation` and `covariance` matrices run over the label set twice:
`tie["start", "weekly"]`. An outcome that is a vector is a matrix of columns,
`columns={"Y": ["flour", "bran"]}`, and its arguments may combine rows with `Y`.

**Processes** run along a label set in its order (`per day`), or along the rows if they are an
outcome. A Gaussian process takes its covariance from kernels, which add and multiply:
`gaussian_process(0, kernel=matern32(flow, scale=a, length=b) + linear(flow, scale=c))`. With
`noise=` it is an outcome with the noise summed out; without, an unknown function, as in
`curve: gaussian_process(...) per flow` and `curve[flow]`. `posterior.predict(new)` follows
processes to new places, and `posterior.latent(outcome)` gives the function or states without
noise. Readings that are missing in the middle of a state-space series are gaps: the states go
on, and no row is lost. `posterior.predict(rows=12)` goes on for twelve steps after the last one,
as it does for an autoregression or a walk with normal steps that is the outcome itself;
`posterior.states(outcome)` gives the states, and `mw.plots.series` draws readings, states and
forecast. A regression whose errors lean on those before is
`autoregressive(start + slope * hours, noise, coefficients=[lean], start_scale=spread)`. A matrix
of columns as the outcome of a process is one process a row, along its columns.

**Several series on one state** stand below each other, a row a reading, in the order of time.
With `time=hour` rows of one hour read one state, which moves once to the next hour; each row may
weigh it in a way of its own, `loading=[1, weight[gauge]]`, and read it with an error of its own,
`noise=error[gauge]`. A column in the loading gives a regression whose weights drift,
`loading=[1, rain]`. A time without any reading is a row whose reading is missing. Without `start`
and `start_scale` the first state may be anything: it has a flat density that is integrated out
exactly, and such a model has neither an evidence nor draws of its prior.

**Missing values.** A missing outcome stops a fit unless `missing="drop"` or `missing="predict"`
says what to do. A predictor with gaps is given a distribution of its own in the likelihood; each
missing value is then an unknown, `hours_missing` for the column `hours`. Gaps of rows to be
predicted are drawn from that distribution, the whole column where the new rows lack it.

**Outcomes that explain others.** A definition may read an outcome. Fits and predictions take its
values from the data; `simulate`, `calibration` and `recovery` draw it first, and what rests on it
from what was drawn.

**Angles** that are unknown lie between -pi and pi, and chains do not go round. A direction near
pi is written as a turn from one that the data are near, `turn: von_mises(-3, concentration=0.5)`
with `3 + turn` in its place.

**Chances and rates through a link** keep their digits however near 0 or 1: `rate=exp(...)`,
and `probability=` with `expit(...)`, `normal_cdf(...)`, `1 - exp(-exp(...))` or
`-expm1(-exp(...))`, also as a derived quantity, `probability=chance`; so does what is taken from
1, `1 - expit(...)` or `1 - chance`.

**Functions of your own.** `mw.register("wheel_power", function)` makes a function of arrays known,
in text and, by what it returns, in Python. Write it with `jax.numpy`, or pass `black_box=True`:
such a model is sampled without gradients. A function that makes a vector or a matrix says so,
`mw.register("swing", function, gives=(2, 2))`, and is an argument of what takes one:
`state_space(transition=swing(period, damping), ...)`.
"""


def parameter_words(parameter: Parameter) -> str:
    """Return one argument with its meaning and what it may be."""
    shown = parameter.name if parameter.positional else f"{parameter.name}="
    instead = f", instead of `{parameter.instead_of}`" if parameter.instead_of else ""
    rank = ""
    if parameter.rank == 2:
        rank = ", a matrix"
    elif parameter.rank:
        rank = (
            ", one for each label" if parameter.own_labels else ", one for all or for each label"
        )
    left = ", may be left out" if parameter.optional else ""
    domain = DOMAIN_WORDS[parameter.domain]
    return f"`{shown}` {parameter.meaning} ({domain}{rank}{instead}{left})"


# Arguments at which support and mean are looked up; unlike any bound that is not an argument.
_TYPICAL = {"real": 0.31, "positive": 3.1, "probability": 0.31, "count": 11.0}


def support_words(family: Distribution) -> str:
    """Return which values have positive density."""
    if isinstance(family, VectorFamily):
        return family.contents()
    if isinstance(family, Flat):
        return "all numbers from `low` to `high`, without end where a bound is left out"
    if not isinstance(family, Family):
        return "labels"
    given = _values(family)
    support = family.support(given)
    kind = "whole numbers" if support.whole else "numbers"
    lower, upper = _bound(support.lower, given), _bound(support.upper, given)
    if not lower:
        return f"all {kind}"
    return f"{kind} from {lower} {f'to {upper}' if upper else 'upwards'}"


def _bound(value: Any, given: dict[str, np.ndarray]) -> str:
    """Return a bound in words: the argument that it is, or its number."""
    if value is None:
        return ""
    names = [f"`{name}`" for name, argument in given.items() if argument == value]
    signs = {np.pi: "pi", -np.pi: "-pi"}
    return names[0] if names else signs.get(float(value), f"{float(value):g}")


def mean_words(family: Family) -> str:
    """Say whether there is a mean."""
    return "yes" if np.isfinite(family.mean(_values(family))).all() else "none"


def _values(family: Family) -> dict[str, np.ndarray]:
    if family.name == "uniform":
        return {"low": np.asarray(0.31), "high": np.asarray(3.1)}
    needed = [p for p in family.parameters if not p.instead_of and not p.optional]
    return {
        parameter.name: np.asarray(_TYPICAL[parameter.domain] + (number if number < 2 else 0))
        for number, parameter in enumerate(needed)
        if parameter.domain != "probability"
    } | {p.name: np.asarray(0.31) for p in needed if p.domain == "probability"}


def distribution_row(family: Distribution) -> str:
    """Return one row of the table of distributions."""
    arguments = "<br>".join(map(parameter_words, family.parameters))
    words = [f"`{family.name}`", family.summary, arguments, support_words(family)]
    if isinstance(family, Flat):
        words += ["none", "yes"]
    elif isinstance(family, Family):
        words += [mean_words(family), "yes" if family.truncatable else "no"]
    return f"| {' | '.join(words)} |"


MODIFIED = """These take distributions as their first arguments. Which component of a mixture a row
came from is summed out; `posterior.membership()` gives the probabilities afterwards. A mixture
over a label set has one component for each label: `mixture(normal(centre, 1), weights=share)` with
`centre` and `share` both `per source`. Each component may have a line of its own, and its chance
follow a column: `mixture(normal(centre + slope * hours, 1), weights=exp(lean * flow))`. A limit
or a grid goes around a mixture, `censored(mixture(...), low=0)`: components that are recorded in
different ways do not mix.
"""


def modifier_row(kind: type[Modified | Ordered]) -> str:
    """Return one row of the table of modifiers."""
    own = "; ".join(f"`{q.name}`: {q.meaning} ({DOMAIN_WORDS[q.domain]})" for q in kind.own)
    return f"| `{kind.name}` | {kind.summary} | `{modifier_usage(kind)}`<br>{own} |"


def page() -> str:
    """Return the text of the page."""
    lines = [HEAD.replace("RESERVED", ", ".join(f"`{n}`" for n in sorted(RESERVED)))]
    lines += ["## Distributions of numbers", "", "![Shapes](shapes.png)", ""]
    lines += ["`low=` and `high=` cut a continuous distribution, with the right constant.", ""]
    columns = "| name | what it is | arguments | values |"
    lines += [f"{columns} mean | can be cut |", "| --- | --- | --- | --- | --- | --- |"]
    plain = {n: f for n, f in DISTRIBUTIONS.items() if isinstance(f, Family | Flat)}
    lines += [distribution_row(plain[name]) for name in sorted(plain)]
    lines += ["", "## Distributions of labels, vectors, matrices and series", ""]
    lines += [columns, "| --- | --- | --- | --- |"]
    lines += [distribution_row(DISTRIBUTIONS[n]) for n in sorted(DISTRIBUTIONS) if n not in plain]
    lines += ["", "## Kernels of Gaussian processes", ""]
    lines += ["`inputs` is a column, or a matrix of several. `scale` is a standard deviation."]
    lines += [
        "An outcome whose whole kernel is a `matern` one of one column, with `noise`, takes time "
        "in proportion to its rows; others factor a matrix at each step.",
        "",
    ]
    lines += ["| written | gives |", "| --- | --- |"]
    lines += [f"| `{kernel_usage(n)}` | {k.summary} |" for n, k in sorted(KERNELS.items())]
    lines += ["", "## Distributions made from others", "", MODIFIED]
    lines += ["| name | what it is | written |", "| --- | --- | --- |"]
    kinds = [*MODIFIERS.values(), *VARIANTS.values()]
    lines += sorted(modifier_row(kind) for kind in kinds)
    lines += ["", "## Functions", "", "| name | gives |", "| --- | --- |"]
    lines += [f"| `{name}` | {words} |" for name, (_, _, words) in sorted(FUNCTIONS.items())]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
