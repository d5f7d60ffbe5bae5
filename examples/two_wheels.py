"""The power of two wheels, as a physical curve with bounded unknowns and known errors.

A point fit first, then the posterior; both wheels at once, which share how they rise and have
capacities of their own; a second formula to compare with; the same curve as a Python function that
is not traced, sampled by an ensemble of walkers; and the shape without any formula. The data are
made up.
"""

import sys
from pathlib import Path

import numpy as np

import millwright as mw

RISING = "capacity * (1 - exp(-log(2) * (flow / middle) ** steepness))"
SATURATING = "capacity * flow / (middle + flow)"
UNKNOWNS = {"capacity": (0, 25), "middle": "normal(2, 1, low=0)", "steepness": (0.5, 5)}


def rising(flow, capacity, middle, steepness):
    """The same curve in NumPy, which has no gradient."""
    return capacity * (1 - np.exp(-np.log(2) * (flow / middle) ** steepness))


wheels = mw.demo.load("two_wheels").frame
both = {"x": "flow", "y": "power", "error": "error", "sets": "wheel", "each": ["capacity"]}
study = mw.studies.curve(
    {"rising": RISING, "saturating": SATURATING},
    wheels,
    unknowns=UNKNOWNS,
    derived={"ratio": "capacity['upper'] / capacity['lower']"},
    axes="log",
    **both,
)
print(study.told_first, "\n")
findings = study.fit(seed=1)
print(findings, "\n")
print(findings.compare(), "\n")
print(findings.evidences(), "\n")
print("Power of the upper wheel, and what it gains by one m3/s more:")
print(findings.curves(x=[1, 2, 4], label="upper"))
slope = findings.curves(
    "capacity * log(2) * steepness / middle * (flow / middle) ** (steepness - 1)"
    " * exp(-log(2) * (flow / middle) ** steepness)",
    x=[1, 2, 4],
    label="upper",
)
print(slope, "\n")

upper = wheels[wheels["wheel"] == "upper"]
walked = mw.studies.curve(rising, upper, x="flow", y="power", error="error", unknowns=UNKNOWNS)
print(walked.choices[0])
print(walked.fit(seed=2).values()["text"])

shape = mw.studies.smooth(upper, x="flow", y="power", error="error").fit(seed=3)
print("Without a formula:", *shape.answer, sep="\n")

if len(sys.argv) > 1:
    folder = Path(sys.argv[1])
    for figure in ("curve", "unknowns", "correlations"):
        mw.plots.study(findings, figure).savefig(folder / f"{figure}.png")
    mw.plots.study(shape).savefig(folder / "shape.png")
