"""What a regression says of its choices."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from millwright.studies.regression_model import (
    RegressionParts,
)

__all__ = ["choice_words"]


def choice_words(parts: RegressionParts, settings: Mapping[str, Any]) -> tuple[str, ...]:
    unit = f"{parts.unit:g}"
    lines = [
        f"Family {parts.family.name}, link {parts.link}."
        + (" One unit of the predictor is 1." if parts.unit == 1.0 else "")
    ]
    if parts.design.intercept:
        lines.append(
            "Predictors are shifted to mean 0 and scaled to sd 1 inside the model: `intercept` is "
            "for all of them at their means, `slope` for a change of one sd. The table gives both "
            "scales."
        )
    else:
        lines.append("Without an intercept predictors are not shifted.")
    lines.append(
        f"Usual priors, in units of the outcome's sd on the predictor's scale ({unit}): intercept "
        "normal, sd of 3 units, around the middle of the outcome; slopes normal(0, 2 units) for a "
        "change of one sd of the predictor; noise half-normal(3 units); spread between groups "
        "half-normal(1 unit)."
    )
    if parts.shrinkage is not None:
        lines.append(parts.shrinkage.words)
    if settings["priors"]:
        lines.append(
            f"Priors given by you: {', '.join(f'`{name}`' for name in settings['priors'])}."
        )
    if parts.family.name == "categorical":
        lines.append(
            "Every label has a base and coefficients of its own around 0. Of these the data only "
            f"say how they differ: answers are for each label against `{parts.labels[0]}`, the "
            "first (`labels` says which)."
        )
    for group in parts.groups:
        lines.append(
            f"Effects per `{group.name}`: {', '.join(group.terms)}"
            + (", correlated (lkj, shape 2)." if len(group.terms) > 1 else ".")
        )
    return tuple(lines)
