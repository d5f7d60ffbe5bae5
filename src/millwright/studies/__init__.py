"""Ready-made studies: a question, visible models with every prior in full, an answer in words.

Each is loaded when it is first used: what reads formulas takes longer than a small study.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from millwright.studies.catalogue import PLACES

if TYPE_CHECKING:
    from millwright.studies.autoregression_study import (
        vector_autoregression as vector_autoregression,
    )
    from millwright.studies.correlation_study import correlation as correlation
    from millwright.studies.curve_study import curve as curve
    from millwright.studies.expectations_study import expectations_model as expectations_model
    from millwright.studies.findings import Findings as Findings
    from millwright.studies.group_study import (
        one_group as one_group,
        paired as paired,
        two_groups as two_groups,
    )
    from millwright.studies.meta_study import meta_analysis as meta_analysis
    from millwright.studies.proportion_study import proportions as proportions
    from millwright.studies.regression_study import regression as regression
    from millwright.studies.selection_study import variable_selection as variable_selection
    from millwright.studies.series_study import series as series
    from millwright.studies.smooth_study import smooth as smooth
    from millwright.studies.stored import load as load, resume as resume
    from millwright.studies.study import Study as Study

_PLACES = {
    **PLACES,
    "Findings": "millwright.studies.findings",
    "Study": "millwright.studies.study",
    "load": "millwright.studies.stored",
    "resume": "millwright.studies.stored",
}
__all__ = sorted(_PLACES)


def __getattr__(name: str) -> Any:
    if name not in _PLACES:
        raise AttributeError(f"module 'millwright.studies' has no attribute {name!r}")
    value = getattr(importlib.import_module(_PLACES[name]), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return __all__
