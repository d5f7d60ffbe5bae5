"""The verdict: each kind of trouble is named, with its threshold, direction and next step."""

import unittest

import numpy as np

from millwright.diagnostics.finding import Sampling
from millwright.diagnostics.measures import measure
from millwright.diagnostics.verdict import judge


def verdict(change=None, draws=1000, chains=4, diverging=0, **rest):
    x = {
        name: np.random.default_rng(at).standard_normal((chains, draws))
        for at, name in enumerate(("a", "b"))
    }
    if change:
        change(x)
    per_chain = np.zeros(chains)
    per_chain[0] = diverging
    made = Sampling(chains=chains, draws=draws, diverging=per_chain, enough=100 * chains, **rest)
    return judge(measure(x), made)


class Verdicts(unittest.TestCase):
    def test_good_chains_get_a_short_clean_verdict(self):
        good = verdict(energy=np.random.default_rng(0).standard_normal((4, 1000)))
        self.assertTrue(good.good)
        self.assertEqual(good.findings, ())
        text = str(good)
        self.assertIn("larger is worse", text)
        self.assertIn("more is better", text)
        self.assertLessEqual(len(text.split("\n")), 6)

    def test_disagreeing_chains(self):
        def shift(x):
            x["b"][0] += 2

        bad = verdict(shift)
        self.assertFalse(bad.good)
        self.assertIn("NOT CONVERGED", bad.headline)
        self.assertIn("`b`", bad.findings[0].problem)
        self.assertNotIn("`a`", bad.findings[0].problem)

    def test_disagreement_of_few_draws_by_chance(self):
        make = np.random.default_rng(7)

        def independent(x):
            x |= {f"level {at}": make.standard_normal((2, 300)) for at in range(200)}

        def drifting(x):
            x["b"] = x["b"] + 0.4 * np.array([[0.0], [1.0]])

        for change, by_chance in ((independent, True), (drifting, False)):
            found = verdict(change, draws=300, chains=2)
            self.assertFalse(found.good)
            told = next(one for one in found.findings if "R-hat is up to" in one.problem)
            self.assertEqual("by chance" in told.advice, by_chance, found)

    def test_divergences(self):
        self.assertIn("USE WITH CARE", verdict(diverging=30).headline)
        self.assertIn("NOT CONVERGED", verdict(diverging=300).headline)
        self.assertIn("0 is good", str(verdict(diverging=30)))
        self.assertIn("target_acceptance", verdict(diverging=30).findings[0].advice)

    def test_a_few_single_divergences_are_told_but_do_no_harm(self):
        few = verdict(diverging=2)
        self.assertTrue(few.good)
        self.assertIn("2 of 4000", str(few))

    def test_too_few_effective_draws_name_the_number_needed(self):
        bad = verdict(draws=60)
        self.assertIn("effective sample size", str(bad))
        self.assertIn("draws=", bad.findings[0].advice)

    def test_constant_quantity(self):
        def stand(x):
            x["a"][:] = 1.0

        self.assertIn("constant", verdict(stand).findings[0].problem)

    def test_one_chain_energy_length_and_interruption(self):
        walk = np.cumsum(np.random.default_rng(0).standard_normal((4, 1000)), axis=1)
        self.assertIn("one chain", str(verdict(chains=1)))
        self.assertIn("energy", str(verdict(energy=walk)))
        cut = verdict(cut_short=400)
        self.assertTrue(cut.good)
        self.assertIn("1024 steps", str(cut))
        self.assertIn("stopped before", str(verdict(complete=False)))
        self.assertIn("too few to judge", str(verdict(draws=3)))

    def test_acceptance_is_stated_and_flagged_when_low(self):
        self.assertIn("Acceptance: 0.80 on average", str(verdict(acceptance=np.full(4, 0.8))))
        low = verdict(acceptance=np.array([0.8, 0.8, 0.4, 0.8]))
        self.assertFalse(low.good)
        self.assertIn("chain 3", low.findings[0].problem)

    def test_worst_finding_comes_first(self):
        def shift(x):
            x["b"][0] += 2

        bad = verdict(shift, diverging=3)
        self.assertEqual(bad.findings[0].weight, "stop")


class Methods(unittest.TestCase):
    def test_stuck_chains_are_named_and_not_blamed_twice(self):
        def stop(x):
            x["a"][1] = 0.3
            x["b"][1] = 0.1

        bad = verdict(stop, stuck=(2,), acceptance=np.array([0.8, 0.0, 0.8, 0.8]))
        self.assertIn("Never moved: chain 2.", str(bad))
        self.assertNotIn("steps are accepted in chain", str(bad))

    def test_few_round_trips_and_where_divergences_sit(self):
        few = verdict(round_trips=(1, 0.05))
        self.assertFalse(few.good)
        self.assertIn("more temperatures", str(few))
        self.assertTrue(verdict(round_trips=(50, 0.5)).good)
        words = "Half of them began where `a` is small."
        self.assertIn(words, " ".join(str(verdict(diverging=90, divergent_at=words)).split()))

    def test_an_approximation_is_never_converged(self):
        for k, words in ((0.3, "close to the posterior"), (0.9, "do not use it")):
            found = verdict(approximation_k=k)
            self.assertIn("APPROXIMATION", found.headline)
            self.assertIn(words, found.headline)
            self.assertFalse(found.good)

    def test_trials_and_extended_fits_say_so(self):
        self.assertIn("This was a trial", str(verdict(trial=True)))
        off = {"acceptance": np.array([0.2, 0.8, 0.8, 0.8])}
        self.assertIn("longer warm-up (warmup=)", " ".join(str(verdict(**off)).split()))
        extended = " ".join(str(verdict(extended=True, **off)).split())
        self.assertIn("Extending does not repeat the warm-up", extended)


if __name__ == "__main__":
    unittest.main()
