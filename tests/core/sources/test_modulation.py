"""Waves that modulate each other, noise, waves of other tunings, envelopes of their own."""

import unittest

import numpy as np
from scipy.special import jv

from apilado.core.document.edits import apply
from apilado.core.document.edits_layers import AddLayer
from apilado.core.document.edits_values import MovePart, RemovePart, SetValue
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement, Target
from apilado.core.dsp.cycles import Cycle, cycle_table
from apilado.core.dsp.envelopes import falling
from apilado.core.dsp.modulation import add_pushed, noise
from apilado.core.dsp.oscillators import BLOCK
from apilado.core.notes import Note, Run
from apilado.core.sources.pushed import Pushed
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Modulation, Tone
from apilado.errors import InvalidEdit
from tests.support import ENGINE, RATES, graph_of, plain_stack

HELD = Voice(envelope=Envelope(attack_ms=1.0, decay_ms=10000.0, sustain=1.0, release_ms=5.0))


def stack_of(*tones, pitch=45, rate=48000, voice=HELD, notes=None, **values):
    layer = Layer(id="a", source=ToneSource(tones=tones, velocity=0.0, **values), voice=voice)
    notes = (Note(length_beats=4.0, pitch=pitch),) if notes is None else notes
    return plain_stack(layers=(layer,), pattern=notes, sample_rate=rate)


def played(*tones, **given):
    (found,) = ENGINE.run([graph_of(stack_of(*tones, **given)).sources["a"]])
    return found


def into(wave, index):
    return (Modulation(id="m", wave=wave, index=index),)


def level_at(sound, hertz, rate, *, first=0.5, seconds=1.0):
    """Amplitude of a sine in a stretch of a sound."""
    part = sound[round(first * rate) : round((first + seconds) * rate)].astype(np.float64)
    window = np.kaiser(part.shape[0], 14.0)
    turned = np.exp(-2j * np.pi * hertz * np.arange(part.shape[0]) / rate)
    return 2.0 * abs(np.sum(part * window * turned)) / window.sum()


