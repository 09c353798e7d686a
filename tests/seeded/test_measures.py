"""What is told as fact, against reckonings of its own (`independent.py`), on seeded stacks at odd tempi and all rates."""

import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.edits_carving import AddPoint
from apilado.core.measure.loudness import true_peak
from apilado.core.soundings.asked import note_spans, spacing_hz, widest_ratio
from apilado.core.soundings.balance import allowed_rise, mud_excess
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from tests.seeded import independent
from tests.seeded.stacks import seeded_stack, seeds
from tests.support import ENGINE

FLOOR_DB = -70.0
"""What lies further down is told to be down there, not how far."""


class SeededMeasuresTest(unittest.TestCase):
    def told(self, seed, ringing=None):
        stack, load = seeded_stack(seed)
        if ringing is not None:
            bell = {"kind": "bell", "frequency_hz": ringing, "gain_db": 20.0, "q": 9.0}
            stack = apply(stack, AddPoint(to="bus", point=bell))
            highest = max(stack.layers, key=lambda layer: layer.span.last)
            stack = apply(stack, AddPoint(to=f"layers/{highest.id}", point=bell))
        measures = measure(stack, load, ENGINE)
        found = {}
        for sounding in sound(measures):
            found.setdefault(sounding.id, sounding)
        return measures, found

    def near(self, told, reckoned, delta, said):
        self.assertLess(abs(max(told, FLOOR_DB) - max(reckoned, FLOOR_DB)), delta, (*said, told, reckoned))

    def test_low_end_and_balance(self):
        checked = dict.fromkeys(("sub-ends", "sub-mono", "small-speaker", "mud"), 0)
        for seed in seeds(9):
            measures, found = self.told(seed)
            if not measures.sounding:
                continue
            bass, rate = measures.bass_audio, measures.clock.rate_hz
            border = measures.stack.bus.mono_below_hz or 120.0
            reckonings = {
                "sub-ends": lambda bass=bass, rate=rate: independent.below_30(bass, rate),
                "sub-mono": lambda bass=bass, rate=rate, border=border: independent.side_over_mid(bass, rate, border),
                "small-speaker": lambda bass=bass, rate=rate: independent.phone_loss(bass, rate),
            }
            for name, reckon in reckonings.items():
                if name in found:
                    reckoned = reckon()
                    if isinstance(reckoned, tuple):
                        reckoned = float(np.clip(found[name].value, *reckoned))
                    self.near(found[name].value, reckoned, 0.5, (seed, name))
                    checked[name] += 1
            rise = mud_excess(measures)[0] + allowed_rise(measures)
            self.near(rise, independent.mud(bass, rate), 0.5, (seed, "mud"))
            checked["mud"] += 1
        self.assertGreater(min(checked.values()), 5, checked)

    def test_crowding_and_harshness(self):
        crowds = harsh = 0
        for seed in seeds(9, first=500):
            measures, found = self.told(seed, ringing=1700.0 * 1.09 ** (seed % 20))
            rate = measures.clock.rate_hz
            stems = [ENGINE.run([measures.graph.layers[name]])[0] for name in measures.stems]
            if "crowding" in found and measures.sounding:
                levels = independent.octave_levels(stems, rate)
                if independent.crowd_margin(levels) > 0.3:
                    self.assertEqual(found["crowding"].value, independent.crowd(levels), seed)
                    crowds += 1
            told = found.get("harsh")
            if told is None or told.value == 0.0:
                continue
            (name,) = told.show.layers
            layer = measures.stack.layer(name)
            expected = tuple(span.expected_hz for span in note_spans(measures.stack, layer, measures.clock))
            spacing = spacing_hz(measures.notes[name], widest_ratio(measures.stack, layer), expected)
            at, excess = independent.excesses(stems[list(measures.stems).index(name)], rate, spacing)
            peak = (told.show.low_hz * told.show.high_hz) ** 0.5
            near = np.abs(np.log2(at / peak)) < 1.0 / 20.0
            self.assertLess(np.min(np.abs(excess[near] - told.value)), 0.7, (seed, told.sentence))
            harsh += 1
        self.assertGreater(crowds, 3)
        self.assertGreater(harsh, 2)

    def test_kick_against_bass(self):
        clashes = phases = 0
        for seed in seeds(11, first=600):
            measures, found = self.told(seed)
            rate = measures.clock.rate_hz
            if "kick-clash" in found:
                stems = [ENGINE.run([measures.graph.layers[name]])[0] for name in measures.stems]
                share = independent.clash(measures.kick_audio, stems, rate, measures.grids["kick"].shape[1])
                # The share of a moment that lies between two columns falls to either: the more, the larger the share.
                apart = abs(found["kick-clash"].value - share)
                self.assertLess(apart, 3.0 + 0.1 * share, (seed, found["kick-clash"].value, share))
                clashes += 1
            if "kick-phase" in found and found["kick-phase"].value is not None:
                hits = [measures.clock.sample_at(hit) for hit in measures.stack.kick.hits if hit < measures.clock.beats]
                sub = ENGINE.run([measures.graph.layers[measures.sub.id]])[0]
                gain = independent.turned_gain(measures.kick_audio, sub, hits, rate)
                self.near(found["kick-phase"].value, gain, 0.3, (seed, "kick-phase"))
                phases += 1
        self.assertGreater(clashes, 6)
        self.assertGreater(phases, 1)

    def test_octave_and_fullness(self):
        octaves = thirds = 0
        for seed in seeds(12, first=700):
            measures, found = self.told(seed)
            rate, bass = measures.clock.rate_hz, measures.bass_audio
            heard = (
                max((note.level_db for note in measures.notes[measures.sub.id]), default=-150.0)
                if measures.sub
                else -150.0
            )
            # Of what is nearly silent (gated, or crushed to nothing) the lines are rounding.
            if heard > -70.0 and "sub-octave" in found and found["sub-octave"].value is not None:
                # Two semitones at 20 Hz hold few lines of so short a loop: one at the edge is in or out.
                lines = independent.Lines(bass, rate)
                self.near(found["sub-octave"].value, _octave_below(measures.stack, lines), 1.0, (seed, "sub-octave"))
                octaves += 1
            if "sub-full" in found:
                note = max((n for n in measures.notes[measures.sub.id] if n.frequency_hz), key=lambda n: n.level_db)
                start = measures.clock.sample_at(note.start_beats) + round(0.06 * rate)
                placed = ENGINE.run([measures.graph.placed[measures.sub.id]])[0]
                where = np.arange(start, start + round(0.15 * rate)) % placed.shape[1]
                # What is told is a share of a steady cycle: where the note is not steady there is no such thing.
                parts = [placed[:, half].mean(axis=0) for half in np.split(where[: len(where) // 2 * 2], 2)]
                shares = [_third(independent.fitted(part, note.frequency_hz, rate, 12)) for part in parts]
                if abs(shares[0] - shares[1]) < 2.0:
                    self.assertLess(abs(found["sub-full"].value - np.mean(shares)), 2.0, (seed, shares))
                    thirds += 1
        self.assertGreater(octaves, 6)
        self.assertGreater(thirds, 1)

    def test_true_peak_against_sixteen_times(self):
        from scipy import signal

        for seed in seeds(5, first=800):
            stack, load = seeded_stack(seed)
            measures = measure(stack, load, ENGINE)
            output = ENGINE.run([measures.graph.output])[0]
            # SciPy's resampling by FFT takes its input for a round of a loop, as it is.
            if not measures.sounding:
                continue
            wanted = max(
                np.abs(signal.resample(channel.astype(np.float64), 16 * channel.size)).max() for channel in output
            )
            apart = 20 * np.log10(true_peak(output, looped=True) / wanted)
            self.assertLess(apart, 0.2, seed)
            self.assertGreater(apart, -0.4, seed)
            self.assertAlmostEqual(measures.output_loudness.true_peak_dbtp, 20 * np.log10(wanted), delta=0.4)

    def test_border_gains_are_what_a_window_over_rounds_says(self):
        for seed in seeds(6, first=900):
            measures, _ = self.told(seed)
            rate = measures.clock.rate_hz
            for index, border in measures.borders:
                if not border.meets:
                    continue
                hertz = measures.stack.crossovers[index].frequency_hz
                lower, upper = (ENGINE.run([measures.graph.layers[n]])[0] for n in (border.lower, border.upper))
                powers = [
                    independent.Lines(x.mean(axis=0, keepdims=True), rate).between(hertz / 2**0.5, hertz * 2**0.5)
                    for x in (lower + upper, lower, upper)
                ]
                gain = independent.db(powers[0] / (powers[1] + powers[2]))
                self.near(border.coherence_gain_db, gain, 0.4, (seed, index))


def _octave_below(stack, lines):
    """Energy an octave under the notes against that at the notes, each a semitone to either side."""
    semitone = 2.0 ** (1 / 12)
    pitches = {note.pitch for note in stack.pattern if note.start_beats < stack.beats}
    hertz = {pitch: 440.0 * 2 ** ((pitch - 69) / 12) for pitch in pitches}
    while min(hertz.values()) > 90.0:
        hertz = {pitch: f / 2 for pitch, f in hertz.items()}
    there = sum(lines.between(f / semitone, f * semitone) for f in hertz.values())
    below = sum(lines.between(f / 2 / semitone, f / 2 * semitone) for p, f in hertz.items() if p - 12 not in pitches)
    return independent.db(max(below, 1e-15) / max(there, 1e-15))


def _third(amplitudes):
    """The third harmonic against the first in per cent, positive where it is in opposition to the peak."""
    # A·sin with phase 0 has the complex amplitude -jA: turned so that the first is one.
    turn = -1j / (amplitudes[0] / abs(amplitudes[0]))
    return float(-100.0 * (amplitudes[2] * turn**3).imag / abs(amplitudes[0]))


if __name__ == "__main__":
    unittest.main()
