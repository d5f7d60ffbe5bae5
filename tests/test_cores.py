"""Threads of linear algebra are held to one, and given back."""

import threading
import unittest

import numpy as np
import threadpoolctl

import millwright as mw
from millwright.cores import one_thread


def threads_now():
    found = threadpoolctl.threadpool_info()
    return max(one["num_threads"] for one in found if one["user_api"] == "blas")


class OneThread(unittest.TestCase):
    def test_it_holds_inside_and_gives_back_what_was_set(self):
        with threadpoolctl.threadpool_limits(2, user_api="blas"):
            self.assertEqual(threads_now(), 2)
            with one_thread:
                self.assertEqual(one_thread(threads_now)(), 1)
                self.assertEqual(threads_now(), 1)
            self.assertEqual(threads_now(), 2)

    def test_a_thread_that_comes_later_changes_nothing(self):
        inside, leave = threading.Barrier(2), threading.Event()

        def stay():
            with one_thread:
                inside.wait()
                leave.wait()

        with threadpoolctl.threadpool_limits(2, user_api="blas"):
            other = threading.Thread(target=stay)
            with one_thread:
                other.start()
                inside.wait()
                self.assertEqual(threads_now(), 1)
            self.assertEqual(threads_now(), 2)
            leave.set()
            other.join()
            self.assertEqual(threads_now(), 2)

    def test_an_error_gives_back_too(self):
        with threadpoolctl.threadpool_limits(2, user_api="blas"):
            model = mw.Model(priors={"a": "normal(0, 1)"}, likelihood={"y": "normal(a, 1)"})
            with self.assertRaises(mw.errors.MillwrightError):
                model.fit({"y": np.full(3, 1e308)}, draws=20, warmup=20)
            self.assertEqual(threads_now(), 2)


if __name__ == "__main__":
    unittest.main()
