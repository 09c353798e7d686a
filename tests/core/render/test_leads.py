"""What a stretch runs over before it is heard, and what is computed first of it."""

import unittest

import numpy as np
from scipy import stats

from apilado.core.clock import Clock
from apilado.core.document.equaliser import Bell
from apilado.core.document.layer import Layer
from apilado.core.document.path import Equaliser, layer_path
from apilado.core.document.stack import Bus
from apilado.core.dsp.filters import settle_frames
from apilado.core.render.cache import COARSE_FRAMES, MOST_COARSE, StageCache
from apilado.core.render.engine import MEASURED_SHARE, Engine, Token
from apilado.core.render.stage import stage
from apilado.core.render.stretch import _Lead, added, faded_in, faded_out
from apilado.core.render.tail import Reach
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.delay import Delay
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.soft_clip import SoftClip
from tests.support import RATES, graph_of, plain_stack

HEARD = 1e-3
CONSTANTS = -np.log(HEARD)
"""So many time constants an exponential takes to fall by 60 dB."""


def fallen_after(constants_s, step_s=5e-4):
    """When what is left of exponentials in a row, each with an area of one, has fallen under 60 dB: by convolution."""
    frames = round(1.2 * CONSTANTS * float(np.sum(constants_s)) / step_s)
    times = np.arange(frames) * step_s
    spectrum = np.ones(frames + 1, complex)
    for constant in constants_s:
        one = np.exp(-times / constant)
        spectrum = spectrum * np.fft.rfft(one / one.sum(), 2 * frames)
    left = 1.0 - np.cumsum(np.fft.irfft(spectrum, 2 * frames)[:frames])
    return float(times[np.nonzero(left > HEARD)[0][-1]]) + step_s


def lead_of(fading_s):
    lead = _Lead()
    for seconds in fading_s:
        lead = lead.behind(_Lead(longest_s=seconds, summed_s=seconds))
    return lead.seconds


class ReachTest(unittest.TestCase):
    def test_a_point_rings_for_as_long_as_its_filter_at_each_rate(self):
        bell = Bell(id="bell", frequency_hz=16000.0, q=8.0, gain_db=9.0)
        stack = plain_stack(bus=Bus(path=(Equaliser(id="eq", points=(bell,)),)))
        for rate in (*RATES, *RATES):
            wanted = settle_frames(bell.sections(rate)) / rate
            self.assertEqual(Reach(stack, rate).point_seconds("bus/path/eq", bell), wanted)
        self.assertNotEqual(*[settle_frames(bell.sections(rate)) / rate for rate in (44100, 96000)])


class RoomTest(unittest.TestCase):
    def test_what_goes_into_a_room_and_what_it_gives_stay_longest(self):
        path = layer_path(Reverb(id="room"), SoftClip(id="clip"))
        passed = graph_of(plain_stack(layers=(Layer(id="a", path=path),))).passed
        for address, lasts in (("layers/a/path/room", True), ("layers/a/path/clip", False)):
            self.assertEqual(passed[address].after.lasting, lasts)
        self.assertTrue(passed["layers/a/path/room"].after.inputs[0].lasting)


class LeadTest(unittest.TestCase):
    def test_it_is_enough_for_equal_falls_in_a_row(self):
        # The sum of n exponential times is a gamma distribution: SciPy's quantile of it.
        for count in range(1, 9):
            needed = float(stats.gamma.isf(HEARD, count)) / CONSTANTS
            self.assertGreaterEqual(lead_of([1.0] * count), needed - 1e-9, count)
            self.assertLess(lead_of([1.0] * count), 1.25 * needed, count)

    def test_it_is_enough_for_any_falls_in_a_row(self):
        dice = np.random.default_rng(18)
        for _ in range(40):
            constants_s = np.exp(dice.uniform(np.log(0.002), np.log(0.2), int(dice.integers(2, 8))))
            needed = fallen_after(constants_s)
            self.assertGreaterEqual(lead_of(CONSTANTS * constants_s), needed - 2e-3, constants_s)

    def test_what_rings_as_loud_as_ever_is_waited_for_whole(self):
        lead = _Lead(0.1, 0.3, 0.5).behind(_Lead(0.02, 0.4, 0.4))
        self.assertAlmostEqual(lead.whole_s, 0.12)
        self.assertAlmostEqual(lead.seconds, 0.12 + 0.4 + 0.34 * 0.5)
        # Behind a level that goes on from the last loop less is waited for, but only where nothing else reads it.
        held = _Lead(0.1, 0.3, 0.3, held=True)
        self.assertAlmostEqual(held.behind(_Lead(0.02, 0.4, 0.4)).seconds, 0.12 + 0.3 + 0.34 * 0.55 * 0.4)
        self.assertTrue(held.behind(_Lead(0.02, 0.4, 0.4)).held and held.at_least(held).held)
        self.assertFalse(held.at_least(_Lead()).held or _Lead().at_least(held).held)
        both = _Lead(0.1, 0.3, 0.5).at_least(_Lead(0.2, 0.1, 0.6))
        self.assertEqual((both.whole_s, both.longest_s, both.summed_s), (0.2, 0.3, 0.6))


