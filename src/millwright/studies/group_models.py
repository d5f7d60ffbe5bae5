"""The models of a study of groups: robust or normal, each group with a location and a scale."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Mapping
from typing import Any

from millwright.errors import ArgumentError, DataError
from millwright.language.printing import number_text
from millwright.models.model import Model
from millwright.studies.group_data import GroupData
from millwright.studies.priors import with_priors
from millwright.studies.reading import named
from millwright.studies.scales import middle_and_spread, spread_text
from millwright.wording import setting

__all__ = ["FAMILIES", "choices_of", "evidence_model", "groups_model", "single_model", "text_of"]

FAMILIES = ("student_t", "normal")
_WIDE = 5
_MEAN_DF = 29
_DEFINITIONS = (
    *("location", "scale", "df", "df_above_one", "normality", "effect", "base", "between"),
    *("difference", "scale_difference", "log_scale"),
)


def text_of(label: str) -> str:
    """Return a label as the model language writes it."""
    return json.dumps(label, ensure_ascii=False)


def check_family(family: str) -> None:
    """Refuse what is no family.

    Raises
    ------
    ArgumentError
        If it is none.
    """
    if family not in FAMILIES:
        raise ArgumentError(f"`family` must be one of {', '.join(FAMILIES)}, not {family!r}.")


def _usual(data: GroupData, family: str, per: str, pooled: bool) -> dict[str, Any]:
    """Return the usual priors of a model of groups."""
    middle, spread = middle_and_spread(data.values(), data.outcome)
    wide = spread_text(_WIDE * spread)
    priors: dict[str, Any] = {}
    if pooled:
        priors["base"] = f"normal({number_text(middle)}, {wide})"
        priors["between"] = f"half_normal({spread_text(spread)})"
        priors["location"] = f"normal(base, between){per}"
    else:
        priors["location"] = f"normal({number_text(middle)}, {wide}){per}"
    priors["scale"] = f"half_normal({wide}){per}"
    if family == "student_t":
        priors["df_above_one"] = f"exponential(rate=1 / {_MEAN_DF})"
    return priors


def choices_of(family: str, pooled: bool, given: Mapping[str, Any]) -> tuple[str, ...]:
    """Return in words what the usual priors are, and by which rule."""
    lines = []
    if family == "student_t":
        lines.append(
            "Values follow a Student t distribution, which outliers move little. Its degrees of "
            f"freedom are 1 + an exponential with mean {_MEAN_DF}: heavy tails and normal ones "
            "are both allowed. family='normal' for the normal distribution."
        )
    else:
        lines.append("Values follow a normal distribution; outliers count in full.")
    rules = {
        "location": f"location: normal with the mean of all values and {_WIDE} times their sd",
        "scale": f"scale: half-normal with {_WIDE} times the sd of all values",
    }
    if pooled:
        rules["location"] = (
            f"location: groups around a common base (normal, mean of all values and {_WIDE} times "
            "their sd), with an unknown sd between groups (half-normal with the sd of all values)"
        )
    kept = [words for name, words in rules.items() if name not in given]
    if kept:
        lines.append(f"Wide priors scaled to the data: {'; '.join(kept)}.")
    if given:
        lines.append(f"Priors given by you: {', '.join(f'`{name}`' for name in given)}.")
    return tuple(lines)


def _likelihood(family: str, at: str) -> str:
    if family == "normal":
        return f"normal(location{at}, scale{at})"
    return f"student_t(location{at}, scale{at}, df=df)"


def _shape(family: str) -> dict[str, str]:
    if family == "normal":
        return {}
    return {"df": "1 + df_above_one", "normality": "log10(df)"}


def single_model(
    data: GroupData, family: str, against: float | None, given: Mapping[str, Any], title: str
) -> Model:
    """Return the model of one group."""
    refuse_ties(data, family)
    # The columns of pairs stand beside their difference; none may be called as a definition is.
    names = named({data.outcome: "value"} | dict.fromkeys(data.labels, "of_pair"), _DEFINITIONS)
    derived = _shape(family)
    if against is not None:
        derived["difference"] = f"location - {number_text(against)}".replace("- -", "+ ")
        derived["effect"] = "difference / scale"
    return Model(
        title=title,
        priors=with_priors(_usual(data, family, "", False), given),
        likelihood={names.of[data.outcome]: _likelihood(family, "")},
        derived=derived,
        columns=names.aliases,
    )


def groups_model(
    data: GroupData, family: str, pooled: bool, given: Mapping[str, Any], title: str
) -> Model:
    """Return the model of several groups."""
    refuse_ties(data, family)
    column = str(data.group)
    names = named({data.outcome: "value", column: "group"}, _DEFINITIONS)
    group = names.of[column]
    derived = _shape(family)
    if len(data.labels) == 2:
        one, other = map(text_of, data.labels)
        derived["difference"] = f"location[{other}] - location[{one}]"
        derived["scale_difference"] = f"scale[{other}] - scale[{one}]"
        derived["effect"] = f"difference / sqrt((scale[{one}] ** 2 + scale[{other}] ** 2) / 2)"
    return Model(
        title=title,
        priors=with_priors(_usual(data, family, f" per {group}", pooled), given),
        likelihood={names.of[data.outcome]: _likelihood(family, f"[{group}]")},
        derived=derived,
        columns=names.aliases,
        labels={group: list(data.labels)},
    )


def refuse_ties(data: GroupData, family: str) -> None:
    """Refuse a group whose equal values would pull its scale to zero, without end.

    Of n values m are equal. As the scale goes to 0 around them, the density of a Student t with
    df near 1 goes as scale^((n - m) - m), and its integral has no end where m >= n - m + 2; of a
    normal only where all are equal.

    Raises
    ------
    DataError
        Which names the group.
    """
    for label in data.labels if data.group is not None else (None,):
        values = data.values(label)
        value, most = Counter(values.tolist()).most_common(1)[0]
        of = f" of `{label}`" if label is not None else ""
        if most == len(values) > 1:
            raise DataError(
                f"All {most} values of `{data.outcome}`{of} are {value:g}: they say nothing of a "
                "spread, and the scale would shrink to 0 without end. Leave this group out, or "
                "give values with their measured digits."
            )
        if family == "student_t" and most >= len(values) - most + 2:
            raise DataError(
                f"{most} of {len(values)} values of `{data.outcome}`{of} are {value:g}: a heavy-"
                "tailed distribution could shrink onto them without end. Choose "
                f"{setting('family', 'normal')}, or give values with their measured digits."
            )


def evidence_model(
    data: GroupData, effect: str | None, against: float | None, title: str
) -> Model:
    """Return the normal model with one scale in which an effect is there, or is not.

    Rouder et al. (2009): flat on the mean and on the logarithm of the scale, which both models
    share, and a prior on the standardised effect.
    """
    columns = {data.outcome: "value"}
    if data.group is not None:
        columns[data.group] = "group"
    names = named(columns, _DEFINITIONS)
    priors = {"log_scale": "flat()"}
    location = number_text(against or 0.0)
    if data.group is not None:
        priors = {"base": "flat()", **priors}
        other = text_of(data.labels[1])
        side = f"({names.of[data.group]} == {other}) - 0.5"
        location = "base"
    if effect is not None:
        priors["effect"] = effect
        by = f"({side}) * " if data.group is not None else ""
        location += f" + {by}effect * scale"
    return Model(
        title=title,
        priors=priors,
        likelihood={names.of[data.outcome]: f"normal({location}, scale)"},
        derived={"scale": "exp(log_scale)"},
        columns=names.aliases,
        labels={} if data.group is None else {names.of[data.group]: list(data.labels)},
    )
