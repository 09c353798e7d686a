"""Places against what is written of them: closed forms of their filters, mono borders, rooms, and the same phone."""

import re
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.signal import butter, sosfilt

from apilado.core.document.equaliser import Bell, HighPass, HighShelf, LowPass, LowShelf
from apilado.core.measure.spectrum import spectrum_of
from apilado.core.measure.stem import measured
from apilado.core.render.elsewhere import PHONE, PLACES, heard_at, place_of
from apilado.core.render.graph import clock_of
from apilado.core.render.stage import stage
from apilado.core.soundings.elsewhere import left_elsewhere, loudness_through
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound as sounded
from apilado.core.treatments.limiter import PeakLimiter
from apilado.core.treatments.reverb import Reverb
from apilado.demo.stacks import slipway
from apilado.errors import NotFound
from tests.support import ENGINE, RATES, loader, noise, plain_stack, sine

QUIET = 1e-3
ROOT = Path(__file__).parents[3]


def given(number):
    return GIVEN[number]


GIVEN = []


def heard(place, audio, rate, **changes):
    """A loop as it is heard in a place: of one of four beats at 60 bpm."""
    stack = plain_stack(sample_rate=rate, tempo_bpm=60.0, bars=1, **changes)
    clock = clock_of(stack, looped=True)
    assert audio.shape[1] == clock.frames
    GIVEN.append(audio)
    source = stage(given, number=len(GIVEN) - 1)
    out, _ = heard_at(place, source, stack, clock, loader({}))
    return ENGINE.run([out])[0]


def closed_form(point, hertz):
    """The power response of a filter's analogue prototype: R. Bristow-Johnson, "Cookbook formulae for audio equalizer
    biquad filter coefficients" (published by the W3C), and Butterworth's."""
    ratio = hertz / point.frequency_hz
    if isinstance(point, HighPass | LowPass):
        order = point.slope_db_per_octave // 6
        away = 1.0 / ratio if isinstance(point, HighPass) else ratio
        return 1.0 / (1.0 + away ** (2 * order))
    a, s = 10.0 ** (point.gain_db / 40.0), 1j * ratio
    if isinstance(point, Bell):
        response = (s * s + s * a / point.q + 1.0) / (s * s + s / (a * point.q) + 1.0)
    elif isinstance(point, LowShelf):
        root = np.sqrt(a) / point.q
        response = a * (s * s + root * s + a) / (a * s * s + root * s + 1.0)
    else:
        assert isinstance(point, HighShelf)
        root = np.sqrt(a) / point.q
        response = a * (a * s * s + root * s + 1.0) / (s * s + root * s + a)
    return np.abs(response) ** 2


