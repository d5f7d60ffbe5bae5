"""Two proportions: does one carrier tear more flour sacks than the other?

Five boxes came by Reed, seven by Marsh; the shares of torn sacks have uniform Beta priors.
"""

import millwright as mw

data = mw.demo.load("carriers")
model = mw.Model(
    title="Torn flour sacks from two carriers",
    priors={"share": "beta(alpha=1, beta=1) per carrier"},
    likelihood={"torn": "binomial(trials=sacks, probability=share[carrier])"},
    derived={"difference": "share['Reed'] - share['Marsh']"},
)
posterior = model.fit(data.frame, seed=3)
print(posterior, "\n")

central = posterior.interval("difference", level=0.95, kind="central").values
hdi = posterior.interval("difference", level=0.95, kind="hdi").values
above = posterior.probability("difference > 0")
print(f"95 % central interval of the difference: {central[0]:.3f} to {central[1]:.3f}")
print(f"95 % HDI of the difference:              {hdi[0]:.3f} to {hdi[1]:.3f}\n")

print("One-sided reading: is Reed's share the larger one?")
print(f"  {above}")
print(f"  At the 95 % level: {'yes' if above.value > 0.95 else 'not shown'} (asks for 0.95).")
print("Two-sided reading: do the shares differ, in either direction?")
print(f"  The 95 % central interval {'excludes' if central[0] > 0 else 'contains'} zero, that is:")
print(
    f"  {'yes' if central[0] > 0 or central[1] < 0 else 'not shown'} (asks for 0.975 on one side)."
)
