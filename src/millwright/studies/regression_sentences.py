"""The answer of a regression in sentences."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from millwright.draws.numbers import chance_text
from millwright.studies.regression_draws import RegressionDraws
from millwright.studies.regression_model import GroupTerms, RegressionParts

__all__ = ["sentences"]

_MOST_SENTENCES = 12
_SURE = 0.9

Sized = Callable[[np.ndarray], str]


def sentences(made: RegressionDraws, sized: Sized) -> tuple[str, ...]:
    """Return what the draws say of coefficients and groups.

    Parameters
    ----------
    sized
        Words of a number: its median with its interval.
    """
    lines = _of_coefficients(made, sized)
    share = made.explained()
    if share is not None:
        lines.append(f"Explained share of the variance (R2): {sized(share)}.")
    for group in made.parts.groups:
        lines += _of_groups(made, group, sized)
    lines.append(
        "Coefficients are for the other predictors held. Not asked: what causes what; "
        "findings.effect(...) shows a predictor on the outcome's scale."
    )
    return tuple(lines)


def _of_coefficients(made: RegressionDraws, sized: Sized) -> list[str]:
    """Return a sentence a coefficient, the largest for one sd of its predictor first."""
    raw, scaled = made.coefficients(), made.coefficients(standardised=True)
    middles = {key: float(np.median(values)) for key, values in scaled.items()}
    order = sorted(middles, key=lambda key: -abs(middles[key]))
    lines = [
        _coefficient(made.parts, key, raw[key], middles[key], sized)
        for key in order[:_MOST_SENTENCES]
    ]
    if len(order) > _MOST_SENTENCES:
        lines.append(f"... and {len(order) - _MOST_SENTENCES} coefficients more in the table.")
    return lines


def _coefficient(
    parts: RegressionParts, key: str, raw: np.ndarray, scaled: float, sized: Sized
) -> str:
    link = parts.link
    up = float((raw > 0).mean())
    sure = max(up, 1 - up)
    word = "positive" if up >= 0.5 else "negative"
    on = "" if link == "identity" else f" on the {link} scale"
    # Of a categorical outcome it is told for labels, such as `hours for b against a`.
    names = [name for name in parts.design.names if key.startswith(f"{name} for ")]
    labels = parts.design.labels_of(names[-1] if names else key)
    change = "one more" if labels is None else f"`{labels[0]}` in place of `{labels[1]}`"
    told = f"`{key}`: {sized(raw)}{on} for {change}; {word} with probability "
    told += chance_text(sure, raw.size)
    if link in ("log", "logit"):
        what = "odds" if link == "logit" else "means"
        told += f"; ratio of {what} {sized(np.exp(raw))}"
    if sure < _SURE:
        told += " (its direction is open)"
    if labels is not None:
        return f"{told}."
    return f"{told}. For one sd: {scaled:.2g}."


def _of_groups(made: RegressionDraws, group: GroupTerms, sized: Sized) -> list[str]:
    spread = made.posterior.draws.single([group.spread])
    told = "; ".join(f"{key} {sized(value)}" for key, value in spread.items())
    unit = "" if group.terms == ("1",) else " (slopes for one sd of the predictor)"
    lines = [f"Standard deviations between labels of `{group.name}`{unit}: {told}."]
    shared = made.intraclass(group)
    if shared is not None:
        lines.append(f"Intraclass correlation of `{group.name}`: {sized(shared)}.")
    return lines