class ResponseTest(unittest.TestCase):
    def test_a_place_passes_what_is_written_of_it(self):
        # One impulse in a loop that is silent else, quiet enough for no limiter; the room is another test's.
        for place in PLACES:
            dry = place.bus.model_copy(update={"path": tuple(p for p in place.bus.path if not isinstance(p, Reverb))})
            shown = replace(place, bus=dry)
            turned_up = sum(step.gain_db for step in dry.path if isinstance(step, PeakLimiter))
            for rate in RATES:
                hertz = np.geomspace(25.0, 0.1 * rate, 60)  # above, a digital filter bends towards half the rate
                click = np.zeros((2, 4 * rate), np.float32)
                click[:, 100] = QUIET
                out = heard(shown, click, rate)
                found = spectrum_of(out, rate_hz=rate)
                lines = np.abs(found.left) / QUIET
                level = 20.0 * np.log10(np.interp(hertz, found.frequencies_hz, lines)) - turned_up
                expected = 10.0 * np.log10(np.prod([closed_form(p, hertz) for p in place.points] or [hertz**0], axis=0))
                apart = np.abs(level - expected)[expected > -50.0]
                self.assertLess(float(apart.max()), 0.5, (place.key, rate))
                # And so does what the drawings and the soundings reckon with.
                drawn = 20.0 * np.log10(np.abs(place.response(hertz, rate)))
                self.assertLess(float(np.abs(drawn - expected)[expected > -50.0].max()), 0.5, (place.key, rate))

    def test_what_is_written_of_each_is_what_it_does(self):
        rows = {}
        for line in (ROOT / "docs" / "dsp.md").read_text().split("## Elsewhere")[1].split("\n## ")[0].splitlines():
            cells = [cell.strip() for cell in line.strip("|").split("|")]
            if len(cells) == 6:
                rows[cells[0]] = cells[1:]
        for place in PLACES:
            width, response, limiter, _, mono = rows[place.label]
            words = {"mono": 0.0, "half": 0.5, "whole": 1.0}
            self.assertEqual(words[width] if width in words else float(width), place.width, place.key)
            said = re.sub(r"f = c/2L|half a wave.*?2\.7 m|axial modes of .*?m,", "", response)
            hertz = [
                1000.0 * float(n) if k else float(n) for n, k in re.findall(r"([\d.]+)(?: and [\d.]+)? (k?)Hz", said)
            ]
            wanted = {point.frequency_hz for point in place.points}
            self.assertLessEqual(set(hertz), wanted, place.key)
            self.assertGreaterEqual(len(set(hertz)), len(wanted) - 2, place.key)  # three modes share one unit
            gains = [float(n.replace("−", "-")) for n in re.findall(r"([+−][\d.]+)", said)]
            self.assertEqual(sorted(gains), sorted(p.gain_db for p in place.points if hasattr(p, "gain_db")), place.key)
            limits = [(step.gain_db, step.ceiling_db) for step in place.bus.path if isinstance(step, PeakLimiter)]
            told = re.findall(r"\+([\d.]+) dB into −([\d.]+) dBFS", limiter)
            self.assertEqual([(float(gain), -float(ceiling)) for gain, ceiling in told], limits, place.key)
            self.assertEqual(mono, f"{place.bus.mono_below_hz:g} Hz" if place.bus.mono_below_hz else "", place.key)

    def test_what_is_mono_is_mono(self):
        for rate in RATES:
            t = np.arange(4 * rate) / rate
            # In the side alone, a third of an octave under the border, and two octaves under it.
            for hertz in (96.0, 30.0):
                side = (0.1 * np.sin(2.0 * np.pi * hertz * t)).astype(np.float32)
                club = heard(place_of("club"), np.stack([side, -side]), rate)
                left = 20.0 * np.log10(np.std(club[0] - club[1]) / np.std(2.0 * side))
                self.assertLess(left, -12.0 if hertz > 60.0 else -60.0, (rate, hertz))
            wide = noise(4 * rate, amplitude=0.05)
            for key in ("phone", "radio", "mono"):
                out = heard(place_of(key), wide, rate)
                self.assertLess(float(np.abs(out[0] - out[1]).max()), 1e-3 * float(np.abs(out).max()), key)
            laptop = heard(place_of("laptop"), np.stack([wide[0], -wide[0]]), rate)
            mono = heard(place_of("laptop"), np.stack([wide[0], wide[0]]), rate)
            self.assertAlmostEqual(20.0 * np.log10(np.std(laptop) / np.std(mono)), -6.0, delta=0.3)

    def test_a_room_dies_away_in_the_time_that_is_written(self):
        # ISO 3382: T20 in the octave of 250 Hz, from the curve of the energy that is still to come.
        for key, seconds in (("club", 1.4), ("room", 0.4)):
            rate = 48000
            burst = np.zeros((2, 4 * rate), np.float32)
            burst[:, : rate // 50] = noise(rate // 50, amplitude=0.02)
            out = heard(place_of(key), burst, rate)
            band = sosfilt(butter(3, (177.0, 354.0), "bandpass", fs=rate, output="sos"), out)
            begun = rate // 50 + round(0.15 * seconds * rate)
            energy = np.sum(band[:, begun : begun + 3 * rate] ** 2, axis=0)[::-1].cumsum()[::-1]
            curve = 10.0 * np.log10(energy / energy[0])
            first, last = np.argmax(curve < -5.0), np.argmax(curve < -25.0)
            self.assertAlmostEqual(3.0 * (last - first) / rate / seconds, 1.0, delta=0.15, msg=key)

    def test_the_small_speaker_is_the_same_phone(self):
        stack = slipway().stack
        measures = measure(stack, loader({}), ENGINE)
        told = next(each for each in sounded(measures) if each.id == "small-speaker").value
        quiet = (measures.bass_audio * np.float32(QUIET)).copy()
        eq_only = replace(PHONE, bus=PHONE.bus.model_copy(update={"path": PHONE.bus.path[:1]}), width=1.0)
        GIVEN.append(quiet)
        out = ENGINE.run([heard_at(eq_only, stage(given, number=len(GIVEN) - 1), stack, measures.clock, loader({}))[0]])
        played = 10.0 * np.log10(np.sum(quiet**2) / np.sum(out[0] ** 2))
        self.assertAlmostEqual(told, played, delta=0.5)

    def test_there_is_no_other_place(self):
        with self.assertRaisesRegex(NotFound, "no place called 'moon' to listen in; there are phone, laptop"):
            place_of("moon")
        self.assertEqual(len({place.key for place in PLACES}), len(PLACES))


class LeftThereTest(unittest.TestCase):
    def test_a_tone_loses_what_the_place_takes(self):
        rate = 48000
        for hertz, place in ((40.0, PHONE), (120.0, place_of("radio")), (997.0, place_of("car"))):
            there = measured(sine(hertz, 2.0, amplitude=0.3), rate)
            lost = loudness_through(there, place, rate) - loudness_through(there, None, rate)
            expected = sum(10.0 * np.log10(closed_form(point, np.array([hertz]))[0]) for point in place.points)
            self.assertAlmostEqual(lost, expected, delta=0.3)

    def test_what_differs_between_the_channels_is_lost_in_mono(self):
        self.assertEqual([place_of(key).width for key in ("phone", "laptop", "car", "club")], [0.0, 0.5, 0.8, 1.0])
        found = {each.place.key: each for each in left_elsewhere(measure(slipway().stack, loader({}), ENGINE))}
        self.assertLess(found["phone"].layers["sub"], -30.0)
        self.assertGreater(found["car"].layers["sub"], 3.0)
        self.assertAlmostEqual(found["mono"].layers["sub"], 0.0, delta=0.05)
