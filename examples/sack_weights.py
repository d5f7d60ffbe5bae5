"""Two groups: are sacks from the south spout heavier, though one was filled twice over?

The robust study beside the normal one: the single heavy sack moves the normal answer, and hardly
the robust one. Then the same question of pairs, of stones before and after they were dressed.
"""

import millwright as mw

sacks = mw.demo.load("sack_weights").frame
for family in ("student_t", "normal"):
    study = mw.studies.two_groups(
        sacks, outcome="weight", group="spout", family=family, rope=(-0.1, 0.1)
    )
    findings = study.fit(seed=2)
    print(f"\n=== {family}\n{findings}")

print("\nHow the evidence for a difference rests on the width of its prior (normal models):")
print(findings.effect_factors_by_width().round(2).to_string())

stones = mw.demo.load("dressed_stones").frame
findings = mw.studies.paired(stones, first="before", second="after", rope=(-1, 1)).fit(seed=2)
print(f"\n=== pairs\n{findings}")