class CoarseCourseTest(unittest.TestCase):
    def test_of_a_course_that_has_left_a_value_remains_every_so_often(self):
        cache, course = StageCache(8_000), np.arange(1_500, dtype=np.float32)
        cache.put(b"course", course, seconds=1e-9)
        self.assertEqual(cache.value_at(b"course", 777), 777.0)
        self.assertEqual(cache.value_at(b"course", 3 * 1_500 + 20), 20.0)
        cache.put(b"sound", np.zeros((2, 500), np.float32), seconds=1e-9)
        cache.put(b"other", np.zeros(1_000), seconds=1.0)
        self.assertIsNone(cache.get(b"course"))
        self.assertEqual(cache.value_at(b"course", 777), 3.0 * COARSE_FRAMES)
        self.assertEqual(cache.value_at(b"course", 10 * 1_500 + 300), 1.0 * COARSE_FRAMES)
        self.assertIsNone(cache.value_at(b"never", 0))
        cache.put(b"another", np.zeros(1_000), seconds=1.0)
        self.assertIsNone(cache.get(b"sound"))
        self.assertIsNone(cache.value_at(b"sound", 0))
        cache.clear()
        self.assertIsNone(cache.value_at(b"course", 777))

    def test_no_more_than_so_many_remain(self):
        cache = StageCache(1_000)
        for index in range(MOST_COARSE + 10):
            cache.put(index.to_bytes(2, "big"), np.full(400, index, np.float32))
        known = [cache.value_at(index.to_bytes(2, "big"), 0) for index in range(MOST_COARSE + 10)]
        self.assertEqual(sum(value is not None for value in known), MOST_COARSE + 1)  # the last is still whole
        self.assertIsNone(known[0])


class ApartTest(unittest.TestCase):
    def test_what_rings_on_makes_of_a_sum_what_it_makes_of_each_part(self):
        ringing = [model for model in TREATMENTS if model.rings_on]
        self.assertIn(Reverb, ringing)
        self.assertIn(Delay, ringing)
        dice, clock = np.random.default_rng(7), Clock(120.0, 2.0, 44100, looped=False)
        one, other = (dice.standard_normal((2, 20_000)).astype(np.float32) * 0.2 for _ in range(2))
        for model in ringing:
            treatment: Treatment = model(id="t", blend=0.6)
            together = treatment.process(one + other, clock)
            apart = treatment.process(one, clock) + treatment.process(other, clock)
            np.testing.assert_allclose(apart, together, atol=3e-6)
            self.assertGreater(float(np.abs(together).max()), 0.1)

    def test_what_falls_and_what_rises_are_one_sound_together(self):
        sound = np.random.default_rng(3).standard_normal((2, 1_000)).astype(np.float32)
        over, anew = 100, 600
        old = faded_out(sound[:, : anew + over], over=over, frames=1_000)
        new = np.zeros_like(sound)
        new[:, anew:] = faded_in(sound[:, anew:], over=over)
        np.testing.assert_allclose(old + new, sound, atol=1e-6)
        self.assertFalse(old[:, anew + over :].any())
        mono, both = np.ones((1, 4), np.float32), np.ones((2, 4), np.float32)
        self.assertEqual(added(mono, both).shape, (2, 4))


class SoonTest(unittest.TestCase):
    def test_what_has_the_longest_way_to_go_is_computed_first(self):
        done = []

        def made(*inputs, name, clock=None):
            done.append(name)
            return np.zeros(1)

        def chain(name, frames, length):
            found = ()
            for step in range(length):
                clock = Clock(120.0, 4.0, 48000, looped=True).stretch(0, frames)
                found = (stage(made, *found, name=f"{name}{step}", clock=clock, kept=False),)
            return found[0]

        clock = Clock(120.0, 4.0, 48000, looped=True).stretch(0, 100)
        short, wide, long = chain("short", 1_000, 2), chain("wide", 11_000, 1), chain("long", 3_000, 3)
        long = stage(made, long, name="long3", kept=False)  # what is measured of it takes as long
        target = stage(made, short, wide, long, name="target", clock=clock, kept=False)
        in_turn = ["short0", "short1", "wide0", "long0", "long1", "long2", "long3", "target"]
        furthest_first = ["long0", "wide0", "long1", "long2", "long3", "short0", "short1", "target"]
        frames = 2 * 1_000 + 11_000 + 4 * 3_000 + 100
        for room, given, wanted in (
            (0, {"soon": True}, furthest_first),
            (frames - 10, {}, in_turn),
            (frames + 10, {}, furthest_first),
            (frames + 10, {"token": Token(behind=True)}, in_turn),
        ):
            done.clear()
            engine = Engine(cache_bytes=round(8 * room / (1.0 - MEASURED_SHARE)), threads=1)
            try:
                engine.run([target], **given)
            finally:
                engine.close()
            self.assertEqual(done, wanted)
