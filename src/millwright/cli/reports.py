"""What commands print for machines."""

from __future__ import annotations

import json
import re
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from millwright.draws.intervals import IntervalKind
from millwright.posterior.posterior import Posterior
from millwright.wording import for_shell

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["list_record", "posterior_record", "rows_record"]

_END = re.compile(r"([\d.]+) % (central interval|HDI|interval), (from|to)")
_KINDS = {"central interval": "central", "HDI": "hdi"}


def machine_name(heading: object) -> str:
    """Return a heading as a name that programs can use: `interval_low` for an interval's end."""
    text = str(heading)
    if text.startswith("P("):
        # The probability of a label of the user's, which stays as it is.
        return text
    end = _END.fullmatch(text)
    if end:
        level = f"{end[1].replace('.', '_')}_" if end[2] == "interval" else ""
        return f"interval_{level}{'low' if end[3] == 'from' else 'high'}"
    words = text.replace("R-hat", "scale reduction").replace("%", "percent")
    return "_".join(re.findall(r"[^\W_]+", words.lower()))


def _named(frame: pd.DataFrame) -> pd.DataFrame:
    """Return a table with names for programs, and level and kind beside an interval's ends."""
    found = frame.set_axis([machine_name(column) for column in frame.columns], axis=1)
    ends = [_END.fullmatch(str(column)) for column in frame.columns]
    for end in ends:
        if end and end[2] in _KINDS:
            found["interval_level"] = round(float(end[1]) / 100, 8)
            found["interval_kind"] = _KINDS[end[2]]
    return found


def list_record(frame: pd.DataFrame) -> list[dict[str, Any]]:
    """Return the rows of a table as plain values, with what they are indexed by."""
    found: list[dict[str, Any]] = json.loads(_named(frame.reset_index()).to_json(orient="records"))
    return found


def rows_record(frame: pd.DataFrame) -> dict[str, Any]:
    """Return a table as plain values, rows by name; what is not finite becomes null."""
    frame = _named(frame)
    names = [
        ", ".join(map(str, key)) if isinstance(key, tuple) else str(key) for key in frame.index
    ]
    found: dict[str, Any] = json.loads(frame.set_axis(names).to_json(orient="index"))
    return found


def posterior_record(
    posterior: Posterior, run: Path, level: float = 0.95, kind: IntervalKind = "central"
) -> dict[str, Any]:
    """Return verdict and table as plain values; what is not finite becomes null."""
    table = posterior.table(level=level, kind=kind)
    verdict = posterior.verdict
    return {
        "verdict": {
            "good": verdict.good,
            "headline": verdict.headline,
            "findings": [
                finding.record(partial(for_shell, run=run)) for finding in verdict.findings
            ],
            "facts": list(verdict.facts),
        },
        "seed": posterior.record.seed,
        "settings": dict(posterior.record.settings),
        "versions": dict(posterior.record.versions),
        "data_fingerprint": posterior.record.fingerprint,
        "table": rows_record(table),
    }
