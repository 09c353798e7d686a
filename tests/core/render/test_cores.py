"""Threads that render keep to a core each."""

import os
import unittest
from threading import Barrier

from apilado.core.render.cores import Keeping, cores
from apilado.core.render.engine import Engine, Rank


def may_be_said():
    """Whether this system lets a thread keep to a core."""
    try:
        os.sched_setaffinity(0, os.sched_getaffinity(0))
    except (AttributeError, OSError):
        return False
    return True


@unittest.skipUnless(may_be_said(), "this system lets no thread keep to a core")
class CoresTest(unittest.TestCase):
    def kept_to(self, pool, threads):
        """The cores that each thread of a pool may use, all of them at work at once."""
        all_there = Barrier(threads)

        def asked():
            all_there.wait(60.0)
            return frozenset(os.sched_getaffinity(0))

        return [each.result(60.0) for each in [pool.submit(asked) for _ in range(threads)]]

    def test_what_is_waited_for_has_a_core_for_each_thread_and_nothing_else_is_held_to_one(self):
        before, engine = os.sched_getaffinity(0), Engine()
        self.addCleanup(engine.close)
        for rank in (Rank.USUAL, Rank.SOON):
            kept = self.kept_to(engine.pools[rank], engine.threads_of(rank))
            self.assertEqual(sorted(kept, key=min), [frozenset({each}) for each in cores()])
        self.assertEqual(self.kept_to(engine.pools[Rank.BEHIND], 1), [frozenset(before)])
        self.assertEqual(os.sched_getaffinity(0), before)

    def test_more_threads_than_cores_share_them_and_a_core_that_has_gone_is_passed_over(self):
        engine = Engine(threads=2 * len(cores()))
        self.addCleanup(engine.close)
        kept = self.kept_to(engine.pools[Rank.SOON], 2 * len(cores()))
        self.assertEqual(sorted(kept, key=min), [frozenset({each}) for each in cores() for _ in range(2)])
        before = os.sched_getaffinity(0)
        Keeping((1 << 12,)).take()
        self.assertEqual(os.sched_getaffinity(0), before)
