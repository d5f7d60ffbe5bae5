"""How well predictions met the truth."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from millwright.display import Shown, frame_text
from millwright.draws.intervals import interval

__all__ = ["Score", "label_scores", "number_scores", "scores_shown"]


@dataclass(frozen=True)
class Score(Shown):
    """How well predictions met the truth.

    Attributes
    ----------
    frame
        One row a way of predicting (the whole posterior; the posterior mean plugged in) and an
        outcome.
    """

    frame: pd.DataFrame

    def __str__(self) -> str:
        shown, key = scores_shown(self.frame)
        return f"{frame_text(shown.T)}\n{key}"


def scores_shown(frame: pd.DataFrame) -> tuple[pd.DataFrame, str]:
    """Return scores as text, and what says which direction of each is good."""
    shown = frame.copy()
    for column in shown.columns:
        percent = str(column).startswith(("inside", "share"))
        shown[column] = [
            "-" if np.isnan(v) else f"{100 * v:.0f} %" if percent else f"{v:.4g}"
            for v in shown[column]
        ]
    keys = {
        "root": "Errors: smaller is better, in the outcome's unit.",
        "log": "Log score (mean log predictive density): larger is better.",
        "inside": "Inside: should be near 50 % and 95 %.",
        "share": "Share right, by the most probable label: more is better.",
    }
    key = " ".join(
        words for start, words in keys.items() if any(str(c).startswith(start) for c in shown)
    )
    return shown.rename_axis([None] * frame.index.nlevels), key


def number_scores(
    expected: np.ndarray, draws: np.ndarray, seen: np.ndarray, log_density: np.ndarray
) -> dict[str, float]:
    """Return the scores of an outcome of numbers; draws are (draws, rows), all else (rows,)."""
    error = seen - expected
    inside = []
    for level in (0.5, 0.95):
        low, high = interval(draws, level)
        inside.append(float(np.mean((seen >= low) & (seen <= high))))
    return {
        "root-mean-square error": float(np.sqrt(np.mean(error**2))),
        "mean absolute error": float(np.mean(np.abs(error))),
        "largest absolute error": float(np.max(np.abs(error))),
        "log score": float(np.mean(log_density)),
        "inside 50 % interval": inside[0],
        "inside 95 % interval": inside[1],
    }


def label_scores(
    expected: np.ndarray, draws: np.ndarray, seen: np.ndarray, log_density: np.ndarray
) -> dict[str, float]:
    """Return the scores of an outcome of labels; `expected` has the probability of each."""
    return {
        "log score": float(np.mean(log_density)),
        "share of rows right": float(np.mean(expected.argmax(axis=1) == seen)),
    }
