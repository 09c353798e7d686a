"""What a page is sent of its loop: all of it at first, then what has changed."""

import unittest

from apilado.actions.sent import BLOCK_FRAMES, Sent
from tests.support import noise

FRAMES = 3 * BLOCK_FRAMES + 100


class SentTest(unittest.TestCase):
    def test_only_what_has_changed_since_the_page_was_sent_its_loop(self):
        sent, loop = Sent(), noise(FRAMES)
        first, blocks = sent.changed(("page", "own"), 0, loop)
        self.assertEqual(blocks, [0, 1, 2, 3])
        other = loop.copy()
        other[1, 2 * BLOCK_FRAMES] += 0.1
        other[0, -1] += 0.1
        second, blocks = sent.changed(("page", "own"), first, other)
        self.assertEqual(blocks, [2, 3])
        self.assertEqual(sent.changed(("page", "own"), second, other.copy())[1], [])

    def test_all_of_it_where_the_page_has_another_one(self):
        sent, loop = Sent(), noise(FRAMES)
        number, _ = sent.changed(("page", "own"), 0, loop)
        for known, client, audio in (
            (0, "page", loop),  # it has lost it: loaded anew
            (number + 7, "page", loop),  # it has what another answer brought
            (number, "another", loop),
        ):
            self.assertEqual(len(sent.changed((client, "own"), known, audio)[1]), 4)
        number, _ = sent.changed(("page", "own"), 0, loop)
        self.assertEqual(sent.changed(("page", "own"), number, loop[:, :-1])[1], [0, 1, 2, 3])

    def test_what_it_remembers_is_bounded(self):
        sent, loop = Sent(most_bytes=3 * 8 * FRAMES), noise(FRAMES)
        numbers = [sent.changed((f"page {n}", "own"), 0, loop)[0] for n in range(5)]
        self.assertEqual(sent.changed(("page 0", "own"), numbers[0], loop)[1], [0, 1, 2, 3])
        self.assertEqual(sent.changed(("page 4", "own"), numbers[4], loop)[1], [])


if __name__ == "__main__":
    unittest.main()
