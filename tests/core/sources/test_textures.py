"""Tables, hard sync, phase distortion, waves that are off, and the filters within a source."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.clock import Clock
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetHarmonic
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement, Target
from apilado.core.document.path import layer_path
from apilado.core.document.stack import Stack
from apilado.core.dsp.cycles import Cycle, cycle_found, cycles_of
from apilado.core.notes import Note
from apilado.core.render.graph import clock_of
from apilado.core.render.moves import Moves
from apilado.core.render.playing import layer_notes
from apilado.core.render.tail import tail_seconds
from apilado.core.shapes.drawn_course import CoursePoint, DrawnCourse
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import DrawnCycle, Modulation, RecordedTable, Tone
from apilado.core.treatments.filter import Filter
from tests.core.sources.test_modulation import HELD, played, stack_of
from tests.support import ENGINE, RATES, graph_of, loader, plain_stack, sha256, wav

A2_HZ = 110.0
FINE = 1 << 20


def lines(sound, rate, hertz, count):
    """Amplitudes of the first harmonics over a second of a held note that has a whole number of cycles in it."""
    part = sound[0, rate // 2 : rate // 2 + rate].astype(np.float64)
    return np.abs(np.fft.rfft(part))[round(hertz) * np.arange(1, count + 1)] * 2.0 / rate


def off_the_harmonics_db(sound, rate, hertz):
    """The loudest line that is no harmonic, over the loudest that is."""
    part = sound[0, rate // 2 : rate // 2 + rate].astype(np.float64)
    found = np.abs(np.fft.rfft(part * np.kaiser(rate, 20.0)))
    meant = np.zeros(found.shape[0], bool)
    for middle in range(0, found.shape[0], round(hertz)):
        meant[max(0, middle - 12) : middle + 13] = True
    return 20.0 * np.log10(found[~meant].max() / found.max())


def integrated(cycle, count):
    """Fourier coefficients of a cycle that is given at as many points as one likes, by summing."""
    phase = (np.arange(FINE) + 0.5) / FINE
    return np.abs(np.fft.rfft(cycle(phase)))[1 : count + 1] * 2.0 / FINE


def saw(phase):
    return 1.0 - 2.0 * (phase % 1.0)


def bent(phase, bend):
    half = 0.5 - 0.48 * bend
    return np.where(phase < half, phase * 0.5 / half, 0.5 + (phase - half) * 0.5 / (1.0 - half))


class TableTest(unittest.TestCase):
    CYCLES = (DrawnCycle(id="a", harmonics=(1.0, 0.5, 0.0, 0.2)), DrawnCycle(id="b", harmonics=(0.2, 0.0, 0.8)))

    def test_between_two_cycles_it_is_their_sum_in_shares(self):
        for position, expected in (
            (0.0, (1.0, 0.5, 0.0, 0.2)),
            (1.0, (0.2, 0.0, 0.8, 0.0)),
            (0.25, (0.8, 0.375, 0.2, 0.15)),
        ):
            sound = played(Tone(shape="table", table=self.CYCLES, position=position))
            assert_allclose(lines(sound, 48000, A2_HZ, 4), expected, atol=2e-4)

    def test_a_position_that_moves_is_where_it_should_be_at_every_moment_and_makes_no_clicks(self):
        tone = Tone(id="w", shape="table", table=self.CYCLES)
        stack = stack_of(tone)
        walk = Movement(
            id="m",
            begins="once",
            length_beats=4.0,
            targets=(Target(id="t", path="layers/a/source/tones/w/position", travel=1.0),),
        )
        moving = Stack.model_validate({**stack.model_dump(), "movements": [walk.model_dump()]})
        graph = graph_of(moving)
        (sound,), curve = (
            ENGINE.run([graph.sources["a"]]),
            curve_of(moving, "layers/a/source/tones/w/position"),
        )
        frame = np.arange(sound.shape[1])
        expected = np.zeros(sound.shape[1])
        for n, (first, last) in enumerate(zip((1.0, 0.5, 0.0, 0.2), (0.2, 0.0, 0.8, 0.0), strict=True), 1):
            expected += (first + curve * (last - first)) * np.sin(2.0 * np.pi * n * A2_HZ * frame / 48000)
        self.assertGreater(np.ptp(curve), 0.5)
        middle = slice(2000, 90000)
        assert_allclose(sound[0, middle], expected[middle], atol=3e-3)

    def test_a_table_from_a_file_is_what_lies_in_it_and_its_cycle_is_found(self):
        frames = 600
        phase = np.arange(frames) / frames
        cycles = [
            np.sin(2 * np.pi * phase) + share * np.sin(6 * np.pi * phase + 1.0) for share in np.linspace(0.0, 0.8, 5)
        ]
        content = wav(0.5 * np.concatenate(cycles)[None].astype(np.float32), 44100)
        files = loader({sha256(content): content})
        self.assertEqual(cycle_found(files(sha256(content), 0)), frames)
        recorded = RecordedTable(asset=sha256(content), cycle_frames=frames)
        for position, third in ((0.0, 0.0), (1.0, 0.4), (0.5, 0.2)):
            stack = stack_of(Tone(shape="table", recorded=recorded, position=position))
            (sound,) = ENGINE.run([graph_of(stack, files).sources["a"]])
            assert_allclose(lines(sound, 48000, A2_HZ, 3), (0.5, 0.0, third), atol=1e-3)
        self.assertEqual(stack.asset_hashes(), (sha256(content),))

    def test_of_many_cycles_as_many_as_there_may_be_are_taken_from_end_to_end(self):
        ramp = np.repeat(np.linspace(0.0, 1.0, 256), 32) * np.tile(np.sin(2 * np.pi * np.arange(32) / 32), 256)
        found = cycles_of(ramp[None], 32, "x")
        self.assertEqual(len(found.spectra), 64)
        assert_allclose([abs(found.spectra[0][0]), abs(found.spectra[-1][0])], [0.0, 1.0], atol=1e-9)

    def test_a_cycle_is_pulled_harmonic_by_harmonic(self):
        stack = stack_of(Tone(id="w", shape="table", table=self.CYCLES))
        path = "layers/a/source/tones/w/table/b"
        higher = apply(stack, SetHarmonic(path=path, number=5, amplitude=0.4))
        self.assertEqual(higher.layers[0].source.tones[0].table[1].harmonics, (0.2, 0.0, 0.8, 0.0, 0.4))
        back = apply(higher, SetHarmonic(path=path, number=5, amplitude=None))
        self.assertEqual(back.layers[0].source.tones[0].table[1].harmonics, (0.2, 0.0, 0.8))


class WarpedTest(unittest.TestCase):
    def test_hard_sync_is_its_fourier_series_without_aliases_at_all_rates(self):
        for rate in RATES:
            for sync in (1.5, 2.0, 3.37, 7.9):
                sound = played(Tone(shape="saw", sync=sync), rate=rate)
                expected = integrated(lambda phase, s=sync: saw(phase * s), 60)
                found = lines(sound, rate, A2_HZ, 60)
                strong = expected > 0.01
                assert_allclose(20 * np.log10(found[strong] / expected[strong]), 0.0, atol=0.1)
                self.assertLess(off_the_harmonics_db(sound, rate, A2_HZ), -80.0, (rate, sync))

    def test_phase_distortion_is_its_fourier_series_without_aliases(self):
        for bend in (0.3, 0.7, 1.0):
            for rate in RATES:
                sound = played(Tone(shape="sine", bend=bend), rate=rate)
                expected = integrated(lambda phase, b=bend: np.sin(2 * np.pi * bent(phase, b)), 60)
                assert_allclose(lines(sound, rate, A2_HZ, 60), expected, atol=2e-3)
                self.assertLess(off_the_harmonics_db(sound, rate, A2_HZ), -80.0, (rate, bend))

    def test_a_sine_of_two_cycles_is_its_second_harmonic_in_phase(self):
        assert_allclose(Cycle("sine", sync=2.0).harmonics(5), [0.0, 1.0, 0.0, 0.0, 0.0], atol=1e-4)
        assert_allclose(np.abs(Cycle("sine", sync=300.0).harmonics(300)[-1]), 1.0, atol=1e-3)

    def test_at_rest_it_is_the_wave_itself(self):
        assert_allclose(Cycle("saw", sync=1.0, bend=0.0).harmonics(40), Cycle("saw").harmonics(40))
        assert_allclose(Cycle("saw", sync=1.0 + 1e-9).harmonics(40), Cycle("saw").harmonics(40), atol=1e-3)

    def test_a_sync_that_moves_makes_no_clicks_and_no_aliases(self):
        # A sweep up and down over the loop: what is over half of the rate would come down as a tone against the sweep.
        stack = stack_of(Tone(id="w", shape="saw"), pitch=57)
        sweep = Movement(
            id="m",
            begins="once",
            length_beats=4.0,
            targets=(Target(id="t", path="layers/a/source/tones/w/sync", travel=2.0),),
        )
        moving = Stack.model_validate({**stack.model_dump(), "movements": [sweep.model_dump()]})
        for rate in RATES:
            (sound,) = ENGINE.run([graph_of(moving.model_copy(update={"sample_rate": rate})).sources["a"]])
            part = sound[0, rate // 2 : rate // 2 + rate]
            found = np.abs(np.fft.rfft(part * np.kaiser(rate, 20.0)))
            between = [found[220 * n + 80 : 220 * n + 140].max() for n in range(40, 80)]
            self.assertLess(20 * np.log10(max(between) / found.max()), -60.0, rate)
            jumps = np.abs(np.diff(part))
            self.assertLess(jumps.max(), 2.6)


class OffTest(unittest.TestCase):
    def test_a_wave_that_is_off_is_not_there_heard_or_pushing(self):
        carrier = Tone(id="c", shape="sine")
        pusher = Tone(id="p", shape="sine", into=(Modulation(id="m", wave="c", index=2.0),))
        alone = played(carrier)
        assert_allclose(played(pusher.model_copy(update={"on": False}), carrier), alone, atol=1e-4)
        self.assertGreater(np.abs(played(pusher, carrier) - alone).max(), 0.3)
        assert_allclose(played(carrier, Tone(id="x", on=False)), alone, atol=1e-6)
        self.assertEqual(np.abs(played(carrier.model_copy(update={"on": False}))).max(), 0.0)
        self.assertEqual(np.abs(played(pusher, carrier.model_copy(update={"on": False}))).max(), 0.0)


class WithinTest(unittest.TestCase):
    """The filters of a source are the treatment's own: as if they stood first in the layer's path."""

    NOTES = (Note(start_beats=0.0, length_beats=1.0, pitch=40), Note(start_beats=1.5, length_beats=1.0, pitch=52))

    def source_of(self, *tones, filters=(), path=(), movements=(), **values):
        given = {"tones": tones, "filters": filters, "velocity": 0.0, **values}
        layer = Layer(id="a", source=ToneSource(**given), voice=HELD, path=layer_path(*path))
        stack = plain_stack(layers=(layer,), pattern=self.NOTES)
        return Stack.model_validate({**stack.model_dump(), "movements": [each.model_dump() for each in movements]})

    def sound(self, stack, behind=False):
        graph = graph_of(stack)
        (found,) = ENGINE.run([next(reversed(graph.passed.values())).after if behind else graph.sources["a"]])
        return found[:1]  # both sides are alike

    def snap(self, path):
        return Movement(
            id="m",
            begins="note",
            shape=DrawnCourse(points=(CoursePoint(at=0.0, value=1.0), CoursePoint(at=1.0, value=0.0))),
            length_in="ms",
            length_ms=20.0,
            then="holds",
            targets=(Target(id="t", path=path, travel=3.0),),
        )

    def test_they_are_what_they_would_be_in_the_path(self):
        for each in (
            Filter(id="f", resonance=0.7),
            Filter(id="f", shape="comb", follow=1.0),
            Filter(id="f", shape="vowel", drive_db=9.0),
        ):
            within, before = self.source_of(Tone(), filters=(each,)), self.source_of(Tone(), path=(each,))
            assert_allclose(self.sound(within), self.sound(before, behind=True), atol=1e-6)

    def test_a_single_pass_is_given_the_time_in_which_they_ring(self):
        each = Filter(id="f", shape="comb", cutoff_hz=40.0, resonance=0.95)
        plain, ringing = self.source_of(Tone()), self.source_of(Tone(), filters=(each,))
        clock = clock_of(plain, looped=False)
        longer = tail_seconds(ringing, 48000) - tail_seconds(plain, 48000)
        self.assertAlmostEqual(longer, each.tail_seconds(clock), delta=1e-6)
        self.assertGreater(longer, 0.5)

    def test_movements_and_notes_reach_them(self):
        each = Filter(id="f", shape="high-pass", cutoff_hz=150.0, resonance=0.8)
        within = self.source_of(Tone(), filters=(each,), movements=(self.snap("layers/a/source/filters/f/cutoff_hz"),))
        before = self.source_of(Tone(), path=(each,), movements=(self.snap("layers/a/path/f/cutoff_hz"),))
        still = self.source_of(Tone(), filters=(each,))
        assert_allclose(self.sound(within), self.sound(before, behind=True), atol=1e-6)
        self.assertGreater(np.abs(self.sound(within) - self.sound(still)).max(), 0.05)

    def test_in_a_row_side_by_side_and_past(self):
        low, high = Filter(id="l", cutoff_hz=200.0), Filter(id="h", shape="high-pass", cutoff_hz=900.0)
        saw_, sine = Tone(id="s"), Tone(id="b", shape="sine", octave=-1)
        by_low, by_high = (self.sound(self.source_of(saw_, filters=(each,))) for each in (low, high))
        row = self.sound(self.source_of(saw_, filters=(low, high)))
        beside = self.sound(self.source_of(saw_, filters=(low, high), filters_stand="side by side"))
        assert_allclose(beside, by_low + by_high, atol=1e-5)
        self.assertLess(np.abs(row).max(), 0.3 * np.abs(beside).max())
        past = self.sound(self.source_of(saw_, sine.model_copy(update={"filtered": False}), filters=(low,)))
        assert_allclose(past, by_low + self.sound(self.source_of(sine)), atol=1e-5)
        off = low.model_copy(update={"on": False})
        assert_allclose(self.sound(self.source_of(saw_, filters=(off,))), self.sound(self.source_of(saw_)), atol=1e-6)

    def test_a_percussive_click_is_snapped_open_and_follows_its_cutoff(self):
        # Common practice: a steep resonant high-pass that is thrown open by a fall of 5 to 40 ms clicks. A fall begins
        # within 4 ms: of one of 5 ms little is left.
        tone = Tone(shape="sine", octave=-1)
        each = Filter(id="f", shape="high-pass", slope=24, cutoff_hz=60.0, resonance=0.75)
        for length in (10.0, 20.0, 40.0):
            fall = self.snap("layers/a/source/filters/f/cutoff_hz").model_copy(update={"length_ms": length})
            fall = fall.model_copy(
                update={"targets": (Target(id="t", path="layers/a/source/filters/f/cutoff_hz", travel=5.0),)}
            )
            clicking = self.source_of(tone, filters=(each,), movements=(fall,))
            graph = graph_of(clicking)
            (sound,) = ENGINE.run([graph.sources["a"]])
            cutoff = curve_of(clicking, "layers/a/source/filters/f/cutoff_hz")
            plain = self.sound(self.source_of(tone))
            loudest = third_over(sound[0], plain[0], 48000, cutoff[: round(0.06 * 48000)])
            with self.subTest(length=length):
                self.assertGreater(loudest, 12.0)

    def test_the_ridge_of_a_click_is_where_the_cutoff_is(self):
        path = "layers/a/source/filters/f/cutoff_hz"
        each = Filter(id="f", shape="high-pass", slope=24, cutoff_hz=60.0, resonance=0.75)
        fall = self.snap(path).model_copy(
            update={"length_ms": 40.0, "targets": (Target(id="t", path=path, travel=5.0),)}
        )
        for tone in (Tone(shape="saw"), Tone(shape="noise", slope_db_per_octave=0.0)):
            clicking = self.source_of(tone, filters=(each,), movements=(fall,))
            sound, cutoff, size, seen = self.sound(clicking)[0], curve_of(clicking, path), 288, 0
            hertz = np.fft.rfftfreq(16384, 1 / 48000)
            for at in range(240, 1400, 96):
                here = cutoff[at + size // 2]
                if here < 200.0:  # a window of 6 ms tells no less apart
                    break
                lines = np.abs(np.fft.rfft(sound[at : at + size] * np.hanning(size), 16384))
                found = hertz[np.argmax(np.where(hertz > 100.0, lines, 0.0))]
                self.assertLess(abs(np.log2(found / here)), 1 / 3, (tone.shape, here, found))
                seen += 1
            self.assertGreater(seen, 6)

    def test_a_resonance_at_its_edge_is_bounded_for_as_long_as_it_sounds(self):
        """No sound of a level of 1 comes out louder than the sum of what a single sample rings on."""
        for rate in RATES:
            clock = Clock(tempo_bpm=60.0, beats=60.0, rate_hz=rate, looped=False)
            for shape in ("low-pass", "high-pass", "band-pass", "notch", "comb", "vowel"):
                for hertz in (20.0, 440.0, 18000.0):
                    each = Filter(shape=shape, cutoff_hz=hertz, resonance=1.0, slope=24)
                    struck = np.zeros((1, round(min(58.0, 1.2 * each.tail_seconds(clock) + 0.1) * rate)), np.float32)
                    struck[0, 0] = 1.0
                    rings = np.abs(each.process(struck, clock)[0])
                    self.assertLess(float(rings.sum()), 400.0, (rate, shape, hertz))
                    self.assertLess(float(rings[-rate // 100 :].max()), 1e-4, (rate, shape, hertz))


def curve_of(stack, path):
    """What moves the value at an address, frame by frame."""
    clock = clock_of(stack, looped=True)
    moves = Moves(stack, clock, lambda name: None, lambda layer: layer_notes(stack, layer))
    return ENGINE.run([moves.curve(path)])[0].per_frame()


def third_over(sound, plain, rate, cutoff):
    """By how many decibels a sound is over another in the third-octave that it sweeps through where it does so most."""
    size = cutoff.shape[0]
    clicks, tones = (np.abs(np.fft.rfft(each[:size] * np.hanning(2 * size)[size:])) ** 2 for each in (sound, plain))
    hertz = np.fft.rfftfreq(size, 1.0 / rate)
    over = []
    for middle in np.geomspace(max(200.0, cutoff.min()), cutoff.max(), 12):
        inside = (hertz > middle / 2 ** (1 / 6)) & (hertz < middle * 2 ** (1 / 6))
        over.append(10 * np.log10(clicks[inside].sum() / max(tones[inside].sum(), 1e-20)))
    return max(over)
