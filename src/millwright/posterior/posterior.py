"""The posterior of a fit: draws with everything that made them, and going on with it."""

from __future__ import annotations

from concurrent.futures import Executor
from pathlib import Path
from typing import Any

import millwright
from millwright.errors import ArgumentError, Interrupted
from millwright.fitting.job import extend_in_memory
from millwright.posterior.predicting import Predicting
from millwright.sampling.progress import Listener
from millwright.storage.place import check_free
from millwright.terminal.progress import chosen_listener

__all__ = ["Posterior"]


class Posterior(Predicting):
    """Posterior draws, tied to the model, data, seed and settings that made them."""

    def save(self, path: str | Path, existing: str = "refuse") -> None:
        """Store the run in a folder of open formats.

        Parameters
        ----------
        path
            The folder.
        existing
            `refuse` or `replace`: what to do if there is a run already.

        Raises
        ------
        StorageError
            If something is in the way or the disk cannot be written.
        """
        from millwright.fitting.in_folder import store

        store(Path(path), self._fitted, self.sheet, existing)

    def report(self, path: str | Path, **choices: Any) -> Path:
        """Write the analysis as one self-contained HTML page; as `mw.report(self, path)`.

        Parameters
        ----------
        path
            The file to write.
        choices
            `names`, `decisions`, `statements`, `compare_with`, `level`, `name` and `replace`, as
            `mw.report` takes them.

        Returns
        -------
        The path of the page.

        Raises
        ------
        ArgumentError
            For quantities that are not there.
        StorageError
            If the file exists already or cannot be written.
        """
        # Pages need the figures, which are built on posteriors; the public face has both.
        return Path(millwright.report(self, path, **choices))

    def extend(
        self,
        draws: int,
        *,
        workers: int | Executor | None = None,
        progress: bool | Listener = True,
        save: str | Path | None = None,
        existing: str = "refuse",
    ) -> Posterior:
        """Go on sampling; return a new posterior with that many more draws a chain.

        The draws are those that one longer fit would have had. Warm-up is not done again: where
        it was too short, fit anew with a longer one.

        Parameters
        ----------
        draws
            How many more draws of each chain.
        workers, progress
            As for `Model.fit`.
        save, existing
            Folder for the longer run. A stored run grows in its own folder by
            `mw.resume(path, draws=...)`.

        Raises
        ------
        ArgumentError
            If these draws did not come from chains that can go on.
        Interrupted
            On Ctrl-C; it carries what is done.
        """
        if isinstance(draws, bool) or not isinstance(draws, int) or draws < 1:
            raise ArgumentError(f"`draws` must be a whole number from 1, not {draws!r}.")
        if save is not None:
            check_free(Path(save), existing)
        listener = chosen_listener(progress)
        found, complete = extend_in_memory(self._fitted, draws, workers, listener)
        if found is None:
            raise Interrupted("The fit was stopped; nothing was added.", self)
        longer = Posterior(found.draws, found.record, found.statistics, self.sheet, found.trail)
        if save is not None:
            longer.save(save, existing)
        if not complete:
            raise Interrupted(
                f"The fit was stopped; the {longer.draws.shape[1]} draws a chain so far are in "
                "this error's `posterior`, and its `extend()` goes on.",
                longer,
            )
        return longer
