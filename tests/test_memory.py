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


class MemoryTest(unittest.TestCase):
    def test_what_was_freed_is_used_again_until_it_is_given_back(self) -> None:
        ran = subprocess.run([sys.executable, "-c", PROGRAM], check=True, capture_output=True, text=True)
        kept, *counts = ran.stdout.split()
        if kept == "False":
            self.skipTest("this C library cannot be told to keep what is freed")
        first, again, third = map(int, counts)  # pages that were asked for, of 36 MiB in buffers each time
        self.assertLess(again, first / 10)
        self.assertGreater(third, first / 2, "given back")
