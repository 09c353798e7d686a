"""Cabinets and the width of bands: against SciPy's convolution, and against what may not change."""

import unittest

import numpy as np
from scipy.signal import oaconvolve

from apilado.core.banded import begun
from apilado.core.clock import Clock
from apilado.core.document.layer import Layer
from apilado.core.dsp.cabinets import BOXES, box_response
from apilado.core.dsp.curves import Curve, knots
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.cabinet import Cabinet, ImpulseResponse, RecordedResponse
from apilado.core.treatments.width_bands import WideBand, WidthBands
from apilado.errors import NotFound
from tests.support import RATES, loader, noise, path_of, plain_stack, rendered, sha256, wav

RATE = 48000
LOOP = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=RATE, looped=True)
ONCE = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=RATE, looped=False)


def of(*boxes, **values):
    listed = tuple(ImpulseResponse(id=f"r{n}", box=box) for n, box in enumerate(boxes))
    return Cabinet(responses=listed, **values)


def magnitude_db(step, hertz):
    return 20.0 * np.log10(np.abs(step.response(np.asarray(hertz, np.float64), RATE)) + 1e-9)


class CabinetTest(unittest.TestCase):
    def test_it_is_the_convolution_in_a_single_pass_and_round_a_loop(self):
        sound, response = noise(ONCE.frames), box_response(BOXES["crate"], RATE)
        wanted = oaconvolve(sound.astype(np.float64), response.astype(np.float64), axes=1)
        found = of("crate").process(sound, ONCE)
        np.testing.assert_allclose(found, wanted[:, : ONCE.frames], atol=2e-6)
        wanted[:, : response.shape[1] - 1] += wanted[:, ONCE.frames :]
        np.testing.assert_allclose(of("crate").process(sound, LOOP), wanted[:, : LOOP.frames], atol=2e-6)

    def test_six_boxes_of_different_sound_and_of_one_level(self):
        hertz = np.geomspace(60.0, 10000.0, 120)
        curves = {name: magnitude_db(of(name), hertz) for name in BOXES}
        self.assertEqual(len(curves), 6)
        for name, curve in curves.items():
            within = curve[(hertz > 80.0) & (hertz < 2000.0)]
            self.assertAlmostEqual(10.0 * np.log10(np.mean(10.0 ** (within / 10.0))), 0.0, delta=0.7, msg=name)
            for other in set(curves) - {name}:
                self.assertGreater(float(np.abs(curve - curves[other]).mean()), 3.0, (name, other))

    def test_a_box_is_the_same_at_every_rate(self):
        hertz = np.geomspace(60.0, 6000.0, 60)
        for name, box in BOXES.items():
            found = []
            for rate in RATES:
                spectrum = np.abs(np.fft.rfft(box_response(box, rate)[0].astype(np.float64), 1 << 17))
                found.append(20.0 * np.log10(np.interp(hertz * (1 << 17) / rate, np.arange(spectrum.size), spectrum)))
            self.assertLess(float(np.abs(np.diff(found, axis=0)).max()), 2.5, name)

    def test_level_polarity_delay_and_cuts_of_each(self):
        sound = noise(LOOP.frames)
        base = of("bilge").process(sound, LOOP)

        def one(**values):
            return Cabinet(responses=(ImpulseResponse(id="a", box="bilge", **values),)).process(sound, LOOP)

        np.testing.assert_allclose(one(level_db=-6.0206), 0.5 * base, atol=1e-6)
        np.testing.assert_allclose(one(polarity="inverted"), -base, atol=1e-7)
        np.testing.assert_allclose(one(delay_ms=2.0), np.roll(base, 96, axis=1), atol=2e-6)
        both = (ImpulseResponse(id="a", box="bilge"), ImpulseResponse(id="b", box="bilge", polarity="inverted"))
        self.assertLess(float(np.abs(Cabinet(responses=both).process(sound, LOOP)).max()), 1e-6)
        off = (both[0], both[1].model_copy(update={"on": False}))
        np.testing.assert_allclose(Cabinet(responses=off).process(sound, LOOP), base, atol=1e-7)
        cut = np.abs(np.fft.rfft(one(low_cut_hz=400.0)[0])) / np.abs(np.fft.rfft(base[0]))
        self.assertAlmostEqual(20.0 * np.log10(float(np.median(cut[180:220]))), -24.1, delta=0.3)  # two octaves below
        self.assertAlmostEqual(20.0 * np.log10(float(np.median(cut[3000:3100]))), 0.0, delta=0.1)

    def test_aligned_they_do_not_comb(self):
        late = np.zeros((1, 4000), np.float32)
        late[0, 130] = -1.0
        content = wav(late)
        files = loader({sha256(content): content})
        recorded = RecordedResponse(asset=sha256(content))
        pure = np.zeros((1, 4000), np.float32)
        pure[0, 0] = 1.0
        plain = wav(pure)
        both = loader({sha256(content): content, sha256(plain): plain})
        listed = (
            ImpulseResponse(id="a", recorded=RecordedResponse(asset=sha256(plain))),
            ImpulseResponse(id="b", recorded=recorded),
        )
        hertz = np.geomspace(60.0, 8000.0, 400)
        combed = np.abs(Cabinet(responses=listed).response(hertz, RATE, both))
        self.assertLess(float(combed.min()), 0.1)
        aligned = Cabinet(responses=listed, align=True)
        np.testing.assert_allclose(np.abs(aligned.response(hertz, RATE, both)), 2.0, atol=0.01)
        # Neither comes late for it: the sound stays where the first response has it.
        sound = noise(LOOP.frames)
        np.testing.assert_allclose(aligned.process(sound, LOOP, aligned.prepared(RATE, both)), 2.0 * sound, atol=1e-5)
        with self.assertRaises(NotFound):
            aligned.prepared(RATE, loader({}))
        self.assertTrue(np.any(files(sha256(content), RATE)))

    def test_a_response_from_a_file_is_heard_in_a_stack_and_named_as_its_asset(self):
        response = np.zeros((2, 2400), np.float32)
        response[0, 0], response[1, 1200] = 1.0, 0.5
        content = wav(response)
        step = Cabinet(responses=(ImpulseResponse(id="a", recorded=RecordedResponse(asset=sha256(content))),))

        def stack(*steps):
            layer = Layer(id="a", source=ToneSource(tones=(Tone(shape="saw"),)), path=path_of(*steps))
            return plain_stack(layers=(layer,))

        self.assertEqual(stack(step).asset_hashes(), (sha256(content),))
        files = loader({sha256(content): content})
        dry, wet = rendered(stack())["a"], rendered(stack(step), files)["a"]
        np.testing.assert_allclose(wet[0], dry[0], atol=1e-5)
        np.testing.assert_allclose(wet[1], 0.5 * np.roll(dry[1], 1200), atol=1e-5)

    def test_a_response_of_one_sample_is_cut_as_well_and_no_longer_than_it_says(self):
        content = wav(np.concatenate([np.ones((1, 1), np.float32), np.zeros((1, 9599), np.float32)], axis=1))
        late = wav(np.concatenate([np.zeros((1, 4800), np.float32), np.ones((1, 4800), np.float32)], axis=1))
        files = loader({sha256(content): content, sha256(late): late})
        short = RecordedResponse(asset=sha256(content), lasts_s=1.0 / RATE)
        found = Cabinet(responses=(ImpulseResponse(id="a", recorded=short, low_cut_hz=500.0),))
        cut_db = 20.0 * np.log10(np.abs(found.response(np.array([125.0, 500.0, 8000.0]), RATE, files)))
        np.testing.assert_allclose(cut_db, (-24.1, -3.0, 0.0), atol=0.3)
        half = RecordedResponse(asset=sha256(late), lasts_s=0.1)
        self.assertFalse(np.any(Cabinet(responses=(ImpulseResponse(id="a", recorded=half),)).prepared(RATE, files)))
        self.assertLess(found.tail_seconds(ONCE), 0.5)


