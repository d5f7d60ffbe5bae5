"""States and pieces: what chains are stored, sent and put together with."""

import json
import unittest
from dataclasses import dataclass

import numpy as np

from millwright.sampling.pace import Pace
from millwright.sampling.piece import STATISTICS, Piece, joined, thinned_statistics
from millwright.sampling.sampler import FitSettings, chains_of
from millwright.sampling.state import UnitState, packed, restored, unpacked, widths
from millwright.sampling.warmup import plan
from millwright.sampling.windowed import WindowedState, closed


@dataclass(frozen=True, kw_only=True)
class Small(UnitState):
    place_there: np.ndarray
    bits: dict


class States(unittest.TestCase):
    def test_a_state_survives_json_and_arrays(self):
        bits = np.random.default_rng(3).bit_generator.state
        state = Small(unit=2, done=7, place_there=np.array([1.0, 2.0]), bits=bits)
        numbers, arrays = packed(state)
        again = unpacked(Small, json.loads(json.dumps(numbers)), arrays)
        self.assertEqual(again.bits, state.bits)
        np.testing.assert_array_equal(again.place_there, state.place_there)
        self.assertEqual((again.unit, again.done), (2, 7))
        self.assertIsNone(again.place)
        self.assertEqual(again.scales, [])

    def test_a_generator_goes_on_where_it_was(self):
        generator = np.random.default_rng(5)
        generator.standard_normal(3)
        again = restored(generator.bit_generator.state)
        np.testing.assert_array_equal(again.random(4), generator.random(4))

    def test_time_is_kept_apart_for_the_warm_up(self):
        state = UnitState(unit=0).after(2.0, warming=True).after(3.0, warming=False)
        self.assertEqual((state.warmup_seconds, state.seconds), (2.0, 3.0))

    def test_widths_are_those_of_the_covariance(self):
        factor = np.linalg.cholesky([[4.0, 1.0], [1.0, 9.0]])
        np.testing.assert_allclose(widths(factor), [2.0, 3.0])

    def test_closing_a_window_forgets_its_draws(self):
        for shape in ((5, 2), (3, 5, 2)):
            state = WindowedState(unit=0, window=1, within=5, window_draws=np.ones(shape))
            after = closed(state)
            self.assertEqual((after.window, after.within), (2, 0))
            self.assertEqual(after.window_draws.shape[-2:], (0, 2))


class Pieces(unittest.TestCase):
    def test_pieces_join_in_order(self):
        one = Piece.empty(2)
        two = Piece(
            np.ones((3, 2)),
            np.zeros((3, 7)),
            np.zeros((0, 7)),
            np.ones((1, 2)),
            np.ones(1),
            np.zeros((0, 2)),
        )
        found = joined([one, two, two])
        self.assertEqual(found.positions.shape, (6, 2))
        self.assertEqual(len(found.failed), 2)

    def test_thinned_statistics_sum_average_and_remember_divergences(self):
        at = {name: n for n, name in enumerate(STATISTICS)}
        rows = np.zeros((4, len(STATISTICS)))
        rows[:, at["evaluations"]] = [1, 2, 3, 4]
        rows[:, at["acceptance"]] = [0.2, 0.4, 0.6, 1.0]
        rows[:, at["diverged"]] = [1, 0, 0, 0]
        rows[:, at["log_density"]] = [5, 6, 7, 8]
        thin = thinned_statistics(rows, 2)
        np.testing.assert_allclose(thin[:, at["evaluations"]], [3, 7])
        np.testing.assert_allclose(thin[:, at["acceptance"]], [0.3, 0.8])
        np.testing.assert_array_equal(thin[:, at["diverged"]], [1, 0])
        np.testing.assert_array_equal(thin[:, at["log_density"]], [6, 8])
        self.assertIs(thinned_statistics(rows, 1), rows)


class Plans(unittest.TestCase):
    def test_totals_and_numbers_of_chains(self):
        self.assertEqual(FitSettings(10, 5, 3).total, 35)
        self.assertEqual(list(chains_of(2, 1)), [2])
        self.assertEqual(list(chains_of(0, 3)), [0, 1, 2])
        self.assertEqual(plan(0), ())

    def test_blocks_grow_and_stay_within_their_bounds(self):
        pace = Pace(longest=50)
        self.assertEqual(pace.of(0), 4)
        pace.learn(0, seconds=1e-9, moved=4)
        self.assertEqual(pace.of(0), 16)
        for _ in range(3):
            pace.learn(0, seconds=1e-9, moved=16)
        self.assertEqual(pace.of(0), 50)
        pace.learn(0, seconds=100.0, moved=50)
        self.assertEqual(pace.of(0), 1)
        self.assertEqual(pace.of(1), 4)


if __name__ == "__main__":
    unittest.main()
