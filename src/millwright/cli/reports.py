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

__all__ = ["posterior_record", "rows_record"]


def machine_name(heading: object) -> str:
    """Return a heading as a name that programs can use: `interval_low` for an interval's end."""
    text = str(heading)
    end = re.fullmatch(r"[\d.]+ % (?:central interval|HDI), (from|to)", text)
    if end:
        return f"interval_{'low' if end[1] == 'from' else 'high'}"
    words = text.replace("R-hat", "scale reduction").replace("%", "percent")
    return "_".join(re.findall(r"[^\W_]+", words.lower()))


def rows_record(frame: pd.DataFrame) -> dict[str, Any]:
    """Return a table as plain values, rows by name; what is not finite becomes null."""
    frame = frame.set_axis([machine_name(column) for column in frame.columns], axis=1)
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
        "interval": {"level": level, "kind": kind},
        "table": rows_record(table),
    }
