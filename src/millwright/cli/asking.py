"""The command that puts questions to a stored run."""

from __future__ import annotations

import re
from typing import Annotated, Any

import typer

from millwright.cli.base import Json, Run, answer, app
from millwright.errors import ArgumentError

__all__ = ["ask", "sensitivity"]

_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
_REGION = re.compile(rf"(?P<quantity>.+?):\s*(?P<low>{_NUMBER})\s+to\s+(?P<high>{_NUMBER})\s*$")
_VALUE = re.compile(rf"(?P<quantity>.+?):\s*(?P<value>{_NUMBER})\s*$")


@app.command()
def ask(
    run: Run,
    questions: Annotated[
        list[str] | None,
        typer.Argument(
            help="A statement ('slope > 0'), a region of practical equivalence ('slope: -0.05 to "
            "0.05'), or a value ('slope: 0'); several can be asked."
        ),
    ] = None,
    contrasts: Annotated[
        list[str] | None,
        typer.Option(
            help="A quantity with labels: all differences between its labels; repeatable."
        ),
    ] = None,
    against: Annotated[
        str | None, typer.Option(help="With --contrasts: the label to compare with.")
    ] = None,
    bayes_factor: Annotated[
        bool,
        typer.Option(
            "--bayes-factor",
            help="Say how many times more probable the data are if a statement holds than if not; "
            "a point is asked as 'slope == 0'.",
        ),
    ] = False,
    level: Annotated[
        float, typer.Option(help="Probability inside intervals, of decisions and contrasts.")
    ] = 0.95,
    as_json: Json = False,
) -> None:
    """Say how probable statements are, decide about regions and values, compare labels."""
    from millwright.models.runs import load

    if not questions and not contrasts:
        raise ArgumentError(
            "Ask something: a statement such as 'slope > 0', a region such as 'slope: -0.05 to "
            "0.05', or --contrasts effect."
        )
    if bayes_factor and not questions:
        raise ArgumentError("--bayes-factor needs a statement, such as 'slope < 0'.")
    if against is not None and not contrasts:
        raise ArgumentError("--against goes with --contrasts.")
    posterior = load(run)
    texts: list[str] = []
    record: dict[str, Any] = {}
    for question in questions or ():
        if bayes_factor:
            found = posterior.bayes_factor(question)
            text, record[question] = str(found), found.record
        else:
            text, record[question] = _answered(posterior, question, level)
        texts.append(text)
    for name in contrasts or ():
        from millwright.cli.reports import rows_record

        frame = posterior.contrasts(name, against, level)
        texts.append(f"Differences of `{name}`:\n{posterior.contrasts_text(name, against, level)}")
        record[f"contrasts {name}"] = rows_record(frame)
    if not posterior.verdict.good:
        texts.insert(0, f"Verdict: {posterior.verdict.headline}")
    record["good"] = posterior.verdict.good
    answer("\n\n".join(texts), record, as_json, posterior.verdict.good)


def _answered(posterior: Any, question: str, level: float) -> tuple[str, Any]:
    """Return the answer to one question as text and as plain values."""
    region, value = _REGION.match(question), _VALUE.match(question)
    if region is None and value is None:
        found = posterior.probability(question)
        several = found if isinstance(found, dict) else {"": found}
        plain = {
            name: {
                "probability": p.value,
                "monte_carlo_error": p.monte_carlo_error,
                "two_sided": p.two_sided,
            }
            for name, p in several.items()
        }
        heading = f"Given model and data, the probability of `{question}`:\n"
        text = f"{heading}{found}" if isinstance(found, dict) else str(found)
        return text, plain if isinstance(found, dict) else plain[""]
    if region is not None:
        ends = float(region["low"]), float(region["high"])
        made = posterior.decide(region["quantity"].strip(), rope=ends, level=level)
    elif value is not None:
        null = float(value["value"])
        made = posterior.decide(value["quantity"].strip(), null=null, level=level)
    plain = {
        name: dict(zip(("below", "inside", "above"), made.shares(name), strict=True))
        | {"decision": outcome}
        for name, outcome in made.outcomes.items()
    }
    return str(made), plain


@app.command()
def sensitivity(
    run: Run,
    names: Annotated[
        list[str] | None, typer.Argument(help="Quantities or expressions; by default all.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Say which conclusions rest on which prior."""
    from millwright.models.runs import load

    posterior = load(run)
    found = posterior.prior_sensitivity(names or None)
    text = str(found)
    if not posterior.verdict.good:
        text = f"Verdict: {posterior.verdict.headline}\n\n{text}"
    record = {**found.record, "good": posterior.verdict.good}
    answer(text, record, as_json, posterior.verdict.good)
