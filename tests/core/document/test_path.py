"""The path: steps in any order, several EQs, and what carve pairs hang on."""

import unittest

import numpy as np

from apilado.core.document.addresses import get
from apilado.core.document.edits import apply
from apilado.core.document.edits_carving import AddPair, AddPoint, CopyPoint
from apilado.core.document.edits_movements import AddMovement
from apilado.core.document.edits_values import AddPart, CopyChain, MovePart, RemovePart, SetValue
from apilado.core.document.equaliser import Bell, HighPass
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import Equaliser, Split, eqs_in, layer_path
from apilado.core.document.stack import Crossover
from apilado.core.render.audition import Audition
from apilado.core.soundings.carving import pair_edit
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.soft_clip import SoftClip
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit
from tests.support import graph_of, plain_stack, rendered

BEFORE = Bell(id="before", frequency_hz=200.0, gain_db=12.0, q=2.0)
AFTER = HighPass(id="after", frequency_hz=300.0)
DRIVE = SoftClip(id="drive", drive_db=24.0)


def stack_with(*steps, span=None):
    source = ToneSource(tones=(Tone(shape="saw"),), velocity=0.0)
    layer = Layer(id="a", source=source, path=steps, span=span or Span())
    crossovers = (Crossover(id="x", frequency_hz=400.0),) if span else ()
    return plain_stack(layers=(layer,), crossovers=crossovers)


class OrderTest(unittest.TestCase):
    def test_filters_before_and_after_a_drive_are_heard_as_they_stand(self):
        first, last = Equaliser(id="first", points=(BEFORE,)), Equaliser(id="last", points=(AFTER,))
        both = rendered(stack_with(*layer_path(first, DRIVE, last)))["a"]
        # The same, by hand: the drive's input is what a layer with the first EQ alone sounds like.
        shaped = stack_with(*layer_path(first))
        parts = [
            graph_of(stack_with(*layer_path(*steps))).layers["a"].key for steps in ((first, DRIVE), (DRIVE, first))
        ]
        self.assertNotEqual(*parts)
        self.assertFalse(np.array_equal(both, rendered(stack_with(*layer_path(first, last, DRIVE)))["a"]))
        self.assertFalse(np.array_equal(both, rendered(stack_with(*layer_path(DRIVE, first, last)))["a"]))
        boosted = np.abs(np.fft.rfft(rendered(shaped)["a"][0].astype(float)))
        plain = np.abs(np.fft.rfft(rendered(stack_with(*layer_path()))["a"][0].astype(float)))
        at = round(200.0 * rendered(shaped)["a"].shape[1] / 48000)
        near = slice(at - 60, at + 60)
        self.assertAlmostEqual(20 * np.log10(boosted[near].max() / plain[near].max()), 12.0, delta=1.5)

    def test_two_eqs_in_a_row_are_one_eq_of_all_their_points(self):
        apart = layer_path(Equaliser(points=(BEFORE,)), Equaliser(points=(AFTER,)))
        together = layer_path(Equaliser(points=(BEFORE, AFTER)))
        apart, together = (rendered(stack_with(*path))["a"] for path in (apart, together))
        np.testing.assert_allclose(apart, together, atol=2e-6)

    def test_the_split_stands_anywhere_among_the_steps(self):
        eq, split = Equaliser(id="eq", points=(AFTER,)), Split(id="split")
        outs = [
            rendered(stack_with(*steps, span=Span(first=1, last=1)))["a"]
            for steps in ((split, DRIVE, eq), (DRIVE, split, eq), (DRIVE, eq, split))
        ]
        self.assertGreater(float(np.abs(outs[0] - outs[1]).max()), 1e-3)
        # Split and EQ are both linear and at rest: which of them comes first is not heard.
        np.testing.assert_allclose(outs[1], outs[2], atol=5e-6)

    def test_an_eq_that_is_off_is_not_heard_with_all_that_hangs_on_it(self):
        stack = apply(slipway().stack, AddPair(dip="layers/mid", lift="kick", values={"dip_db": 9.0}))
        off = apply(stack, SetValue(path="layers/mid/path/eq/on", value=False))
        without = apply(slipway().stack, RemovePart(path="layers/mid/path/eq/points/dip"))
        # Before the duck: the kick, which keys it, still has its end of the pair.
        placed = [graph_of(each).placed["mid"].key for each in (off, without)]
        self.assertEqual(*placed)

    def test_a_point_of_an_eq_in_the_middle_is_heard_alone(self):
        stack = stack_with(*layer_path(Equaliser(id="first", points=(BEFORE,)), DRIVE, Equaliser()))
        alone = rendered(stack, audition=Audition(point="layers/a/path/first/points/before"))["a"]
        self.assertFalse(np.array_equal(alone, rendered(stack)["a"]))
        gone = Audition(point="layers/a/path/gone/points/before")
        self.assertEqual(gone.gone(stack), ("layers/a/path/gone/points/before",))


