"""The page: parts put into a template, written as one file that needs nothing else."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from importlib.resources import files
from pathlib import Path
from typing import Any

from jinja2 import Environment, StrictUndefined

from millwright.checks import check_path
from millwright.diagnostics.verdict import Verdict
from millwright.draws.decision import Decision
from millwright.errors import ArgumentError
from millwright.modelling.pictures import latex
from millwright.posterior.posterior import Posterior
from millwright.reporting import parts
from millwright.reporting.further import further_results
from millwright.reporting.pictures import mathematics
from millwright.reporting.repeating import repeating
from millwright.reporting.study_part import study_part
from millwright.storage.place import check_new
from millwright.storage.sheet import write_new
from millwright.studies.findings import Findings
from millwright.wording import for_page, visible

__all__ = ["report"]

_PARTS = (
    "Question and data",
    "Model",
    "Prior check",
    "How it was sampled",
    "Convergence",
    "Posterior",
    "Predictive check",
    "Comparison",
    "How to repeat it",
)
_MARKS = {"stop": "#B95430", "caution": "#D9B055", "note": "#86B87E"}


def report(
    posterior: Posterior | Findings,
    path: str | Path,
    *,
    names: Sequence[str] | None = None,
    decisions: Sequence[Decision] = (),
    statements: Sequence[str] = (),
    compare_with: Mapping[str, Posterior] | None = None,
    results: Sequence[Any] = (),
    level: float = 0.95,
    name: str = "this",
    replace: bool = False,
) -> Path:
    """Write an analysis as one self-contained HTML page, in the order of its nine steps.

    Pictures are inside the page, no script is needed to read it, and text from sheets, data and
    labels is always shown as text.

    Parameters
    ----------
    posterior
        The fit that the page is about; or the findings of a study, whose question and answer
        then stand above.
    path
        The file to write.
    names
        Quantities for the figures, at most 12 numbers; by default the first ones.
    decisions
        Results of `posterior.decide(...)` to show.
    statements
        Statements whose probabilities to show, such as `drying < 0`.
    compare_with
        Other fits of the same data, by name.
    results
        Further results to show, with their figures: of `evidence()`, `bayes_factor(...)`,
        `mw.bayes_factors(...)`, `mw.average(...)`, `mw.evidence_path(...)`, `under_priors(...)`,
        `calibration(...)` and the like. What `prior_sensitivity()` found is shown once asked.
    level
        Level of the intervals in the table.
    name
        What the fit is called beside the others.
    replace
        Whether to overwrite a file that is there.

    Returns
    -------
    The path of the page.

    Raises
    ------
    ArgumentError
        For what is no posterior, no findings or no decision, or quantities that are not there.
    StorageError
        If the file exists already or cannot be written.
    """
    findings = posterior if isinstance(posterior, Findings) else None
    if isinstance(posterior, Findings):
        posterior = posterior.posterior
    if not isinstance(posterior, Posterior):
        raise ArgumentError(f"A posterior is needed here, not {type(posterior).__name__}.")
    if name in (compare_with or {}):
        raise ArgumentError(f"Two fits are called {name!r}: give this one another `name`.")
    for one in decisions:
        if not isinstance(one, Decision):
            raise ArgumentError(f"`decisions` holds results of decide(), not {one!r}.")
    place = check_path("path", path)
    check_new(place, replace)
    further = further_results(posterior, results)
    content = _content(posterior, names, decisions, statements, compare_with or {}, level, name)
    content["further"] = further
    content["study"] = None
    if findings is not None:
        content |= {"study": study_part(findings), **_judged(findings.verdict)}
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True)
    template = files("millwright.reporting").joinpath("page.html").read_text("utf-8")
    write_new(place, environment.from_string(template).render(content), replace)
    return place


def _content(
    posterior: Posterior,
    names: Sequence[str] | None,
    decisions: Sequence[Decision],
    statements: Sequence[str],
    others: Mapping[str, Posterior],
    level: float,
    name: str,
) -> dict[str, Any]:
    binding, record = posterior.draws.binding, posterior.record
    specification = binding.specification
    prior_words, prior_pictures = parts.prior_parts(posterior)
    every = {name: posterior, **others}
    compared, compared_pictures = parts.comparison(every) if others else ("", [])
    filled = record.settings.get("filled", 0)
    check = posterior.predictive_check() if binding.program.outcomes and not filled else None
    figures = {
        "rank_counts": None,
        "prior_posterior": None,
        **parts.figures(posterior, names, check),
    }
    return {
        "title": visible(specification.title) or "An analysis without a title",
        "notes": specification.notes,
        "parts": _PARTS,
        "facts": _facts(posterior),
        **_judged(posterior.verdict),
        "for_page": for_page,
        "data": parts.data_table(binding),
        "left_out": [
            f"Rows left out because `{name}` was missing: {count}."
            for name, count in record.dropped.items()
        ],
        "description": posterior.describe(),
        "latex": latex(specification),
        "formulas": mathematics(latex(specification)),
        "prior_words": prior_words,
        "prior_pictures": prior_pictures,
        "sampled": _sampled(posterior),
        "figures": figures,
        "groups": parts.group_figures(posterior, names),
        "table": posterior.summary(level=level, form="html"),
        "decisions": parts.decisions(decisions),
        "statements": _answers(posterior, statements),
        "check": "" if check is None else str(check),
        "comparison": compared,
        "comparison_pictures": compared_pictures,
        "repeating": repeating(posterior),
    }


def _judged(verdict: Verdict) -> dict[str, Any]:
    """Return a verdict and the colour that marks it."""
    weights = {finding.weight for finding in verdict.findings}
    worst = next((w for w in ("stop", "caution") if w in weights), "note")
    return {"verdict": verdict, "mark": _MARKS[worst]}


def _facts(posterior: Posterior) -> str:
    sizes = posterior.draws.binding.tables.sizes.values()
    chains, draws = posterior.draws.shape
    rows = " and ".join(f"{size} rows" for size in sizes) or "no data"
    started = _for_people(posterior.record.started)
    exact = posterior.record.origin.independent
    made = f"{chains * draws} independent" if exact else f"{chains} chains of {draws}"
    return f"{rows}; {made} draws; started {started}."


def _for_people(moment: str) -> str:
    """Return an ISO 8601 moment as a date and time to the minute."""
    when = datetime.fromisoformat(moment)
    return f"{when.day} {when:%B %Y, %H:%M} {when.tzname() or ''}".strip()


def _sampled(posterior: Posterior) -> str:
    record = posterior.record
    chains, draws = posterior.draws.shape
    seconds = record.seconds
    settings = record.settings
    if record.origin.independent:
        return f"{settings['method']}: {chains * draws} independent draws. Seed {record.seed}."
    return (
        f"Method: {settings['method']}. {chains} chains, each {settings['warmup']} iterations of "
        f"warm-up and {draws} kept draws"
        + (f", one of {settings['thin']} iterations each" if settings.get("thin", 1) > 1 else "")
        + f". Seed {record.seed}. It took {seconds.get('compiling', 0.0):.1f} s to compile and "
        f"{seconds.get('sampling', 0.0):.1f} s to sample."
    )


def _answers(posterior: Posterior, statements: Sequence[str]) -> list[str]:
    found = []
    for statement in statements:
        answer = posterior.probability(statement)
        found += [str(a) for a in answer.values()] if isinstance(answer, dict) else [str(answer)]
    return found
