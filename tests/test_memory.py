import subprocess
import sys
import unittest

PROGRAM = """
import resource
from apilado import memory
import numpy as np

def faults(size, count):
    before = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
    held = [np.ones(size, np.uint8) for _ in range(count)]
    return resource.getrusage(resource.RUSAGE_SELF).ru_minflt - before

kept = memory.keep_freed()
first = faults(3 * 2**20, 12)
again = faults(3 * 2**20, 12)
memory.give_back()
print(kept, first, again, faults(3 * 2**20, 12))
"""


SEARCHED = """
import gc
import weakref
from apilado import memory

class Ring:
    pass

ring = Ring()
ring.itself = ring
held = weakref.ref(ring)
there = [[n] for n in range(50_000)]
memory.look_once()
gc.collect()
del ring
gc.collect()
print(len(gc.get_objects()) < 50_000, held() is None)
memory.give_back()
print(len(gc.get_objects()) < 50_000, held() is None)
"""


class MemoryTest(unittest.TestCase):
    def test_what_has_outlived_a_search_is_not_searched_again_until_memory_is_given_back(self) -> None:
        ran = subprocess.run([sys.executable, "-c", SEARCHED], check=True, capture_output=True, text=True)
        # (whether little is left to be searched, whether what nobody uses has gone): before memory is given back, after
        self.assertEqual(ran.stdout.split(), ["True", "False", "True", "True"])

    def test_what_was_freed_is_used_again_until_it_is_given_back(self) -> None:
        ran = subprocess.run([sys.executable, "-c", PROGRAM], check=True, capture_output=True, text=True)
        kept, *counts = ran.stdout.split()
        if kept == "False":
            self.skipTest("this C library cannot be told to keep what is freed")
        first, again, third = map(int, counts)  # pages that were asked for, of 36 MiB in buffers each time
        self.assertLess(again, first / 10)
        self.assertGreater(third, first / 2, "given back")
