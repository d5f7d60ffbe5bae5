"""Correlation: rain, the river the day after, and the power of the wheel.

Rain is skewed, so ranks serve better than values there; the evidence is shown as days came in.
"""

import numpy as np

import millwright as mw

days = mw.demo.load("river_days").frame
findings = mw.studies.correlation(days, first="level", second="power").fit(seed=1)
print(findings)
print("\nThe last five days of the evidence:")
print(findings.path().tail().round(2).to_string())

ranks = mw.studies.correlation(days, first="rain", second="level", form="ranks").fit(seed=1)
logs = days.assign(log_rain=np.log(days["rain"]))
lines = mw.studies.correlation(logs, first="log_rain", second="level").fit(seed=1)
print("\nRanks of rain and level, and the logarithm of rain:")
print(ranks.answer[0])
print(lines.answer[0])

print("\nAll pairs:")
print(mw.studies.correlation(days).fit(seed=1).pair_table().round(3).to_string())
