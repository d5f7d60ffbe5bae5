"""What a study found: an answer in words, the verdict, and tables."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

import millwright
from millwright.checks import check_path, check_whole
from millwright.cores import one_thread
from millwright.diagnostics.finding import Finding
from millwright.diagnostics.verdict import Verdict
from millwright.display import Shown
from millwright.draws.decision import Decision
from millwright.draws.intervals import IntervalKind, check_kind, check_level
from millwright.draws.table import Table, make_table
from millwright.draws.table_forms import Form, written
from millwright.evidence.bayes_factor import BayesFactor
from millwright.posterior.posterior import Posterior
from millwright.sampling.progress import Listener
from millwright.storage.place import check_new
from millwright.studies.folder import StudyFolder
from millwright.studies.sentences import bulleted
from millwright.wording import for_python, visible

if TYPE_CHECKING:
    from millwright.studies.study import Study

__all__ = ["Findings"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Findings(Shown):
    """What a study found.

    Attributes
    ----------
    study
        The study, with its question, data and models.
    posteriors
        The posterior of each fitted model, by name; the first gives the answer.
    fit_settings
        Settings of the fits.
    level, kind
        Level and kind of the intervals in answers and tables; `with_interval` changes them.
    """

    study: Study
    posteriors: Mapping[str, Posterior] = field(repr=False)
    fit_settings: Mapping[str, Any] = field(repr=False)
    level: float = 0.95
    kind: IntervalKind = "central"

    @property
    def posterior(self) -> Posterior:
        """The posterior of the model that gives the answer."""
        return next(iter(self.posteriors.values()))

    @property
    def verdict(self) -> Verdict:
        """The verdict on the draws that the answer rests on, and on the model for these data."""
        drawn = self.posterior.verdict
        return replace(drawn, findings=(*self._cautions(), *drawn.findings))

    def _cautions(self) -> tuple[Finding, ...]:
        """Return what speaks against the model for these data."""
        return ()

    @property
    def question(self) -> str:
        """What was asked."""
        return self.study.question

    @property
    def _stopped(self) -> bool:
        """Whether the draws must not be used."""
        every = [finding for one in self.posteriors.values() for finding in one.verdict.findings]
        return any(finding.weight == "stop" for finding in (*every, *self._cautions()))

    @property
    @one_thread
    def answer(self) -> tuple[str, ...]:
        """The answer in sentences; none where the draws must not be used."""
        if self._stopped:
            return ("No answer: the draws must not be used, as the verdict says.",)
        return self._sentences()

    @property
    @one_thread
    def numbers(self) -> dict[str, np.ndarray]:
        """Draws of every number that the study asks for, each of shape (chains, draws)."""
        return self._numbers()

    @abstractmethod
    def _sentences(self) -> tuple[str, ...]: ...

    @abstractmethod
    def _numbers(self) -> dict[str, np.ndarray]: ...

    def with_interval(self, level: float = 0.95, kind: IntervalKind = "central") -> Findings:
        """Return the same findings told with other intervals.

        Parameters
        ----------
        level
            Posterior probability inside, above 0 and below 1.
        kind
            `central` or `hdi`.

        Returns
        -------
        The findings.

        Raises
        ------
        ArgumentError
            For a level outside (0, 1) or another kind.
        """
        return replace(self, level=check_level(level), kind=check_kind(kind))

    def table(self) -> pd.DataFrame:
        """Summarise every number that the study asks for, one row a number.

        Returns
        -------
        Columns as of `Posterior.table`.
        """
        from millwright.posterior.summaries import table_frame

        return table_frame(self._table(), "quantity")

    def _table(self) -> Table:
        return make_table(
            self.numbers, self.level, self.kind, one_sided=self._one_sided(), exact=self._exact()
        )

    def _exact(self) -> Mapping[str, Mapping[str, float]]:
        """Return what is known without draws, by number and column of the table."""
        return {}

    def _one_sided(self) -> tuple[str, ...]:
        """Return the numbers that cannot be negative."""
        return ()

    def summary(self, form: Form = "text") -> str:
        """Return the table as `text`, `markdown`, `html`, `latex` or `csv`.

        Raises
        ------
        ArgumentError
            For another form.
        """
        return written(self._table(), form)

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Decisions on the regions of practical equivalence that the study was given."""
        return ()

    @property
    def factors(self) -> tuple[BayesFactor, ...]:
        """Bayes factors that belong to the answer."""
        return ()

    @property
    def weighed(self) -> tuple[str, ...]:
        """Decisions and Bayes factors in words; none where the draws must not be used."""
        if self._stopped:
            return ()
        return tuple(str(one) for one in (*self.decisions, *self.factors))

    def __str__(self) -> str:
        return self.told(for_python)

    def told(self, word: Callable[[str], str]) -> str:
        """Return question, answer, verdict and table as text, with advice worded by a face."""
        verdict = self.verdict
        warned = "" if verdict.good else f"{verdict.headline}\n"
        answer = self.answer
        parts = [f"Question: {visible(self.question)}", warned + bulleted(answer)]
        parts += self.weighed
        parts.append(verdict.told(word))
        for name, posterior in list(self.posteriors.items())[1:]:
            parts.append(f"Of the model `{visible(name)}`: {posterior.verdict.headline}")
        parts.append(self.summary())
        if self.study.remarks:
            parts.append("\n".join(map(visible, self.study.remarks)))
        return "\n\n".join(parts)

    @property
    def record(self) -> dict[str, Any]:
        """All of it as plain values."""
        verdict = self.verdict
        decisions = () if self._stopped else self.decisions
        factors = () if self._stopped else self.factors
        return {
            "study": self.study.kind,
            "question": self.question,
            "answer": list(self.answer),
            "good": verdict.good,
            "verdict": verdict.headline,
            "interval": {"level": self.level, "kind": self.kind},
            "decisions": [
                {
                    "quantity": one.quantity,
                    "region": list(one.region),
                    "level": one.level,
                    "kind": one.kind,
                    "outcomes": one.outcomes,
                }
                for one in decisions
            ],
            "bayes_factors": [one.record for one in factors],
            "remarks": list(self.study.remarks),
            "seed": self.posterior.record.seed,
        }

    def report(self, path: str | Path, *, replace: bool = False, **parts: Any) -> Path:
        """Write the study as one page, question and answer above the nine steps.

        Parameters
        ----------
        path
            The file to write.
        replace
            Whether to overwrite a file that is there.
        parts
            Further arguments of `mw.report`, such as `results=[...]`.

        Returns
        -------
        The path of the page.

        Raises
        ------
        StorageError
            If the file exists already or cannot be written.
        """
        # Pages stand above studies: through the public face, as for posteriors.
        return Path(millwright.report(self, path, replace=replace, **parts))

    def extend(
        self,
        more: int,
        *,
        workers: int | Executor | None = None,
        progress: bool | Listener = True,
        save: str | Path | None = None,
        replace: bool = False,
    ) -> Findings:
        """Go on sampling: return the findings of so many more draws a chain of every model.

        The draws are those that one longer fit would have had.

        Parameters
        ----------
        more
            How many draws to add to each chain.
        workers, progress
            As for `Study.fit`.
        save, replace
            A folder for the longer study, and whether to overwrite a study that is there.

        Returns
        -------
        The longer findings; these stay as they are.

        Raises
        ------
        ArgumentError
            If the draws of a model are exact ones, which do not go on.
        StorageError
            If something is in the way.
        Interrupted
            On Ctrl-C; nothing is added then.
        """
        check_whole("more", more, 1)
        if save is not None:
            check_new(check_path("save", save), replace)
        longer = {
            name: self.study.extended(name, posterior, more, workers, progress)
            for name, posterior in self.posteriors.items()
        }
        drawn = next(iter(longer.values())).draws.shape[1]
        settings = {**self.fit_settings, "draws": drawn}
        made = self.study._found(longer, settings)
        found = made.with_interval(self.level, self.kind)
        if save is not None:
            found.save(save, replace)
        return found

    def save(self, path: str | Path, replace: bool = False) -> None:
        """Store the study and the runs of its models in a folder, for `mw.studies.load`.

        Parameters
        ----------
        path
            The folder.
        replace
            Whether to overwrite a study that is there.

        Raises
        ------
        StorageError
            If something is in the way or the disk cannot be written.
        """
        stored = self.study.stored(self.fit_settings, tuple(self.posteriors))

        def runs(folder: StudyFolder) -> None:
            for name, posterior in self.posteriors.items():
                posterior.save(folder.run(name))

        StudyFolder(check_path("path", path)).write(stored, runs, replace)
