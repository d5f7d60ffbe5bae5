"""Writes docs/language.md from the code: `python docs/generate.py`.

A test compares the file with what this gives, so that the page cannot go stale.
"""

from __future__ import annotations

from pathlib import Path

from millwright.distributions.family import DOMAIN_WORDS, Family
from millwright.distributions.modifiers import Modified
from millwright.distributions.registry import DISTRIBUTIONS, MODIFIERS
from millwright.language.vocabulary import FUNCTIONS, RESERVED
from millwright.modelling.arguments import modifier_usage

PAGE = Path(__file__).parent / "language.md"

HEAD = """# The model language

A model is a set of named definitions. Each is a line of text, a Python function whose argument
names are the quantities it needs, or a number. All mean the same and mix freely:

```python
priors={"spread": "half_normal(1)"}
priors={"spread": lambda: mw.half_normal(1)}
priors={"spread": 0.5}                        # held fixed
```

**Text** is `expression` or `expression per label set`. Expressions are arithmetic (`+ - * / **
@`), comparisons, `and`, `or`, `not`, calls of the functions below, and brackets. Nothing else is
accepted, and nothing in a text is ever executed. In a Python function write `mw.exp(...)` for
`exp(...)`, `&`, `|`, `~` for `and`, `or`, `not`, and `mw.normal(0, spread).per("stone")` for
`normal(0, spread) per stone`.

**Names.** A name is an unknown, a derived quantity, or a data column; a definition and a column
that the data have may not share one. Names compare after Unicode NFKC normalisation. Columns
whose names cannot be written get another: `columns={"moisture": "Moisture (%)"}`, and
`columns={"X": ["age", "hours"]}` makes a matrix of several. Reserved: RESERVED.

**Labels.** `per stone` makes one unknown for each label of the column `stone`.
`effect[stone]` looks each row's label up, `effect["Upper"]` picks one. Brackets hold labels,
never positions, also where labels are whole numbers. The order of labels is that of a
categorical column, else sorted. Inside a `per stone` definition a column must have one value for
each stone.

**Combining.** Quantities combine by label set, never by length. Two different label sets meet
only through brackets. `X @ weights`, the same as `dot(X, weights)`, sums over the label set that
both share.

**Arguments** of distributions are given by name; only location and scale may go without.
"""


def distribution_row(family: Family) -> str:
    """Return one row of the table of distributions."""
    arguments = []
    for parameter in family.parameters:
        shown = parameter.name if parameter.positional else f"{parameter.name}="
        instead = f", instead of `{parameter.instead_of}`" if parameter.instead_of else ""
        domain = DOMAIN_WORDS[parameter.domain]
        arguments.append(f"`{shown}` {parameter.meaning} ({domain}{instead})")
    bounds = "yes" if family.truncatable else "no"
    return f"| `{family.name}` | {family.summary} | {'<br>'.join(arguments)} | {bounds} |"


MODIFIED = """These take distributions as their first arguments. A mixture of more than two is a
mixture of mixtures; which component a row came from is summed out.
"""


def modifier_row(kind: type[Modified]) -> str:
    """Return one row of the table of modifiers."""
    own = "; ".join(f"`{q.name}`: {q.meaning} ({DOMAIN_WORDS[q.domain]})" for q in kind.own)
    return f"| `{kind.name}` | {kind.summary} | `{modifier_usage(kind)}`<br>{own} |"


def page() -> str:
    """Return the text of the page."""
    lines = [HEAD.replace("RESERVED", ", ".join(f"`{n}`" for n in sorted(RESERVED)))]
    lines += ["## Distributions", ""]
    lines += ["`low=` and `high=` cut a continuous distribution, with the right constant.", ""]
    lines += ["| name | what it is | arguments | can be cut |", "| --- | --- | --- | --- |"]
    lines += [distribution_row(DISTRIBUTIONS[name]) for name in sorted(DISTRIBUTIONS)]
    lines += ["", "## Distributions made from others", "", MODIFIED]
    lines += ["| name | what it is | written |", "| --- | --- | --- |"]
    lines += [modifier_row(MODIFIERS[name]) for name in sorted(MODIFIERS)]
    lines += ["", "## Functions", "", "| name | gives |", "| --- | --- |"]
    lines += [f"| `{name}` | {words} |" for name, (_, _, words) in sorted(FUNCTIONS.items())]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
