"""Ctrl-C is held back until draws and states are in step."""

import os
import signal
import threading
import unittest

from millwright.sampling.interrupts import stops_held


def press():
    os.kill(os.getpid(), signal.SIGINT)


class Held(unittest.TestCase):
    def setUp(self):
        before = signal.getsignal(signal.SIGINT)
        self.addCleanup(signal.signal, signal.SIGINT, before)
        signal.signal(signal.SIGINT, signal.default_int_handler)

    def test_the_first_waits_for_the_check_and_the_second_does_not(self):
        with stops_held() as held:
            press()
            self.assertTrue(held.pressed)
            with self.assertRaises(KeyboardInterrupt):
                held.check()
            with self.assertRaises(KeyboardInterrupt):
                press()
        self.assertIs(signal.getsignal(signal.SIGINT), signal.default_int_handler)

    def test_without_a_press_nothing_happens(self):
        with stops_held() as held:
            held.check()

    def test_a_handler_of_the_users_stays(self):
        seen = []
        signal.signal(signal.SIGINT, lambda number, frame: seen.append(number))
        with stops_held() as held:
            press()
            self.assertFalse(held.pressed)
        self.assertEqual(seen, [signal.SIGINT])

    def test_other_threads_are_left_alone(self):
        found = []

        def work():
            with stops_held():
                found.append(signal.getsignal(signal.SIGINT))

        thread = threading.Thread(target=work)
        thread.start()
        thread.join()
        self.assertEqual(found, [signal.default_int_handler])


if __name__ == "__main__":
    unittest.main()
