"""Takes: cut, reversed, brought to the tempo of the stack, tuned."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.document.layer import Layer
from apilado.core.measure.pitch import pitch_hz
from apilado.core.sources.take import TakeSource
from tests.core.sources.test_sample import bass_note, recorded
from tests.support import ENGINE, graph_of, plain_stack

TEMPO = 120.0


def laid(sound, **values):
    asset, load = recorded(sound)
    layer = Layer(id="a", source=TakeSource(asset=asset, **values))
    stack = plain_stack(layers=(layer,), tempo_bpm=TEMPO, bars=2)
    (found,) = ENGINE.run([graph_of(stack, load).sources["a"]])
    return found[0]


def cents(sound, hertz):
    return 1200 * np.log2(pitch_hz(sound, 48000) / hertz)


class TakeTest(unittest.TestCase):
    def length(self, sound):
        return np.flatnonzero(np.abs(sound) > 0.02)[-1] / 48000

    def test_at_its_own_tempo_it_is_as_it_was_played_and_from_another_it_is_stretched(self):
        sound = bass_note(seconds=1.2)
        assert_allclose(laid(sound, own_bpm=TEMPO), laid(sound))
        for own in (90.0, 150.0):
            found = laid(sound, own_bpm=own)
            self.assertAlmostEqual(self.length(found), 1.2 * own / TEMPO, delta=0.01)
            self.assertLess(abs(cents(found[9600:28800], pitch_hz(sound, 48000))), 3.0)

    def test_tuned_it_is_as_long_as_it_was(self):
        sound = bass_note(seconds=1.2)
        for by in (-150.0, 37.0, 700.0):
            found = laid(sound, tune_cents=by)
            self.assertAlmostEqual(self.length(found), 1.2, delta=0.03)
            self.assertLess(abs(cents(found[9600:28800], pitch_hz(sound, 48000)) - by), 3.0, by)

    def test_reversed_and_cut(self):
        sound = bass_note(seconds=1.0) * np.linspace(1.0, 0.1, 48000)
        inside = slice(1000, 14000)
        found = laid(sound, backwards=True, skip_ms=100.0, lasts_ms=300.0)
        assert_allclose(found[inside], sound[4800 : 4800 + 14400][::-1][inside], atol=1e-5)
        self.assertLess(np.abs(found[14400:]).max(), 1e-6)

    def test_a_piece_of_the_loop_is_what_the_loop_is_there(self):
        asset, load = recorded(bass_note(seconds=1.2))
        layer = Layer(id="a", source=TakeSource(asset=asset, own_bpm=100.0, tune_cents=50.0))
        graph = graph_of(plain_stack(layers=(layer,), tempo_bpm=TEMPO), load)
        (whole,) = ENGINE.run([graph.sources["a"]])
        source, score = graph.sources["a"].parameters["source"], graph.sources["a"].parameters["score"]
        part = source.render(score, graph.clock.stretch(20000, 8000), load)
        assert_allclose(part[0], whole[0, 20000:28000], atol=1e-6)
