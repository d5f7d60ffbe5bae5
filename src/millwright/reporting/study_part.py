"""What a page says of a study: its question, the answer, tables and figures."""

from __future__ import annotations

from dataclasses import dataclass

from millwright.plots.study import study_figures
from millwright.reporting.pictures import Picture, picture
from millwright.studies.findings import Findings

__all__ = ["StudyPart", "study_part"]

_NOT_SHOWN = ("pairs",)


@dataclass(frozen=True, kw_only=True)
class StudyPart:
    """A study at the top of a page.

    Attributes
    ----------
    answer
        Sentences.
    weighed
        Bayes factors and decisions in words.
    table
        The numbers that were asked for, as HTML.
    choices, remarks
        What the study chose, and what is to be known of the data.
    """

    question: str
    answer: tuple[str, ...]
    weighed: tuple[str, ...]
    table: str
    pictures: tuple[Picture, ...]
    choices: tuple[str, ...]
    remarks: tuple[str, ...]


def study_part(findings: Findings) -> StudyPart:
    """Return the part of a page that is about the study."""
    figures = study_figures(findings)
    told = " ".join(findings.answer)
    return StudyPart(
        question=findings.question,
        answer=findings.answer,
        weighed=findings.weighed,
        table=findings.summary(form="html"),
        pictures=tuple(
            picture(draw(None, True), told)
            for name, draw in figures.items()
            if name not in _NOT_SHOWN
        ),
        choices=findings.study.choices,
        remarks=(*findings.study.data_lines(), *findings.study.remarks),
    )