def mirrored(sound, carrier_hz, modulator_hz, rate):
    """The loudest line that is no sum or difference of two waves, over the loudest there is, in dB, up to 20 kHz."""
    part = sound[rate // 2 : 3 * rate // 2].astype(np.float64)
    lines = np.abs(np.fft.rfft(part * np.kaiser(rate, 20.0)))
    meant = np.zeros(lines.shape[0], bool)
    for n in range(-120, 121):
        for k in range(round(20000 / carrier_hz) + 2):
            at = round(abs(k * carrier_hz + n * modulator_hz))
            if at < lines.shape[0]:
                meant[max(0, at - 12) : at + 13] = True
    meant[20000:] = True
    return 20.0 * np.log10(max(lines[~meant].max(initial=1e-12), 1e-12) / lines.max())


class PlainTwinTest(unittest.TestCase):
    def test_a_wave_that_does_not_push_itself_needs_not_wait_for_itself(self):
        chance = np.random.default_rng(6)
        frames = 2 * BLOCK + 77
        tables = np.stack([cycle_table(Cycle(shape), 30)[:4097] for shape in ("saw", "square")])
        gain = chance.uniform(0.0, 1.0, frames).astype(np.float32)
        for channels in (1, 2):
            for steps in (np.full(1, 0.0021), np.linspace(0.001, 0.004, frames)):
                for pushes in (np.zeros(1, np.float32), chance.uniform(-4.0, 4.0, frames).astype(np.float32)):
                    for pieces in ([(0, frames, tables[:1])], [(0, 700, tables), (700, frames, tables[::-1].copy())]):
                        sounds = []
                        for feedback in (0.0, 1e-30):  # so little is none, but is taken for some
                            out = np.full((channels, frames), 0.1, np.float32)
                            given = {"steps": steps, "pushes": pushes, "feedback": np.full(1, feedback), "gain": gain}
                            add_pushed(out, pieces, phase=0.3, pan=0.4, **given)
                            sounds.append(out)
                        self.assertGreater(float(np.std(sounds[1])), 0.05)
                        np.testing.assert_allclose(sounds[0], sounds[1], atol=2e-6)


class FrequencyModulationTest(unittest.TestCase):
    def test_side_tones_are_those_of_bessel(self):
        """sin(αt + I·sin βt) = Σ Jₙ(I)·sin((α + nβ)t): J. Chowning, JAES 21/7, 1973."""
        for ratio in (1.0, 2.0, 4.0, 1.41):
            for index in (0.5, 2.0, 6.0):
                modulator = Tone(id="m", shape="sine", tuning="ratio", ratio_to_note=ratio, into=into("c", index))
                sound = played(modulator, Tone(id="c", shape="sine"))[0]
                wanted = {}
                for n in range(-30, 31):
                    hertz = 110.0 * (1.0 + n * ratio)
                    side = round(abs(hertz), 3)
                    wanted[side] = wanted.get(side, 0.0) + np.copysign(jv(n, index), hertz) * (
                        1 if jv(n, index) >= 0 else -1
                    )
                strongest = max(abs(each) for each in wanted.values())
                checked = 0
                for hertz, amplitude in wanted.items():
                    if hertz > 3.0 and abs(amplitude) > 1e-3 * strongest:
                        found = level_at(sound, hertz, 48000)
                        self.assertLess(abs(20.0 * np.log10(found / abs(amplitude))), 0.1, (ratio, index, hertz))
                        checked += 1
                self.assertGreater(checked, 2)

    def test_nothing_mirrors(self):
        for rate in RATES:
            for carrier in ("sine", "saw"):
                for shape in ("sine", "saw"):
                    for ratio, index in ((8, 6.0), (2, 3.0)):
                        modulator = Tone(
                            id="m", shape=shape, tuning="fixed", fixed_hz=197.0 * ratio, into=into("c", index)
                        )
                        sound = played(
                            modulator, Tone(id="c", shape=carrier, tuning="fixed", fixed_hz=197.0), rate=rate
                        )
                        found = mirrored(sound[0], 197.0, 197.0 * ratio, rate)
                        self.assertLess(found, -70.0, (rate, carrier, shape, ratio, index))

    def test_an_index_may_move_and_an_envelope_may_be_its_own(self):
        """The side tones of a modulator that falls in 650 ms go, while the carrier falls in 1500 ms."""
        own = Envelope(attack_ms=0.5, decay_ms=650.0, sustain=0.0, release_ms=50.0)
        whole = Envelope(attack_ms=0.5, decay_ms=1500.0, sustain=0.0, release_ms=50.0)
        modulator = Tone(id="m", shape="sine", tuning="ratio", ratio_to_note=3.0, into=into("c", 1.5), envelope=own)
        sound = played(modulator, Tone(id="c", shape="sine"), voice=Voice(envelope=whole))[0]
        frames = 96000
        index = 1.5 * falling(frames, round(0.650 * 48000))
        for at in (0.1, 0.25, 0.4):
            middle = round(at * 48000)
            ratio = level_at(sound, 440.0, 48000, first=at - 0.05, seconds=0.1) / level_at(
                sound, 110.0, 48000, first=at - 0.05, seconds=0.1
            )
            wanted = jv(1, index[middle]) / jv(0, index[middle])
            self.assertLess(abs(20.0 * np.log10(ratio / wanted)), 1.0, at)

    def test_feedback_at_its_limit_agrees_at_three_rates(self):
        levels = []
        for rate in RATES:
            sound = played(Tone(id="c", shape="sine", feedback=3.0), rate=rate)[0]
            self.assertTrue(np.isfinite(sound).all())
            levels.append([20.0 * np.log10(level_at(sound, 110.0 * n, rate)) for n in (1, 2, 3, 5)])
        self.assertLess(float(np.ptp(np.array(levels), axis=0).max()), 0.5)
        plain = played(Tone(id="c", shape="sine"))[0]
        self.assertLess(level_at(plain, 220.0, 48000), 1e-4)

    def test_without_an_index_a_wave_is_as_it_was(self):
        alone = played(Tone(id="c", shape="saw", copies=3))
        pushed = played(Tone(id="m", shape="sine", into=into("c", 0.0)), Tone(id="c", shape="saw", copies=3))
        # Up to where what is brought down is flat.
        lines = [np.abs(np.fft.rfft(each[0].astype(np.float64)))[:38000] for each in (alone, pushed)]
        self.assertLess(float(np.abs(lines[1] - lines[0]).max()), 2e-4 * float(lines[0].max()))

    def test_what_is_wired_wrong_is_refused(self):
        for tones in (
            (Tone(id="c"), Tone(id="m", into=into("c", 1.0))),
            (Tone(id="m", into=into("m", 1.0)), Tone(id="c")),
            (Tone(id="m", into=into("gone", 1.0)), Tone(id="c")),
        ):
            with self.assertRaisesRegex(ValueError, "a wave modulates waves that come later"):
                ToneSource(tones=tones)
        stack = stack_of(Tone(id="m", into=into("c", 1.0)), Tone(id="c"))
        with self.assertRaisesRegex(InvalidEdit, "come later"):
            apply(stack, MovePart(path="layers/a/source/tones/c", to=0))
        with self.assertRaisesRegex(InvalidEdit, "index of modulation 1 of tone 1 of layer runs from 0 to 12 rad"):
            apply(stack, SetValue(path="layers/a/source/tones/m/into/m/index", value=13.0))
        # Where what it modulated goes, it is heard.
        left = apply(stack, RemovePart(path="layers/a/source/tones/c"))
        self.assertEqual(left.layers[0].source.heard()[0].id, "m")

    def test_a_copy_is_wired_as_what_it_was_copied_from(self):
        stack = stack_of(Tone(id="m", into=into("c", 2.0)), Tone(id="c", shape="sine"))
        two = apply(stack, AddLayer(copy_of="a"))
        first, second = two.layers
        self.assertNotEqual(first.source.tones[1].id, second.source.tones[1].id)
        self.assertEqual(second.source.tones[0].into[0].wave, second.source.tones[1].id)
        graph = graph_of(two)
        one, other = ENGINE.run([graph.sources[first.id], graph.sources[second.id]])
        np.testing.assert_array_equal(one, other)

    def test_what_hangs_on_ids_is_told_apart(self):
        """Two sources whose waves differ in nothing but which of them is modulated."""
        keys = set()
        for target in ("x", "y"):
            other = {"x": "y", "y": "x"}[target]
            tones = (Tone(id="m", into=into("x", 2.0)), Tone(id=target, shape="saw"), Tone(id=other, shape="sine"))
            keys.add(graph_of(stack_of(*tones)).sources["a"].key)
        self.assertEqual(len(keys), 2)

    def test_what_it_says_of_phase_and_pitch(self):
        fm = ToneSource(tones=(Tone(id="m", tuning="ratio", ratio_to_note=1.41, into=into("c", 2.0)), Tone(id="c")))
        self.assertTrue(any("other pitches" in each for each in fm.drifts()))
        whole = ToneSource(tones=(Tone(id="m", tuning="ratio", ratio_to_note=3.0, into=into("c", 2.0)), Tone(id="c")))
        self.assertEqual(whole.drifts(), ())
        half = ToneSource(tones=(Tone(id="m", tuning="ratio", ratio_to_note=0.5, into=into("c", 2.0)), Tone(id="c")))
        self.assertEqual(half.lowest_ratio(), 0.5)
        self.assertIn("modulated by tone 1, index 2", half.words_of(half.tones[1]))
        self.assertIn("into tone 2", half.words_of(half.tones[0]))

    def test_a_source_that_is_turned_sounds_earlier(self):
        source = ToneSource(
            tones=(
                Tone(id="m", shape="sine", tuning="ratio", ratio_to_note=2.0, into=into("c", 2.0)),
                Tone(id="c", shape="sine"),
            ),
            velocity=0.0,
        )
        stack = stack_of(*source.tones)
        turned = stack
        for name, value in source.turned(0.25).items():
            turned = apply(turned, SetValue(path=f"layers/a/source/{name}", value=value))
        was, now = (ENGINE.run([graph_of(each).sources["a"]])[0][0] for each in (stack, turned))
        ahead = round(0.25 * 48000 / 110.0)
        middle = slice(20000, 60000)
        apart = np.abs(now[middle] - was[20000 + ahead : 60000 + ahead]).max()
        self.assertLess(float(apart), 0.02)  # a quarter of a cycle is no whole number of frames

    def test_an_index_at_rest_is_the_number_and_a_width_that_moves_is_played(self):
        tones = (Tone(id="m", shape="pulse", into=into("c", 2.0)), Tone(id="c", shape="pulse"))
        stack = stack_of(*tones)
        (plain,) = ENGINE.run([graph_of(stack).sources["a"]])
        for path, travel in (("m/into/m/index", 0.0), ("m/into/m/index", 1.5), ("c/pulse_width", 0.3)):
            target = Target(id="t", path=f"layers/a/source/tones/{path}", travel=travel)
            moved = stack.model_copy(update={"movements": (Movement(id="m", targets=(target,)),)})
            (found,) = ENGINE.run([graph_of(moved).sources["a"]])
            self.assertTrue(np.isfinite(found).all(), path)
            if travel == 0.0:
                np.testing.assert_allclose(found, plain, atol=1e-4)
            elif path.endswith("index"):
                self.assertGreater(float(np.abs(found - plain).max()), 0.1)


class FactorTest(unittest.TestCase):
    """At how many times the rate waves that push each other are run."""

    def factor(self, *tones, hertz=110.0):
        run = Run(start=0, gate_frames=480, cut_frames=None, pitches=((0, 45),), velocity=100, start_beats=0.0)
        gains = {tone.id: np.ones(480, np.float32) for tone in tones}
        return Pushed(tones, frozenset(gains), run, 48000, hertz, gains, (1, 0), {}).factor

    def test_sines_that_stay_near_twice_what_is_smooth_four_and_what_jumps_eight_times(self):
        carrier, pusher = Tone(id="c", shape="sine"), Tone(id="p", shape="sine", into=into("c", 2.0))
        self.assertEqual(self.factor(pusher, carrier), 2)
        self.assertEqual(self.factor(pusher, carrier, hertz=5000.0), 4)
        self.assertEqual(self.factor(pusher, carrier.model_copy(update={"feedback": 1.0})), 4)
        self.assertEqual(self.factor(pusher, carrier.model_copy(update={"shape": "saw"})), 4)
        self.assertEqual(self.factor(pusher.model_copy(update={"shape": "saw"}), carrier), 8)
        self.assertEqual(self.factor(pusher.model_copy(update={"sync": 1.5}), carrier), 8)


class NoiseTest(unittest.TestCase):
    def test_it_has_no_phase_that_could_be_pushed(self):
        alone = played(Tone(id="n", shape="noise"))
        fed = played(Tone(id="n", shape="noise", feedback=2.0))
        np.testing.assert_array_equal(fed, alone)
        push = Tone(id="m", shape="sine", into=into("n", 3.0))
        pushed, plain = (
            played(*tones)
            for tones in (
                (push, Tone(id="n", shape="noise")),
                (Tone(shape="sine", level_db=-60.0), Tone(id="n", shape="noise")),
            )
        )
        self.assertLess(float(np.abs(pushed - plain).max()), 2e-3)

    def test_slopes(self):
        """−3.01 dB per octave of pink, −6.02 of brown noise: the power of 1/f and 1/f² (definition)."""
        for slope in (0.0, -3.01, -6.0):
            sound = noise(1 << 19, slope, 48000, np.random.default_rng(3), channels=1, spread=0.0)[0]
            power = np.abs(np.fft.rfft(sound.astype(np.float64))) ** 2
            hertz = np.fft.rfftfreq(1 << 19, 1.0 / 48000)
            octaves = [np.mean(power[(hertz >= f) & (hertz < 2.0 * f)]) for f in 62.5 * 2.0 ** np.arange(8)]
            found = np.polyfit(np.arange(8), 10.0 * np.log10(octaves), 1)[0]
            self.assertAlmostEqual(found, slope, delta=0.1)

    def test_its_density_is_the_same_at_all_rates_and_its_sides_apart(self):
        densities = []
        for rate in RATES:
            sound = noise(4 * rate, -3.0, rate, np.random.default_rng(5), channels=1, spread=0.0)[0]
            power = np.abs(np.fft.rfft(sound.astype(np.float64))) ** 2
            densities.append(10.0 * np.log10(np.mean(power[4 * 500 : 4 * 4000]) / rate**2))
        self.assertLess(float(np.ptp(densities)), 0.2)
        wide = played(Tone(id="n", shape="noise", spread=1.0))
        self.assertLess(abs(float(np.corrcoef(wide)[0, 1])), 0.1)
        self.assertEqual(played(Tone(id="n", shape="noise")).shape[0], 1)

    def test_a_stretch_of_a_note_and_a_second_render_have_the_same_noise(self):
        first, second = (played(Tone(id="n", shape="noise")) for _ in range(2))
        np.testing.assert_array_equal(first, second)
        other = played(Tone(id="n", shape="noise"), notes=(Note(start_beats=1.0, length_beats=3.0, pitch=45),))
        self.assertGreater(float(np.abs(other[0, 24000:48000] - first[0, :24000]).max()), 0.1)

    def test_as_a_modulator_it_roughens(self):
        tones = (Tone(id="n", shape="noise", slope_db_per_octave=0.0, into=into("c", 1.0)), Tone(id="c", shape="sine"))
        rough = played(*tones)[0]
        lines = np.abs(np.fft.rfft(rough[24000:72000].astype(np.float64)))
        self.assertGreater(float(np.mean(lines[3000:10000])), 1.0)


class TuningTest(unittest.TestCase):
    def test_ratio_and_fixed(self):
        for pitch in (33, 45):
            note = 55.0 * 2.0 ** ((pitch - 33) / 12.0)
            by_ratio = played(Tone(id="c", shape="sine", tuning="ratio", ratio_to_note=1.41), pitch=pitch)[0]
            self.assertAlmostEqual(level_at(by_ratio, 1.41 * note, 48000), 1.0, delta=0.01)
            fixed = played(Tone(id="c", shape="sine", tuning="fixed", fixed_hz=333.0), pitch=pitch)[0]
            self.assertAlmostEqual(level_at(fixed, 333.0, 48000), 1.0, delta=0.01)

    def test_an_envelope_of_its_own_ends_with_the_voice(self):
        short = Envelope(attack_ms=0.5, decay_ms=200.0, sustain=0.0, release_ms=20.0)
        sound = played(
            Tone(id="a", shape="sine"), Tone(id="b", shape="sine", tuning="fixed", fixed_hz=1000.0, envelope=short)
        )
        self.assertGreater(level_at(sound[0], 1000.0, 48000, first=0.0, seconds=0.05), 0.2)
        self.assertLess(level_at(sound[0], 1000.0, 48000, first=0.5, seconds=0.5), 1e-3)
        self.assertAlmostEqual(level_at(sound[0], 110.0, 48000), 1.0, delta=0.01)
