import unittest

import numpy as np

from apilado.core.kept import Kept


class KeptTest(unittest.TestCase):
    def setUp(self):
        self.kept, self.made = Kept(1000), []

    def ask(self, key, frames=100):
        def make():
            self.made.append(key)
            return np.zeros((1, frames), np.float32)

        return self.kept.get(key, make)

    def test_the_newest_up_to_so_many_bytes(self):
        first = self.ask("a")
        self.assertIs(self.ask("a"), first)
        self.ask("b")
        self.ask("a")  # asked for again: now the other is older
        self.ask("c")
        self.assertEqual(self.made, ["a", "b", "c"])
        self.ask("a")
        self.assertEqual(self.made, ["a", "b", "c"])
        self.ask("b")
        self.assertEqual(self.made, ["a", "b", "c", "b"])

    def test_room_is_found_again_and_again(self):
        for number in range(50):
            self.ask(number)
            self.ask(number)
        self.assertEqual(self.made, list(range(50)))

    def test_one_that_is_larger_than_all_is_kept_alone(self):
        self.ask("large", 10000)
        self.ask("large", 10000)
        self.ask("small")
        self.ask("small")
        self.assertEqual(self.made, ["large", "small"])

    def test_nobody_writes_to_what_is_kept(self):
        with self.assertRaises(ValueError):
            self.ask("a")[0, 0] = 1.0

    def test_it_forgets(self):
        self.ask("a")
        self.kept.clear()
        self.ask("a")
        self.assertEqual(self.made, ["a", "a"])
