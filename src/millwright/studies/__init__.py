"""Ready-made studies: a question, visible models with every prior in full, an answer in words."""

from millwright.studies.correlation_study import correlation
from millwright.studies.findings import Findings
from millwright.studies.group_study import one_group, paired, two_groups
from millwright.studies.proportion_study import proportions
from millwright.studies.regression_study import regression
from millwright.studies.stored import load, resume
from millwright.studies.study import Study

__all__ = [
    "Findings",
    "Study",
    "correlation",
    "load",
    "one_group",
    "paired",
    "proportions",
    "regression",
    "resume",
    "two_groups",
]
