"""The drawings by what is in them."""

import itertools
import re
import unittest

from apilado.core.document.stack import Stack
from apilado.demo.stacks import lock_gate, slipway
from apilado.web.drawings.lines import frequency_grid
from apilado.web.drawings.measured import slab_names
from apilado.web.drawings.plan_passage import passage
from apilado.web.drawings.view import View
from tests.seeded.stacks import seeded_stack


def texts(svg, class_):
    """(what is written, y) of every text of a class."""
    found = re.findall(r'<text x="[^"]*" y="([^"]*)" class="([^"]*)"[^>]*>([^<]*)<', svg)
    return [(said, float(y)) for y, classes, said in found if class_ in classes.split()]


class PileTest(unittest.TestCase):
    def test_names_keep_clear_of_borders_and_of_each_other_where_there_is_room(self):
        stacks = [slipway().stack, lock_gate().stack, *[seeded_stack(seed)[0] for seed in range(40)]]
        clear = 0
        for stack in stacks:
            view = View(height=515.0, pile=178.0)
            named = texts("".join(slab_names(stack, view)), "slab-name")
            self.assertEqual([name for name, _ in named], [layer.name for layer in stack.layers])
            heights = [y - 4.0 for _, y in named]
            borders = [view.y(crossover.frequency_hz) for crossover in stack.crossovers]
            apart = [abs(a - b) for a, b in itertools.combinations(heights, 2)]
            from_borders = [abs(y - border) for y in heights for border in borders]
            clear += min(apart, default=99.0) >= 16.0 and min(from_borders, default=99.0) >= 30.0
        self.assertGreater(clear, 0.8 * len(stacks))
        self.assertEqual(len(stacks[1].layers), 4)

    def test_the_demo_names_are_all_clear(self):
        for stack in (slipway().stack, lock_gate().stack):
            view = View(height=515.0, pile=178.0)
            heights = [y - 4.0 for _, y in texts("".join(slab_names(stack, view)), "slab-name")]
            self.assertGreaterEqual(min(abs(a - b) for a, b in itertools.combinations(heights, 2)), 16.0)
            for crossover in stack.crossovers:
                self.assertGreaterEqual(min(abs(y - view.y(crossover.frequency_hz)) for y in heights), 30.0)

    def test_no_number_of_the_grid_is_struck_through(self):
        stack = slipway().stack
        view = View(height=515.0, pile=178.0)
        said = [number for number, _ in texts(frequency_grid(view, 178.0, labelled=stack), "grid-label")]
        self.assertNotIn("100", said)  # the border at 112 Hz runs through it
        self.assertEqual(said, ["50", "200", "500", "1k", "2k", "5k", "10k"])


class PassageTest(unittest.TestCase):
    def test_the_pitches_of_the_pattern_are_named_at_their_height(self):
        stack = slipway().stack
        view = View()
        named = dict(texts(passage(stack, view), "note-name"))
        self.assertAlmostEqual(named["F1"], view.y(43.654) + 4.0, delta=0.1)
        self.assertAlmostEqual(named["C4"], view.y(261.626) + 4.0, delta=0.1)
        heights = sorted(named.values())
        self.assertTrue(all(b - a >= 13.0 for a, b in itertools.pairwise(heights)))

    def test_without_notes_every_octave_is_named(self):
        bare = Stack.model_validate({**slipway().stack.model_dump(), "pattern": ()})
        self.assertIn("C2", dict(texts(passage(bare, View()), "note-name")))
