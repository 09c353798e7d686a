"""Drawings the size of a word: they say what the sound says."""

import unittest

import numpy as np

from apilado.core.banded import begun
from apilado.core.sketch import SKETCH_SECONDS, sketch_hertz
from apilado.core.treatments.cabinet import Cabinet, ImpulseResponse, RecordedResponse
from apilado.core.treatments.chorus import Chorus
from apilado.core.treatments.delay import Delay
from apilado.core.treatments.phaser import Phaser
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.width_bands import WideBand, WidthBands


class SketchTest(unittest.TestCase):
    def test_every_one_stays_within_its_height(self):
        drawn = [model().sketch() for model in TREATMENTS]
        self.assertGreater(sum(each is not None for each in drawn), len(TREATMENTS) // 2)
        for sketch in drawn:
            if sketch is not None:
                self.assertTrue(np.all((sketch.heights >= 0.0) & (sketch.heights <= 1.0)), sketch.what)

    def test_a_room_dies_away_as_long_as_it_says(self):
        time = np.linspace(0.0, SKETCH_SECONDS, len(Reverb().sketch().heights))
        for decay, pre in ((0.8, 0.0), (2.0, 100.0)):
            heights = Reverb(decay_s=decay, pre_delay_ms=pre).sketch().heights
            self.assertAlmostEqual(
                float(time[np.argmin(np.abs(heights - 0.5))]), pre / 1000.0 + decay / 2.0, delta=0.04
            )

    def test_echoes_stand_where_they_are_heard(self):
        plain = Delay(left_ms=100.0, right_ms=300.0).sketch().heights
        np.testing.assert_allclose(np.flatnonzero(plain) / (len(plain) - 2), (1 / 3, 1.0), atol=0.01)
        crossed = Delay(left_ms=100.0, right_ms=150.0, feedback=0.5, ping_pong=True).sketch().heights
        places = np.flatnonzero(crossed)
        np.testing.assert_allclose(places / (len(crossed) - 2), np.array((100, 250, 350, 500)) / 500.0, atol=0.01)
        np.testing.assert_allclose(crossed[places], (1.0, 0.5, 0.25, 0.125))

    def test_notches_widths_boxes_and_swings(self):
        hertz = sketch_hertz()
        dips = Phaser(stages=4, feedback=0.0).sketch().heights
        found = np.sort(hertz[np.argsort(dips)[:1]])
        # A row of four turns by half a wave where each turns by 45°: at tan 22.5° of the corner, and at its reciprocal.
        self.assertLess(min(abs(np.log2(found[0] / 700.0 / t)) for t in (0.4142, 2.4142)), 0.1)
        bands = begun(WideBand, 200.0, 2000.0)
        widths = tuple(b.model_copy(update={"width": w}) for b, w in zip(bands, (0.0, 1.0, 2.0), strict=True))
        heights = WidthBands(bands=widths).sketch().heights
        self.assertEqual([float(heights[np.argmin(np.abs(hertz - f))]) for f in (50.0, 600.0, 9000.0)], [0.0, 0.5, 1.0])
        boxes = [
            Cabinet(responses=(ImpulseResponse(id="r", box=box),)).sketch().heights for box in ("bilge", "gantry-horn")
        ]
        self.assertLess(float(hertz[np.argmax(boxes[0])]), float(hertz[np.argmax(boxes[1])]))
        recorded = ImpulseResponse(id="r", recorded=RecordedResponse(asset="0" * 64))
        self.assertIsNone(Cabinet(responses=(recorded,)).sketch())
        deep, flat = (np.ptp(Chorus(depth_ms=ms).sketch().heights) for ms in (6.0, 0.0))
        self.assertAlmostEqual(float(deep), 0.5, delta=0.01)
        self.assertEqual(float(flat), 0.0)


if __name__ == "__main__":
    unittest.main()
