"""How much memory is taken besides a long sound: what measures it, and what filters and drives it, goes in pieces."""

import tracemalloc
import unittest

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.curves import knots
from apilado.core.dsp.equaliser import bell
from apilado.core.dsp.moving_filters import moving_filtered, some_at_a_time
from apilado.core.measure.clicks import clicks
from apilado.core.measure.kick_phase import kick_meeting
from apilado.core.measure.loudness import measure_loudness
from apilado.core.measure.passage import energy_grid
from apilado.core.measure.resonances import resonances
from apilado.core.measure.spectrum import mid_and_side, spectrum_of
from apilado.core.measure.stem import measure_stem
from apilado.core.treatments.filter import Filter
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.soft_clip import SoftClip
from tests.support import noise

RATE = 48000
CLOCK = Clock(tempo_bpm=120.0, beats=64.0, rate_hz=RATE, looped=True)


class RoomTakenTest(unittest.TestCase):
    def taken(self, work):
        """The most that a piece of work takes of memory, its result included, in lengths of the sound."""
        work()  # what is compiled or worked out once is no part of it
        tracemalloc.start()
        try:
            work()
            return tracemalloc.get_traced_memory()[1] / self.sound.nbytes
        finally:
            tracemalloc.stop()

    @classmethod
    def setUpClass(cls):
        cls.sound = noise(CLOCK.frames)

    def test_what_is_measured(self):
        sound, hits = self.sound, tuple(range(0, CLOCK.frames, 24000))
        spectrum = spectrum_of(sound, rate_hz=RATE)
        stem = measure_stem(sound, spectrum)
        for work, most in (
            (lambda: measure_loudness(sound, rate_hz=RATE, looped=True), 0.25),
            # One level for each frame of one channel, and those away from its notes in order.
            (lambda: clicks(sound, moments=hits, rate_hz=RATE), 1.3),
            (lambda: mid_and_side(sound, low_hz=20.0, high_hz=120.0, rate_hz=RATE), 0.4),
            (lambda: kick_meeting(sound, sound[:, ::-1], hits, rate_hz=RATE), 0.3),
            (lambda: resonances(spectrum, least_db=4.0), 0.1),
            (lambda: energy_grid(sound, stem, columns=256), 0.9),
        ):
            self.assertLess(self.taken(work), most)

    def test_what_is_made(self):
        sound, at = self.sound, knots(CLOCK.frames)
        hertz = 300.0 * 2.0 ** np.sin(at / 5000.0)

        def swept():
            sections = some_at_a_time(lambda some: bell(some, 6.0, 2.0, RATE), hertz)
            return moving_filtered(sound, at, sections, looped=True)

        for work, most in (
            (lambda: SoftClip().process(sound, CLOCK), 1.2),
            (lambda: SoftClip(blend=0.5).process(sound, CLOCK), 1.6),
            (lambda: Filter(cutoff_hz=400.0).process(sound, CLOCK), 1.1),
            (lambda: Reverb().process(sound, CLOCK), 2.1),
            (swept, 1.7),
        ):
            self.assertLess(self.taken(work), most)
