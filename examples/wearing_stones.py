"""What makes stones wear? A graph with two causes that hide each other, a test, and an effect.

Busy mills run their stones longer and dress them more often: alone, hours a day seem to do little.
"""

import sys
from pathlib import Path

import millwright as mw

folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("wearing-stones")
folder.mkdir(exist_ok=True)

stones = mw.demo.load("stone_wear").frame
graph = mw.CausalGraph(
    "demand -> hours, dressings; hours, dressings -> wear; flow -> speed -> heat -> wear"
)
print(graph, "\n")
print(graph.explain("hours", "wear", given=["demand"]), "\n")
print(graph.test(stones), "\n")
print(graph.estimate(stones, effect_of="hours", on="wear", seed=3), "\n")
mw.plots.causal_graph(
    graph, exposure="hours", outcome="wear", strengths=graph.strengths(stones)
).savefig(folder / "graph.png")

print("A graph that forgets dressings:")
short = mw.CausalGraph(
    "demand -> hours -> wear; flow -> speed -> heat -> wear; dressings <- demand"
)
print(short.test(stones).against.to_string(), "\n")

print("Where grain is a common cause that nobody observed:")
hidden = mw.CausalGraph(
    "flow -> speed -> heat -> wear; grain -> heat; grain -> wear", unobserved=["grain"]
)
print(hidden.explain("heat", "wear"))