class StepsTest(unittest.TestCase):
    def test_steps_are_added_moved_and_removed_but_for_the_split(self):
        stack = slipway().stack
        stack = apply(stack, AddPart(path="layers/mid/path", part={"id": "second", "kind": "eq"}))
        stack = apply(stack, MovePart(path="layers/mid/path/second", to=0))
        self.assertEqual([step.id for step in stack.layer("mid").path], ["second", "split", "clip", "eq"])
        self.assertEqual(stack.last_eq("layers/mid"), "layers/mid/path/eq")
        stack = apply(stack, RemovePart(path="layers/mid/path/clip"))
        self.assertEqual([step.id for step in stack.layer("mid").path], ["second", "split", "eq"])
        for edit in (
            RemovePart(path="layers/mid/path/split"),
            AddPart(path="layers/mid/path", part={"kind": "split"}),
            AddPart(path="bus/path", part={"kind": "split"}),
            AddPart(path="layers/mid/source", part={}),
            RemovePart(path="layers/mid"),
            RemovePart(path="crossovers/lower"),
            MovePart(path="layers/mid", to=0),
        ):
            with self.subTest(edit=edit), self.assertRaisesRegex(InvalidEdit, "split|no list|nothing at"):
                apply(stack, edit)

    def test_a_point_for_a_part_without_an_eq_comes_with_one(self):
        stack = apply(slipway().stack, RemovePart(path="layers/mid/path/eq"))
        self.assertIsNone(stack.last_eq("layers/mid"))
        pointed = apply(stack, AddPoint(to="layers/mid", point={"kind": "bell", "gain_db": 3.0}))
        (eq,) = eqs_in(pointed.layer("mid").path)
        self.assertEqual((pointed.layer("mid").path[-1], eq.points[0].gain_db), (eq, 3.0))
        paired = apply(stack, pair_edit(stack, "layers/mid", "kick", 90.0, dip_db=4.0, lift_db=1.0))
        self.assertEqual(paired.pairs[0].dip, paired.last_eq("layers/mid"))
        copied = apply(stack, CopyPoint(path="bus/path/eq/points/rumble", to="layers/mid"))
        self.assertEqual([type(p) for p in copied.all_points("layers/mid")], [HighPass])

    def test_what_takes_a_carve_pair_along_says_so(self):
        stack = apply(slipway().stack, AddPair(dip="layers/mid", lift="kick"))
        remove = RemovePart(path="layers/mid/path/eq")
        left = apply(stack, remove)
        self.assertEqual((left.pairs, remove.remark(stack, left)), ((), "Its carve pair went with it."))
        other = RemovePart(path="layers/mid/path/clip")
        self.assertIsNone(other.remark(stack, apply(stack, other)))


if __name__ == "__main__":
    unittest.main()


class CopyChainTest(unittest.TestCase):
    def test_a_chain_is_copied_with_or_without_what_moves_it(self):
        stack = apply(slipway().stack, AddPart(path="layers/mid/path", part={"id": "box", "kind": "bands"}))
        band = stack.layer("mid").path[-1].bands[1].id
        inner = f"layers/mid/path/box/bands/{band}"
        stack = apply(stack, AddPart(path=f"{inner}/path", part={"id": "clip", "kind": "hard-clip"}))
        moved = f"{inner}/path/clip/drive_db"
        stack = apply(stack, AddMovement(path=moved, start="ramp up"))
        for movements in (True, False):
            edit = CopyChain(path="layers/mid/path", to="layers/high/path", movements=movements)
            after = apply(stack, edit)
            before, now = stack.layer("high").path, after.layer("high").path
            copied = [step for step in stack.layer("mid").path if step.kind != "split"]
            self.assertEqual([s.kind for s in now], [s.kind for s in (*before, *copied)])
            self.assertEqual(len({step.id for step in now}), len(now))
            paths = [target.path for movement in after.movements for target in movement.targets]
            self.assertEqual(len(paths), 2 if movements else 1)
            for path in paths:
                self.assertIsNotNone(get(after, path))
        self.assertEqual(edit.title(stack, after), "Copy the chain of mid to high")

    def test_from_band_to_band_and_what_cannot_stand_there(self):
        stack = apply(slipway().stack, AddPart(path="layers/mid/path", part={"id": "box", "kind": "bands"}))
        low, high = (f"layers/mid/path/box/bands/{stack.layer('mid').path[-1].bands[n].id}/path" for n in (0, 2))
        stack = apply(stack, AddPart(path=low, part={"kind": "tape"}))
        after = apply(stack, CopyChain(path=low, to=high))
        self.assertEqual([step.kind for step in get(after, high)], ["tape"])
        with self.assertRaisesRegex(InvalidEdit, "bands cannot stand in a chain of a container"):
            apply(stack, CopyChain(path="layers/mid/path", to=high))
        for to in ("layers/mid/path", "layers/gone/path", "triggers", "layers/mid/source/tones"):
            with self.assertRaisesRegex(InvalidEdit, "cannot be copied to"):
                apply(stack, CopyChain(path="layers/mid/path", to=to))
