"""Steps that make a sound louder, and drives that leave it no peaks."""

import unittest

import numpy as np
import pyloudnorm

from apilado.core.document.edits import apply
from apilado.core.document.layer import Layer
from apilado.core.document.path import Aside
from apilado.core.document.stack import Bus, Limiter
from apilado.core.measure.crest import crest_db
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.hard_clip import HardClip
from apilado.core.treatments.offset import Offset
from apilado.core.treatments.soft_clip import SoftClip
from tests.support import ENGINE, graph_of, loader, noise, path_of, plain_stack, rendered, sine


def told(stack, name):
    return [each for each in sound(measure(stack, loader({}), ENGINE)) if each.id == name]


def of_saw(*steps, **changes):
    layer = Layer(id="a", source=ToneSource(tones=(Tone(shape="saw"),)), path=path_of(*steps), level_db=-18.0)
    return plain_stack(layers=(layer,), **changes)


class LevelJumpTest(unittest.TestCase):
    def test_it_says_by_how_much_louder_a_step_is(self):
        stack = of_saw(SoftClip(id="clip", drive_db=24.0, output_db=0.0))
        (found,) = told(stack, "level-jump")
        passed = graph_of(stack).passed["layers/a/path/clip"]
        meter = pyloudnorm.Meter(stack.sample_rate)
        before, after = (
            meter.integrated_loudness(np.tile(each, 8).T.astype(np.float64))
            for each in ENGINE.run([passed.before, passed.after])
        )
        self.assertAlmostEqual(found.value, after - before, delta=0.15)
        self.assertEqual((found.status, found.where), ("look", "layers/a/path/clip"))

    def test_its_remedy_keeps_the_level_and_the_sound(self):
        stack = of_saw(SoftClip(id="clip", drive_db=24.0, output_db=0.0))
        (found,) = told(stack, "level-jump")
        mended = apply(stack, found.first_way)
        self.assertTrue(mended.layers[0].path[1].keep_level)
        self.assertEqual([each.status for each in told(mended, "level-jump")], ["fine"])
        # What the drive had added is in the level of the layer now.
        was, now = (rendered(each)["a"] for each in (stack, mended))
        np.testing.assert_allclose(now, was, atol=0.01 * float(np.abs(was).max()))

    def test_of_what_cannot_keep_its_level_the_make_up_goes_down(self):
        stack = of_saw(Compressor(id="c", threshold_db=-3.0, makeup_db=9.0))
        (found,) = told(stack, "level-jump")
        mended = apply(stack, found.first_way)
        self.assertAlmostEqual(mended.layers[0].path[1].makeup_db, 9.0 - found.value, delta=0.06)
        self.assertEqual(told(mended, "level-jump")[0].status, "fine")

    def test_on_the_bus_and_in_a_chain(self):
        loud = SoftClip(id="clip", drive_db=24.0, output_db=0.0)
        bus = of_saw(bus=Bus(path=(loud,), limiter=Limiter(on=False)))
        (found,) = told(bus, "level-jump")
        self.assertEqual(found.where, "bus/path/clip")
        self.assertEqual(told(apply(bus, found.first_way), "level-jump")[0].status, "fine")
        beside = of_saw(Aside(id="box", path=(loud,)))
        (found,) = told(beside, "level-jump")
        self.assertEqual(found.where, "layers/a/path/box/path/clip")
        mended = apply(beside, found.first_way)
        self.assertEqual(mended.layers[0].level_db, beside.layers[0].level_db)  # that of the chain is another's
        self.assertEqual(told(mended, "level-jump")[0].status, "fine")

    def test_what_is_a_level_by_itself_is_not_asked(self):
        self.assertEqual(told(of_saw(Offset(level_db=9.0)), "level-jump"), [])
        self.assertEqual(told(of_saw(SoftClip(drive_db=24.0, output_db=0.0, on=False)), "level-jump"), [])


class CrestTest(unittest.TestCase):
    def test_known_crests(self):
        """A square 0 dB, a sine 3.01 dB, a triangle 4.77 dB: √1, √2, √3 (common practice)."""
        at = np.arange(48000) * 80.0 / 48000.0
        triangle = 4.0 * np.abs(at % 1.0 - 0.5) - 1.0
        square = np.where(at % 1.0 < 0.5, 1.0, -1.0)
        for wave, wanted in ((square, 0.0), (sine(80.0, 1.0)[0], 3.01), (triangle, 4.77)):
            self.assertAlmostEqual(crest_db(wave[None].astype(np.float32), rate_hz=48000), wanted, delta=0.02)
        self.assertIsNone(crest_db(np.zeros((2, 48000), np.float32), rate_hz=48000))
        self.assertIsNone(crest_db(np.zeros((2, 0), np.float32), rate_hz=48000))

    def test_gaps_and_the_quieter_side_do_not_count(self):
        wave = sine(80.0, 1.0).copy()
        wave[:, 24000:] = 0.0
        wave[1] = 0.1 * noise(48000)[1]
        self.assertAlmostEqual(crest_db(wave, rate_hz=48000), 3.01, delta=0.02)

    def test_two_hard_clips_leave_nothing_and_one_is_not_asked(self):
        hard = {"drive_db": 40.0, "output_db": -12.0}
        (found,) = told(of_saw(HardClip(id="one", **hard), HardClip(id="two", **hard)), "crushed")
        self.assertEqual(found.status, "look")
        self.assertLess(found.value, 2.2)
        self.assertIsNone(found.ways)
        self.assertIn("Behind 2 drives", found.sentence)
        self.assertEqual(told(of_saw(HardClip(**hard)), "crushed"), [])
        mild = told(of_saw(SoftClip(drive_db=6.0, output_db=0.0), SoftClip(drive_db=3.0, output_db=0.0)), "crushed")
        self.assertEqual([each.status for each in mild], ["fine"])
