"""The parts of a series: `level + trend + season(12) + hours + drifting(rain)`."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np

from millwright.errors import ArgumentError
from millwright.wording import setting

__all__ = ["Part", "read_parts", "waves"]

_SEASON = re.compile(r"season\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)")
_CYCLE = re.compile(r"cycle\(\s*(\d+(?:\.\d+)?)\s*\)")
_DRIFTING = re.compile(r"drifting\((.+)\)")
_LONGEST = 2000
_USUAL_WAVES = 3


@dataclass(frozen=True, kw_only=True)
class Part:
    """One part of a series.

    Attributes
    ----------
    kind
        `level`, `trend`, `season` (a cycle is one of a single wave) or `column`.
    name
        As it was written.
    column
        The column, of a column.
    drifts
        Whether its coefficients may drift.
    breaks
        Whether it may jump: its steps are Student-t ones.
    period, waves
        Of a season.
    """

    kind: str
    name: str
    column: str = ""
    drifts: bool = False
    breaks: bool = False
    period: float = field(default=0)
    waves: int = field(default=0)

    @property
    def terms(self) -> tuple[str, ...]:
        """Names of its columns in the regression; none of the level, which is the intercept."""
        if self.kind == "season":
            found = []
            for wave in range(1, self.waves + 1):
                found.append(f"{self.name}, wave {wave} cos")
                if 2 * wave < self.period:
                    found.append(f"{self.name}, wave {wave} sin")
            return tuple(found)
        return () if self.kind == "level" else (self.name,)


def waves(period: float, count: int, places: np.ndarray) -> np.ndarray:
    """Return cosines and sines of a season at places in time, (times, columns)."""
    found = []
    for wave in range(1, count + 1):
        angle = 2 * np.pi * wave * places / period
        found.append(np.cos(angle))
        if 2 * wave < period:
            found.append(np.sin(angle))
    return np.stack(found, axis=1)


def read_parts(text: str) -> tuple[Part, ...]:
    """Read the parts of a series.

    Raises
    ------
    ArgumentError
        For what is no part, or a part named twice.
    """
    if not isinstance(text, str) or not text.strip() or len(text) > _LONGEST:
        raise ArgumentError(
            f"{setting('parts')} is a text such as 'level + season(12) + hours', not {text!r}."
        )
    # A plus inside backticks belongs to a column's name.
    pieces = re.findall(r"(?:`[^`]*`|[^+`])+", text)
    found = tuple(_part(piece.strip()) for piece in pieces)
    names = [(part.kind, part.column, part.period) for part in found]
    if len(set(names)) < len(names):
        raise ArgumentError(f"{setting('parts')} names a part twice: {text!r}.")
    return found


def _part(text: str) -> Part:
    if text == "level":
        return Part(kind="level", name="level", drifts=True)
    if re.fullmatch(r"level\(\s*breaks\s*\)", text):
        return Part(kind="level", name="level", drifts=True, breaks=True)
    if text == "trend":
        return Part(kind="trend", name="trend")
    if season := _SEASON.fullmatch(text):
        return _season(text, int(season[1]), season[2])
    if cycle := _CYCLE.fullmatch(text):
        return _cycle(text, float(cycle[1]))
    drifting = _DRIFTING.fullmatch(text)
    column = (drifting[1] if drifting else text).strip()
    quoted = column.startswith("`") and column.endswith("`") and len(column) > 2
    name = column.strip("`") if quoted else column
    if not name or (not quoted and not re.fullmatch(r"[\w .%/-]+", name)):
        raise ArgumentError(
            f"{text!r} is no part of a series: write level, level(breaks), trend, season(12), "
            "cycle(40), a column, or drifting(column); odd names in backticks."
        )
    return Part(kind="column", name=name, column=name, drifts=bool(drifting))


def _season(text: str, period: int, waves_text: str | None) -> Part:
    most = period // 2
    count = min(_USUAL_WAVES, most) if waves_text is None else int(waves_text)
    if period < 2 or not 1 <= count <= most:
        raise ArgumentError(
            f"{text!r}: a season has a period of 2 steps or more, and from 1 to {max(most, 1)} "
            "waves, half its period."
        )
    return Part(kind="season", name=f"season({period})", drifts=True, period=period, waves=count)


def _cycle(text: str, period: float) -> Part:
    """Return a single wave, whose period need be no whole number."""
    if period <= 2:
        raise ArgumentError(f"{text!r}: a cycle has a period of more than 2 steps.")
    return Part(kind="season", name=f"cycle({period:g})", drifts=True, period=period, waves=1)
