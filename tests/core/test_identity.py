"""What is remembered by the objects that it was worked out of."""

import unittest

from apilado.core.identity import ByIdentity


class ByIdentityTest(unittest.TestCase):
    def setUp(self):
        self.made = 0

    def make(self):
        self.made += 1
        return self.made

    def test_the_very_objects_count_and_what_stands_beside_them_by_its_value(self):
        found = ByIdentity(8)
        one, alike = [1], [1]
        self.assertEqual([found.get(self.make, one), found.get(self.make, one)], [1, 1])
        self.assertEqual(found.get(self.make, alike), 2)
        self.assertEqual(found.get(self.make, one, alike), 3)
        self.assertEqual(found.get(self.make, one, beside=1000.0), 4)
        self.assertEqual(found.get(self.make, one, beside=float("1000")), 4)
        self.assertEqual(found.get(self.make, one), 1)

    def test_what_was_worked_out_first_is_forgotten_first(self):
        found, objects = ByIdentity(2), [[1], [2], [3]]
        for each in objects:
            found.get(self.make, each)
        self.assertEqual([found.get(self.make, each) for each in objects[1:]], [2, 3])
        self.assertEqual(found.get(self.make, objects[0]), 4)

    def test_an_object_is_kept_as_long_as_what_was_made_of_it(self):
        """Otherwise another one could come to lie where it lay, and would be taken for it."""
        found = ByIdentity(1000)
        for number in range(300):
            self.assertEqual(found.get(lambda number=number: number, [number]), number)


if __name__ == "__main__":
    unittest.main()
