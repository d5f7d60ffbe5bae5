"""The mathematical functions of the model language, by the names NumPy and SciPy use.

Distributions are not listed here: a call of any name can be read, and the names are checked
against both lists when a model is put together.
"""

from __future__ import annotations

__all__ = ["COMPARISONS", "FUNCTIONS", "RESERVED"]

# name: (fewest arguments, most arguments, what it gives)
FUNCTIONS: dict[str, tuple[int, int, str]] = {
    "abs": (1, 1, "absolute value"),
    "arctan": (1, 1, "inverse tangent, in radians"),
    "cos": (1, 1, "cosine of an angle in radians"),
    "dot": (2, 2, "sum of products over the label set both sides share"),
    "erf": (1, 1, "error function"),
    "exp": (1, 1, "exponential"),
    "expit": (1, 1, "inverse of logit: 1 / (1 + exp(-x))"),
    "expm1": (1, 1, "exp(x) - 1, exact near zero"),
    "log_gamma": (1, 1, "logarithm of the gamma function"),
    "log": (1, 1, "natural logarithm"),
    "log10": (1, 1, "logarithm to base 10"),
    "log1p": (1, 1, "log(1 + x), exact near zero"),
    "logit": (1, 1, "log odds: log(p / (1 - p))"),
    "maximum": (2, 2, "larger of two values, element by element"),
    "mean": (1, 1, "mean over all labels and rows"),
    "minimum": (2, 2, "smaller of two values, element by element"),
    "normal_cdf": (1, 1, "standard normal distribution function"),
    "sd": (1, 1, "standard deviation over all labels and rows (divisor: count - 1)"),
    "sin": (1, 1, "sine of an angle in radians"),
    "sqrt": (1, 1, "square root"),
    "standardise": (
        1,
        1,
        "(x - mean) / sd over the rows, column by column, or over the labels if there are no rows",
    ),
    "sum": (1, 1, "sum over all labels and rows"),
    "tan": (1, 1, "tangent of an angle in radians"),
    "tanh": (1, 1, "hyperbolic tangent"),
    "where": (3, 3, "second value where the first holds, else the third"),
}

COMPARISONS = frozenset({"<", "<=", ">", ">=", "==", "!="})

RESERVED = frozenset({"chain", "draw", "iteration", "row"})
