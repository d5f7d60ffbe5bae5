"""Progress of a fit: one bar in a terminal, one line every few seconds elsewhere."""

from __future__ import annotations

import sys
from typing import IO

from millwright.sampling.progress import DataSetCount, Listener, Progress

__all__ = ["auto_listener", "bar_listener", "chosen_listener", "duration", "line_listener"]

_SECONDS_BETWEEN_LINES = 3.0
_LEAST_SHARE = 0.05


def auto_listener(stream: IO[str] | None = None) -> Listener:
    """Return a bar if the stream (standard error by default) is a terminal, else lines."""
    stream = stream or sys.stderr
    return bar_listener(stream) if stream.isatty() else line_listener(stream)


def chosen_listener(progress: bool | Listener) -> Listener:
    """Return the listener that a caller asked for: its own, the usual one, or silence."""
    if callable(progress):
        return progress
    return auto_listener() if progress else lambda event: None


def bar_listener(stream: IO[str]) -> Listener:
    """Return a listener that draws one bar for the whole fit."""
    # Loaded only where there is a terminal to draw in.
    from rich.console import Console
    from rich.progress import BarColumn, Progress as Bars, TaskID, TextColumn

    bars = Bars(
        TextColumn("{task.description}"),
        BarColumn(bar_width=30, complete_style="cyan", finished_style="cyan"),
        TextColumn("{task.percentage:>3.0f} %  {task.fields[note]}"),
        console=Console(file=stream),
        refresh_per_second=8,
    )
    task: list[TaskID] = []

    def listen(progress: Progress) -> None:
        if not task:
            bars.start()
            task.append(bars.add_task(_stage_words(progress), total=1.0, note=""))
        over = progress.stage in ("finished", "stopped")
        bars.update(
            task[0],
            description=_stage_words(progress),
            completed=progress.share,
            note=notes(progress),
        )
        if over:
            bars.stop()

    return listen


def line_listener(stream: IO[str]) -> Listener:
    """Return a listener that writes a line every few seconds, and one at the end."""
    last = [0.0]

    def listen(progress: Progress) -> None:
        over = progress.stage in ("finished", "stopped")
        if not over and progress.seconds - last[0] < _SECONDS_BETWEEN_LINES:
            return
        last[0] = progress.seconds
        percent = f"{100 * progress.share:.0f} %"
        print(f"{_stage_words(progress)}: {percent}, {notes(progress)}", file=stream, flush=True)

    return listen


def _stage_words(progress: Progress) -> str:
    if progress.data_sets is not None:
        return {"finished": "Fitted", "stopped": "Stopped"}.get(progress.stage, "Fitting")
    if progress.stage == "sampling" and all(chain.warming for chain in progress.chains):
        return "Warming up"
    return {
        "searching": "Looking for modes",
        "compiling": "Compiling",
        "weighing": "Weighing subsets",
        "sampling": "Sampling",
        "finished": "Sampled",
        "stopped": "Stopped",
    }[progress.stage]


def notes(progress: Progress) -> str:
    """Return time left, the slowest chain if it lags, and divergences, as a sentence each."""
    if progress.data_sets is not None:
        return _data_set_words(progress, progress.data_sets)
    if progress.stage in ("finished", "stopped"):
        return f"{duration(progress.seconds)}{_divergence_words(progress)}"
    # The first transitions are slow and say nothing about the rest.
    early = progress.share < _LEAST_SHARE or any(chain.done == 0 for chain in progress.chains)
    if not progress.chains or progress.share == 0 or (early and progress.share < 0.5):
        return ""
    left = progress.seconds * (1 - progress.share) / progress.share
    words = f"about {duration(left)} left"
    shares = {chain.chain: chain.done / chain.total for chain in progress.chains}
    slowest = min(shares, key=lambda chain: shares[chain])
    started = [share for share in shares.values() if share > 0]
    if len(started) == len(shares) and shares[slowest] < 0.6 * max(shares.values()):
        words += f"; chain {slowest + 1} is slowest, at {100 * shares[slowest]:.0f} %"
    return words + _move_words(progress) + _divergence_words(progress)


def _data_set_words(progress: Progress, count: DataSetCount) -> str:
    if progress.stage in ("finished", "stopped"):
        return f"{int(count.done)} of {count.total} data sets in {duration(progress.seconds)}"
    words = f"{int(count.done)} of {count.total} data sets"
    if progress.share < _LEAST_SHARE:
        return words
    left = progress.seconds * (1 - progress.share) / progress.share
    return f"{words}; about {duration(left)} left"


def _move_words(progress: Progress) -> str:
    moves = progress.chains[0].moves
    return f"; {moves} moves make one draw" if moves > 1 else ""


def _divergence_words(progress: Progress) -> str:
    count = progress.divergences
    return f"; {count} divergence{'s' if count > 1 else ''} so far (0 is good)" if count else ""


def duration(seconds: float) -> str:
    """Return a time in words: seconds, minutes or hours."""
    if seconds < 10:
        return f"{seconds:.1f} s"
    if seconds < 100:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"