class WidthBandsTest(unittest.TestCase):
    def bands(self, *widths):
        made = begun(WideBand, 150.0, 2000.0)
        return tuple(band.model_copy(update={"width": width}) for band, width in zip(made, widths, strict=True))

    def test_the_mono_sum_stays_whatever_the_widths(self):
        sound = noise(LOOP.frames)
        for phase in ("linear-phase", "minimum-phase"):
            found = WidthBands(bands=self.bands(0.0, 0.7, 2.0), phase=phase).process(sound, LOOP)
            np.testing.assert_allclose(found.sum(axis=0), sound.sum(axis=0), atol=1e-6)

    def test_each_band_is_as_wide_as_it_says(self):
        side = np.stack([noise(LOOP.frames, channels=1)[0]] * 2)
        side[1] *= -1.0
        found = WidthBands(bands=self.bands(0.0, 1.0, 2.0)).process(side, LOOP)
        gain = np.abs(np.fft.rfft(found[0].astype(np.float64)) / np.fft.rfft(side[0].astype(np.float64)))
        for hertz, wanted in ((40.0, 0.0), (550.0, 1.0), (9000.0, 2.0)):
            self.assertAlmostEqual(float(gain[round(2.0 * hertz)]), wanted, delta=0.03)
        equal = WidthBands(bands=self.bands(1.0, 1.0, 1.0000001)).process(side, LOOP)
        self.assertLess(20.0 * np.log10(np.abs(equal - side).max()), -80.0)  # flat when idle

    def test_a_width_that_moves(self):
        at = knots(LOOP.frames)
        sound = noise(LOOP.frames)
        bands = self.bands(1.0, 1.0, 1.0)
        moving = bands[2].model_construct(**{**dict(bands[2]), "width": Curve(at, np.where(at < 48000, 0.0, 2.0))})
        step = WidthBands.model_construct(**{**dict(WidthBands()), "bands": (*bands[:2], moving)})
        found = step.process(sound, LOOP)
        for width, piece in ((0.0, slice(20000, 28000)), (2.0, slice(68000, 76000))):
            still = WidthBands(bands=self.bands(1.0, 1.0, width)).process(sound, LOOP)
            np.testing.assert_allclose(found[:, piece], still[:, piece], atol=1e-5)


if __name__ == "__main__":
    unittest.main()
